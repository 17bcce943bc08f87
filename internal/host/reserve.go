package host

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// ReserveSpace keeps some space of a disk in a file, for what must be possible when it is full. Where there is no room for it, it is
// made another time.
func ReserveSpace(name string, bytes int64) {
	if info, err := os.Stat(name); err == nil && info.Size() == bytes {
		return
	}
	for ; bytes >= 16<<10; bytes /= 2 { // less is better than nothing
		f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE, 0o600)
		if err != nil {
			return
		}
		err = unix.Fallocate(int(f.Fd()), 0, 0, bytes)
		if err = errors.Join(err, f.Close()); err == nil {
			return
		}
		_ = os.Remove(name)
	}
}

// FreeSpace gives that space back. It tells whether there was any.
func FreeSpace(name string) bool { return os.Remove(name) == nil }
