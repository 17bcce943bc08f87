package host

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"syscall"
)

func SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return DiskError(err)
	}
	return DiskError(errors.Join(d.Sync(), d.Close()))
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
