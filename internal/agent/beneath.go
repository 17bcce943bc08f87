package agent

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"

	"golang.org/x/sys/unix"

	"lanternfield/internal/host"
)

// beneath is a handle of a member's own folder. What is in there may belong to the member's user, who can put a link, a pipe or
// another folder in the place of anything at any moment. So every path below is opened from the handle, following no link on the way,
// and only regular files are read or replaced.
type beneath struct {
	fd    int
	name  string // for messages
	owner owner  // of what is written
}

// owner is whom files belong to.
type owner struct{ uid, gid int }

// notFollowed is how everything below a member's folder is opened.
const notFollowed = unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_MAGICLINKS

// mostFile is how large a file may be that is read for comparing.
const mostFile = 16 << 20

// openBeneath opens a member's folder. What leads to it belongs to the agent.
func openBeneath(name string, o owner) (*beneath, error) {
	fd, err := unix.Open(name, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	return &beneath{fd, name, o}, nil
}

func (b *beneath) close() { unix.Close(b.fd) }

func (b *beneath) open(name string, flags uint64, mode fs.FileMode) (*os.File, error) {
	if flags&unix.O_PATH == 0 {
		flags |= unix.O_NONBLOCK // what stands there may be a pipe
	}
	fd, err := unix.Openat2(b.fd, name, &unix.OpenHow{Flags: flags | unix.O_CLOEXEC | unix.O_NOFOLLOW, Mode: uint64(mode.Perm()), Resolve: notFollowed})
	if err != nil {
		return nil, b.wrong("open", name, err)
	}
	return os.NewFile(uintptr(fd), path.Join(b.name, name)), nil
}

func (b *beneath) wrong(what, name string, err error) error {
	full := path.Join(b.name, name)
	if errors.Is(err, unix.ELOOP) || errors.Is(err, unix.EXDEV) {
		return fmt.Errorf("%s leads through a link, which is never followed; take the link away (%w)", full, err)
	}
	return &fs.PathError{Op: what, Path: full, Err: err}
}

// read gives a regular file's content and its mode.
func (b *beneath) read(name string) ([]byte, fs.FileMode, error) {
	f, err := b.open(name, unix.O_RDONLY, 0)
	if err != nil {
		return nil, 0, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, 0, err
	}
	if !info.Mode().IsRegular() {
		return nil, 0, fmt.Errorf("%s is no regular file", f.Name())
	}
	data, err := io.ReadAll(io.LimitReader(f, mostFile+1))
	if err == nil && len(data) > mostFile {
		err = fmt.Errorf("%s is larger than %d MiB", f.Name(), mostFile>>20)
	}
	return data, info.Mode().Perm(), err
}

// parent opens the folder that a file is in, making what is missing.
func (b *beneath) parent(name string) (*beneath, string, error) {
	dir, last := path.Split(path.Clean(name))
	at := &beneath{-1, b.name, b.owner}
	var err error
	if at.fd, err = unix.FcntlInt(uintptr(b.fd), unix.F_DUPFD_CLOEXEC, 3); err != nil {
		return nil, "", err
	}
	inData := false
	for i, part := range strings.FieldsFunc(dir, func(r rune) bool { return r == '/' }) {
		inData = inData || i == 0 && part == dataFolder
		made := unix.Mkdirat(at.fd, part, 0o755) == nil
		f, err := at.open(part, unix.O_RDONLY|unix.O_DIRECTORY, 0)
		if err != nil {
			at.close()
			return nil, "", err
		}
		var own error
		if made { // of the configuration's folders, only what the member may read; in its data, all is its own
			mode := fs.FileMode(0o755)
			own = f.Chmod(mode)
			if inData {
				own = errors.Join(own, f.Chown(b.owner.uid, b.owner.gid))
			}
		} else if !inData {
			own = b.takeFolder(f)
		}
		fd, err := unix.FcntlInt(f.Fd(), unix.F_DUPFD_CLOEXEC, 3)
		f.Close()
		at.close()
		if err = errors.Join(err, own); err != nil {
			return nil, "", err
		}
		at.fd, at.name = fd, path.Join(at.name, part)
	}
	return at, last, nil
}

// takeFolder takes a folder of configuration back that an older version gave to the member's user.
func (b *beneath) takeFolder(f *os.File) error {
	if os.Geteuid() != 0 || b.owner.uid == 0 {
		return nil
	}
	var st unix.Stat_t
	if err := unix.Fstat(int(f.Fd()), &st); err != nil || st.Uid == 0 {
		return err
	}
	return errors.Join(f.Chown(0, b.owner.gid), f.Chmod(0o750))
}

// write replaces a file whole. The new one is the member's, with exactly that mode.
func (b *beneath) write(name string, content []byte, mode fs.FileMode) error {
	at, last, err := b.parent(name)
	if err != nil {
		return host.DiskError(err)
	}
	defer at.close()
	tmp := "." + last + ".new"
	for range 2 {
		var f *os.File
		f, err = at.open(tmp, unix.O_WRONLY|unix.O_CREAT|unix.O_EXCL, 0o600)
		if errors.Is(err, unix.EEXIST) { // of an agent that died there, or put there by the member
			_ = unix.Unlinkat(at.fd, tmp, 0)
			continue
		}
		if err != nil {
			return host.DiskError(err)
		}
		_, err = f.Write(content)
		if os.Geteuid() == 0 {
			err = errors.Join(err, f.Chown(b.owner.uid, b.owner.gid))
		}
		err = errors.Join(err, f.Chmod(mode), f.Close())
		if err == nil {
			err = unix.Renameat(at.fd, tmp, at.fd, last)
		}
		if err != nil {
			_ = unix.Unlinkat(at.fd, tmp, 0)
		}
		return host.DiskError(err)
	}
	return host.DiskError(err)
}

// remove removes a file, if it is there.
func (b *beneath) remove(name string) error {
	dir, last := path.Split(path.Clean(name))
	at := b
	if dir != "" {
		f, err := b.open(path.Clean(dir), unix.O_RDONLY|unix.O_DIRECTORY, 0)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		defer f.Close()
		at = &beneath{int(f.Fd()), f.Name(), b.owner}
	}
	if err := unix.Unlinkat(at.fd, last, 0); err != nil && !errors.Is(err, unix.ENOENT) {
		return at.wrong("remove", last, err)
	}
	return nil
}

// there tells whether something has that name, whatever it is.
func (b *beneath) there(name string) bool {
	f, err := b.open(name, unix.O_PATH, 0)
	if err != nil {
		return errors.Is(err, unix.ELOOP)
	}
	f.Close()
	return true
}

const deepest = 200 // folders in folders

// giveAll gives a folder with all that is in it to the member's user. Nothing of the member runs meanwhile. A file with several names
// is left alone: one of them may be somebody else's.
func giveAll(dir *os.File, o owner, depth int) error {
	if depth > deepest {
		return fmt.Errorf("%s is too deep", dir.Name())
	}
	if err := dir.Chown(o.uid, o.gid); err != nil {
		return err
	}
	entries, err := dir.ReadDir(-1)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if e.IsDir() {
			fd, err := unix.Openat(int(dir.Fd()), e.Name(), unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
			if err != nil {
				return &fs.PathError{Op: "open", Path: path.Join(dir.Name(), e.Name()), Err: err}
			}
			sub := os.NewFile(uintptr(fd), path.Join(dir.Name(), e.Name()))
			err = giveAll(sub, o, depth+1)
			sub.Close()
			if err != nil {
				return err
			}
			continue
		}
		var st unix.Stat_t
		if err := unix.Fstatat(int(dir.Fd()), e.Name(), &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			return err
		}
		if st.Mode&unix.S_IFMT == unix.S_IFREG && st.Nlink > 1 {
			continue
		}
		if err := unix.Fchownat(int(dir.Fd()), e.Name(), o.uid, o.gid, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			return err
		}
	}
	return nil
}
