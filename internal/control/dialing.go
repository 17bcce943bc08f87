package control

import (
	"context"
	"errors"
	"net"
	"sync/atomic"
	"syscall"
	"time"
)

// keeperDialer is the way to whoever keeps a field. Once somebody has answered, it is waited for a moment where nobody does: one who keeps the field lets go of it
// for another, who has not opened yet.
type keeperDialer struct {
	folder   Folder
	answered atomic.Bool
}

// How long it is waited for somebody to open: where nobody holds the field, and where somebody does.
const (
	nobodyFor  = 500 * time.Millisecond
	closedFor  = 3 * time.Second
	knockEvery = 20 * time.Millisecond
)

// connect connects to whoever keeps the field. Nothing has been asked yet where that fails, so that it may be tried again.
func (d *keeperDialer) connect(ctx context.Context, _, _ string) (net.Conn, error) {
	for began := time.Now(); ; {
		conn, err := d.knock(ctx)
		if err == nil || !d.answered.Load() || !errors.Is(err, syscall.ENOENT) && !errors.Is(err, syscall.ECONNREFUSED) {
			return conn, err
		}
		holder, _ := d.folder.Holder()
		if waited := time.Since(began); waited > closedFor || holder == nil && waited > nobodyFor {
			return nil, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(knockEvery):
		}
	}
}

func (d *keeperDialer) knock(ctx context.Context) (net.Conn, error) {
	path, done, err := d.folder.socket()
	if err != nil {
		return nil, err
	}
	defer done()
	var dialer net.Dialer
	return dialer.DialContext(ctx, "unix", path)
}
