package agent

import (
	"errors"
	"log/slog"
	"syscall"

	"lanternfield/internal/host"
)

// reserveBytes is what an agent keeps for itself: enough for orders to stop and to go.
const reserveBytes = 64 << 10

// inNeed does something that takes space, and again with the space that is kept for it if the disk is full.
func (l layout) inNeed(do func() error) error {
	err := do()
	if full := errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT); full && host.FreeSpace(l.reserve()) {
		slog.Warn("the disk is full; the space that was kept for stopping is used", "folder", l.dir)
		err = do()
		host.ReserveSpace(l.reserve(), reserveBytes)
	}
	return err
}
