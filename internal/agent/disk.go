package agent

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/render"
)

// layout is an agent's folder. A member's own folder holds what its program sees; what the agent must remember of it is
// kept apart, so that no config file of a program can overwrite it.
type layout struct{ dir string }

func (l layout) endpoint() string { return filepath.Join(l.dir, "agent.json") }
func (l layout) token() string    { return filepath.Join(l.dir, "token") }
func (l layout) lock() string     { return filepath.Join(l.dir, "agent.lock") }
func (l layout) reports() string  { return filepath.Join(l.dir, "reports.ndjson") }
func (l layout) memory() string   { return filepath.Join(l.dir, "memory.json") }
func (l layout) keeps() string    { return filepath.Join(l.dir, "keep") }
func (l layout) operations() string {
	return filepath.Join(l.dir, "operations")
}
func (l layout) operation(m field.MemberName) string {
	return filepath.Join(l.operations(), string(m)+".json")
}
func (l layout) keep(m field.MemberName) string {
	return filepath.Join(l.keeps(), string(m))
}
func (l layout) member(m field.MemberName) string { return render.MemberDir(l.dir, m) }
func (l layout) data(m field.MemberName) string   { return filepath.Join(l.member(m), "data") }
func (l layout) aside(m field.MemberName) string  { return filepath.Join(l.dir, "kept", string(m)) } // the data of one that is gone

// putAside moves a member's data to where it outlives the member, and gives how many bytes that is. It may be repeated.
// False means that there is none.
func (l layout) putAside(m field.MemberName) (bytes int64, kept bool, err error) {
	from, to := l.data(m), l.aside(m)
	if !emptyDir(from) {
		if !emptyDir(to) {
			return 0, false, fmt.Errorf("its data cannot be put aside: there is data of it in %s already. Move one of the two away", to)
		}
		if err := errors.Join(os.MkdirAll(filepath.Dir(to), 0o755), os.RemoveAll(to)); err != nil {
			return 0, false, diskError(err)
		}
		if err := os.Rename(from, to); err != nil {
			return 0, false, diskError(err)
		}
	}
	err = filepath.WalkDir(to, func(_ string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			if info, err := d.Info(); err == nil {
				bytes += info.Size()
			}
		}
		return nil
	})
	return bytes, !emptyDir(to), err
}

// takeBack gives a member the data that was put aside of it.
func (l layout) takeBack(m field.MemberName) error {
	from, to := l.aside(m), l.data(m)
	if _, err := os.Stat(from); err != nil {
		return nil
	}
	if !emptyDir(to) {
		return fmt.Errorf("there is data that was kept of it in %s, and other data in %s. Move one of the two away", from, to)
	}
	if err := errors.Join(os.MkdirAll(l.member(m), 0o755), os.RemoveAll(to)); err != nil {
		return diskError(err)
	}
	return diskError(os.Rename(from, to))
}

// memory is what the agent as a whole must not forget.
type memory struct {
	Agent string `json:"agent"` // identity, made once
	Term  uint64 `json:"term"`  // the highest seen
}

// keptProcess is what must be known of a member's process to find it again. It is written before the fork with PID 0.
type keptProcess struct {
	Incarnation int   `json:"incarnation"`
	Round       int   `json:"round"`
	PID         int   `json:"pid"`
	StartTime   int64 `json:"start_time"` // of the process, in ticks since boot: tells a reused pid apart
	LogFrom     int64 `json:"log_from"`   // where its output begins in the log
	Ended       bool  `json:"ended"`
	Attempt     int   `json:"attempt"`

	Revision uint64 `json:"revision,omitempty"` // of the order that it was started with
	Refused  uint64 `json:"refused,omitempty"`  // the revision whose spec was found unfit: the one before stays in force
}

// writeSafe replaces a file whole, and returns after it is on the disk.
func writeSafe(name string, value any) error { return replace(name, value, true) }

// writeQuick replaces a file whole, without waiting for the disk: enough for what dies with the machine anyway.
func writeQuick(name string, value any) error { return replace(name, value, false) }

func replace(name string, value any, sync bool) error {
	data, err := json.Marshal(value)
	if err != nil {
		return err
	}
	tmp := name + ".new"
	f, err := os.OpenFile(tmp, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return diskError(err)
	}
	_, err = f.Write(data)
	if err == nil && sync {
		err = f.Sync()
	}
	err = errors.Join(err, f.Close())
	if err == nil {
		err = os.Rename(tmp, name)
	}
	if err != nil {
		return diskError(errors.Join(err, removeIfThere(tmp)))
	}
	if !sync {
		return nil
	}
	return syncDir(filepath.Dir(name))
}

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return diskError(err)
	}
	return diskError(errors.Join(d.Sync(), d.Close()))
}

func removeIfThere(name string) error {
	if err := os.Remove(name); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// diskError words the errors of a disk for people.
func diskError(err error) error {
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

func readJSON(name string, into any) error {
	data, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	return json.Unmarshal(data, into)
}

// writeFiles puts a member's config files in place. Those already as wanted, and those that are written once and are there,
// are left alone; it gives those that changed, also where it fails half-way.
func writeFiles(dir string, files []order.File) (changed []replaced, err error) {
	for _, f := range files {
		name := filepath.Join(dir, f.Path)
		was := replaced{File: f}
		if info, err := os.Lstat(name); err == nil {
			old, err := os.ReadFile(name)
			if f.Once || err == nil && string(old) == f.Content && info.Mode().Perm() == fs.FileMode(f.Mode) {
				continue
			}
			was.old, was.mode, was.there = old, info.Mode().Perm(), err == nil
		}
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return changed, diskError(err)
		}
		tmp := name + ".new"
		if err := os.WriteFile(tmp, []byte(f.Content), fs.FileMode(f.Mode)); err != nil {
			return changed, diskError(errors.Join(err, removeIfThere(tmp)))
		}
		if err := errors.Join(os.Chmod(tmp, fs.FileMode(f.Mode)), os.Rename(tmp, name)); err != nil {
			return changed, diskError(err)
		}
		changed = append(changed, was)
	}
	return changed, nil
}

// replaced is a file that was written, with what it replaced.
type replaced struct {
	order.File
	old   []byte
	mode  fs.FileMode
	there bool // there was one before
}

// putBack undoes what writeFiles did to those files.
func putBack(dir string, changed []replaced) error {
	var errs []error
	for _, f := range changed {
		name := filepath.Join(dir, f.Path)
		if !f.there {
			errs = append(errs, removeIfThere(name))
			continue
		}
		tmp := name + ".new"
		errs = append(errs, errors.Join(os.WriteFile(tmp, f.old, f.mode), os.Chmod(tmp, f.mode), os.Rename(tmp, name)))
	}
	return diskError(errors.Join(errs...))
}
