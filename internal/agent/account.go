package agent

import (
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host"
)

// account is whom a member, and everything that is run because of it, runs as.
type account struct {
	owner
	credential *syscall.Credential // nil: as the agent itself
}

// accountOf finds a user with all its groups; the empty name is the agent's own user.
func accountOf(name string) (*account, error) {
	self := &account{owner: owner{os.Geteuid(), os.Getegid()}}
	if name == "" {
		return self, nil
	}
	u, err := user.Lookup(name)
	if err != nil {
		return nil, fmt.Errorf("the user %q is not known on this node", name)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	if uid == os.Geteuid() {
		return self, nil
	}
	if os.Geteuid() != 0 {
		return nil, fmt.Errorf("the program is to run as %s, and this agent is not root, so it cannot change the user", name)
	}
	ids, err := u.GroupIds()
	if err != nil {
		return nil, fmt.Errorf("the groups of the user %q cannot be found: %w", name, err)
	}
	c := &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	for _, id := range ids {
		if n, err := strconv.ParseUint(id, 10, 32); err == nil {
			c.Groups = append(c.Groups, uint32(n))
		}
	}
	return &account{owner{uid, gid}, c}, nil
}

// mayEnter checks that the user can get to a folder of its own.
func (a *account) mayEnter(dir string) error {
	if a.credential == nil {
		return nil
	}
	for at := filepath.Dir(dir); at != "/" && at != "."; at = filepath.Dir(at) {
		info, err := os.Stat(at)
		if os.IsNotExist(err) {
			continue // it is made, to be passed
		}
		if err != nil {
			return err
		}
		st, _ := info.Sys().(*syscall.Stat_t)
		if info.Mode()&0o001 == 0 && (st == nil || int(st.Uid) != a.uid) {
			return fmt.Errorf("the program is to run as user %d, who may not enter %s (%s); name a state folder that others may pass through with --state",
				a.uid, at, info.Mode().Perm())
		}
	}
	return nil
}

// fromOwn are the variables that members, and commands about them, get from the agent's own environment. Nothing else of it reaches
// them: an operator's environment holds tokens.
var fromOwn = []string{"PATH", "LANG", "TZ", "TMPDIR"}

// environment is that of a member, and of every command that is run about it.
func environment(l layout, m field.MemberName, spec *order.Spec) []string {
	env := []string{host.EnvMember + "=" + string(m), host.EnvHome + "=" + l.dir}
	for _, key := range fromOwn {
		if v, ok := os.LookupEnv(key); ok {
			env = append(env, key+"="+v)
		}
	}
	env = append(env, "HOME="+l.data(m))
	for key, value := range spec.Env {
		env = append(env, key+"="+value)
	}
	return env
}

// dataFolder is where a member keeps its data, below its own folder.
const dataFolder = "data"

// prepare makes a member's own folder. It is the agent's, so that nothing in it can be taken away by the member and put elsewhere; its
// user may read what is in it. Its data is its user's.
func (l layout) prepare(m field.MemberName, who *account) error {
	if err := host.MakeFolder(filepath.Dir(l.member(m)), host.Passable); err != nil {
		return host.DiskError(err)
	}
	other := who.credential != nil
	mode := os.FileMode(host.Private)
	if other {
		mode = 0o750
	}
	if err := os.Mkdir(l.member(m), mode); err != nil && !os.IsExist(err) {
		return host.DiskError(err)
	}
	b, err := openBeneath(l.member(m), who.owner)
	if err != nil {
		return host.DiskError(err)
	}
	defer b.close()
	if err := own(b.fd, other, who.gid, mode); err != nil {
		return host.DiskError(err)
	}
	return host.DiskError(b.ownData())
}

// own makes a folder the agent's.
func own(fd int, other bool, gid int, mode os.FileMode) error {
	if os.Geteuid() == 0 {
		if !other {
			gid = 0
		}
		if err := syscall.Fchown(fd, 0, gid); err != nil {
			return err
		}
	}
	return syscall.Fchmod(fd, uint32(mode))
}

// ownData makes the folder of the member's data, and gives it to its user where it belongs to somebody else.
func (b *beneath) ownData() error {
	made := syscall.Mkdirat(b.fd, dataFolder, host.Private) == nil
	f, err := b.open(dataFolder, syscall.O_RDONLY|syscall.O_DIRECTORY, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	if os.Geteuid() != 0 {
		return nil
	}
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if st, ok := info.Sys().(*syscall.Stat_t); ok && int(st.Uid) == b.owner.uid && !made {
		return nil
	}
	return giveAll(f, b.owner, 0)
}
