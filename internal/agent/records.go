package agent

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"lanternfield/internal/core/order"
	"lanternfield/internal/host"
)

// loadRecords reads what an earlier agent of this folder has left.
func (a *Agent) loadRecords() error {
	if err := host.MakeFolder(a.disk.logs(), host.Private); err != nil {
		return host.DiskError(err)
	}
	if err := a.disk.takeOverFolder(); err != nil {
		return host.DiskError(err)
	}
	for _, dir := range []string{a.disk.records(), a.disk.operations()} {
		if err := host.MakeFolder(dir, host.Private); err != nil {
			return host.DiskError(err)
		}
	}
	err := readJSON(a.disk.memory(), &a.memory)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s cannot be read: %w", a.disk.memory(), err)
	}
	if a.memory.Agent == "" {
		if a.memory.Agent, err = randomName(); err != nil {
			return err
		}
	}
	a.id = a.memory.Agent
	return a.begin()
}

// resume takes up the members that are on disk.
func (a *Agent) resume(ctx context.Context) error {
	entries, err := os.ReadDir(a.disk.records())
	if err != nil {
		return err
	}
	for _, e := range entries {
		var o order.Order
		if a.disk.load(filepath.Join(a.disk.records(), e.Name(), orderFile), &o) == nil && o.Member != "" {
			a.hold(ctx, o, true)
		}
	}
	// Who asks shall hear at once what runs: an account without that would be taken for news that nothing has changed.
	patience := time.After(resumeWithin)
	for _, h := range a.members {
		select {
		case <-h.resumed:
		case <-patience:
		case <-ctx.Done():
		}
	}
	a.resumeOperations(ctx)
	return nil
}

// resumeWithin is how long members' processes may take to be found before the agent answers.
const resumeWithin = 7 * time.Second

// hold starts supervising a member; kept says that an agent before had its order already.
func (a *Agent) hold(ctx context.Context, o order.Order, kept bool) {
	h := &held{member: newMember(a.disk, a.runtime, a.reports, o.Member), order: o, done: make(chan struct{})}
	h.member.order = o
	h.member.known = kept
	h.member.floater.guard = a.options.Guard
	a.members[o.Member] = h
	a.wait.Add(1)
	go func() {
		defer a.wait.Done()
		defer close(h.done)
		h.run(ctx)
		if ctx.Err() == nil {
			a.gone(ctx, h)
		}
	}()
}

// sameOrder tells whether two orders of one revision say the same; the term is who says it.
func sameOrder(a, b order.Order) bool {
	a.Term, b.Term = 0, 0
	x, errX := json.Marshal(a)
	y, errY := json.Marshal(b)
	return errX == nil && errY == nil && bytes.Equal(x, y)
}

// orderFile holds the newest order for a member, in what is kept of it.
const orderFile = "order.json"
