package fit

import (
	"fmt"
	"os"
	"os/user"
	"strconv"
	"syscall"

	"lanternfield/internal/host"
)

// Account is whom a member, and everything that is run because of it, runs as.
type Account struct {
	UID, GID   int
	Credential *syscall.Credential // nil: as the agent itself
}

// AccountFor is whom a member runs as: a user that holds only instead of root leaves any other agent's own.
func AccountFor(name string, ifRoot bool) (*Account, error) {
	if ifRoot && os.Geteuid() != 0 {
		name = ""
	}
	return AccountOf(name)
}

// AccountOf finds a user with all its groups; the empty name is the agent's own user.
func AccountOf(name string) (*Account, error) {
	self := &Account{UID: os.Geteuid(), GID: os.Getegid()}
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
	return &Account{UID: uid, GID: gid, Credential: c}, nil
}

// MayEnter checks that the user can get to a folder of its own.
func (a *Account) MayEnter(dir string) error {
	if a.Credential == nil {
		return nil
	}
	at, mode, err := host.Barred(dir, a.UID)
	if err == nil && at != "" {
		err = fmt.Errorf("the program is to run as user %d, who may not enter %s (%s); name a state folder that others may pass through with --state", a.UID, at, mode)
	}
	return err
}
