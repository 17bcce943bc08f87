package host

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

func SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return DiskError(err)
	}
	return DiskError(errors.Join(d.Sync(), d.Close()))
}

// FreeDisk is how many bytes a user may still write on the disk of a folder.
func FreeDisk(dir string) (int64, error) {
	free, _, err := Disk(dir)
	return free, err
}

// Disk gives how many bytes are free for members on the disk that a folder is on, and how many it has.
func Disk(dir string) (free, size int64, err error) {
	var of unix.Statfs_t
	if err := unix.Statfs(dir, &of); err != nil {
		return 0, 0, err
	}
	return int64(of.Bavail) * of.Bsize, int64(of.Blocks-of.Bfree+of.Bavail) * of.Bsize, nil
}

// DiskError words the errors of a disk for people.
func DiskError(err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		return fmt.Errorf("the disk is full (%w); free some space, it is tried again", err)
	case errors.Is(err, syscall.EROFS):
		return fmt.Errorf("the disk is mounted read-only (%w); mount it writable again, it is tried again", err)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("no permission to write (%w)", err)
	}
	return err
}
