// Package keeper keeps a field: the controller, in a process of its own that outlives whoever started it. Screens and commands attach to it
// through the field's socket, several at once. It ends by itself when all is settled and nobody is attached, unless it was started to stay.
package keeper

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"runtime/debug"
	"sync"
	"time"

	"lanternfield/internal/control"
)

// linger is how long a keeper waits for the next command when all is settled and nobody is attached.
const linger = 2 * time.Second

// Options say how a field is kept.
type Options struct {
	Command string    // for people: what started it
	Stay    bool      // also when all is settled
	Ready   io.Writer // hears how far it is: see signal; nil for nobody
	Started func()    // is called when the field is kept; may be nil

	HandedOver func() // is called when another keeps the field from then on; may be nil
}

// Run keeps a field until it is settled and left alone, is asked to hand over, or the context ends.
func Run(ctx context.Context, f control.Folder, o Options) error {
	debug.SetGCPercent(25) // it is there for months, beside what matters: what it has in memory counts for more than the time that it takes
	report := newSignal(o.Ready)
	if o.Ready != nil {
		f.Progress = report.progress
	}
	f.Wake = func(ctx context.Context, other control.Folder) error {
		return Start(ctx, other, "lanternfield keep, for "+f.Name()+", which is linked with it")
	}
	c, err := control.Hold(ctx, f, o.Command)
	if err != nil {
		report.failed(err)
		return err
	}
	if o.Stay {
		c.Stay()
	}
	report.ready()
	if o.Started != nil {
		o.Started()
	}
	if sealed := c.Sealed(); sealed != nil {
		slog.Warn("the field is only watched", "why", sealed)
	}
	slog.Info("keeps the field", "folder", f.Dir, "for", o.Command, "version", control.Release.Version)
	for {
		changed := c.Changed()
		if c.Adrift() {
			slog.Warn("the field's folder was moved or removed; the keeper ends")
			return c.Close()
		}
		wait := time.Hour
		if since, alone, visited := c.Alone(); alone && !o.Stay && c.Settled() {
			if wait = linger - time.Since(since); visited && c.Gone() {
				wait = 0
			}
			if wait <= 0 {
				err := c.CloseAlone()
				if errors.Is(err, control.ErrNotAlone) {
					continue
				}
				slog.Info("all is settled and nobody is attached: the keeper ends", "error", err)
				return err
			}
		}
		select {
		case <-ctx.Done():
			slog.Info("the keeper is asked to end")
			return c.Close()
		case <-c.HandedOver():
			slog.Info("the keeper hands the field over")
			if o.HandedOver != nil {
				o.HandedOver()
			}
			return c.Close()
		case id := <-c.Unsealed():
			slog.Info("the keyring is opened; the keeper begins anew")
			if c, err = c.Anew(id); err != nil {
				return err
			}
		case <-c.Done():
			err := c.Close()
			return errors.Join(errors.New("the field was given up"), err)
		case <-changed:
		case <-time.After(min(wait, time.Second)):
		}
	}
}

// logMost is how long a keeper's log may get; the one before it is kept beside it.
const logMost = 1 << 20

// LogFile is where a keeper writes what it does, for people.
func LogFile(f control.Folder) string { return filepath.Join(f.Own(), "keeper.log") }

// Log writes to the keeper's log, which stays bounded.
type Log struct {
	mu   sync.Mutex
	name string
	file *os.File
	size int64
}

// OpenLog opens the keeper's log of a field.
func OpenLog(f control.Folder) (*Log, error) {
	l := &Log{name: LogFile(f)}
	return l, l.open()
}

func (l *Log) open() error {
	file, err := os.OpenFile(l.name, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return fmt.Errorf("the keeper's log %s cannot be written: %w", l.name, err)
	}
	info, err := file.Stat()
	if err != nil {
		return errors.Join(err, file.Close())
	}
	l.file, l.size = file, info.Size()
	return nil
}

// Write appends, and begins a new file where the old one is full.
func (l *Log) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.size > logMost {
		l.file.Close()
		if err := os.Rename(l.name, l.name+".1"); err != nil {
			return 0, err
		}
		if err := l.open(); err != nil {
			return 0, err
		}
	}
	n, err := l.file.Write(p)
	l.size += int64(n)
	return n, err
}
