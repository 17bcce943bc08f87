package agent

import (
	"errors"
	"log/slog"
	"os"
	"syscall"

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

// reserveBytes is what an agent keeps for itself: enough for orders to stop and to go.
const reserveBytes = 64 << 10

// inNeed does something that takes space, and again with the space that is kept for it if the disk is full.
func (l layout) inNeed(do func() error) error {
	err := do()
	if full := errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT); full && FreeSpace(l.reserve()) {
		slog.Warn("the disk is full; the space that was kept for stopping is used", "folder", l.dir)
		err = do()
		ReserveSpace(l.reserve(), reserveBytes)
	}
	return err
}
