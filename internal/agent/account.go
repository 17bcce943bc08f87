package agent

import (
	"os"
	"path/filepath"
	"syscall"

	"lanternfield/internal/core/field"
	"lanternfield/internal/host"
	"lanternfield/internal/host/fit"
)

// dataFolder is where a member keeps its data, below its own folder.
const dataFolder = "data"

// prepare makes a member's own folder. It is the agent's, so that nothing in it can be taken away by the member and put elsewhere; its
// user may read what is in it. Its data is its user's.
func (l layout) prepare(m field.MemberName, who *fit.Account) error {
	if err := host.MakeFolder(filepath.Dir(l.member(m)), host.Passable); err != nil {
		return host.DiskError(err)
	}
	other := who.Credential != nil
	mode := os.FileMode(host.Private)
	if other {
		mode = 0o750
	}
	if err := os.Mkdir(l.member(m), mode); err != nil && !os.IsExist(err) {
		return host.DiskError(err)
	}
	b, err := openBeneath(l.member(m), owner{who.UID, who.GID})
	if err != nil {
		return host.DiskError(err)
	}
	defer b.close()
	if err := own(b.fd, other, who.GID, mode); err != nil {
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
