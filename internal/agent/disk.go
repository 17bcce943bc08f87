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
	"lanternfield/internal/identity"
)

// layout is a node's folder. What the agent itself writes is in a folder that nobody else may enter. The way down to a member's own
// folder may be passed by others, since programs run as users of their own, and holds nothing but folders.
type layout struct {
	dir    string
	sealer *identity.Sealer // nil: what is kept is not sealed
}

func (l layout) own() string      { return OwnFolder(l.dir) }
func (l layout) endpoint() string { return EndpointFile(l.dir) }
func (l layout) lock() string     { return filepath.Join(l.own(), "agent.lock") }
func (l layout) reports() string  { return filepath.Join(l.own(), "reports.ndjson") }
func (l layout) memory() string   { return filepath.Join(l.own(), "memory.json") }
func (l layout) keeps() string    { return filepath.Join(l.own(), "keep") }
func (l layout) logs() string     { return filepath.Join(l.own(), "logs") }
func (l layout) log(m field.MemberName) string {
	return LogFile(l.dir, m)
}
func (l layout) reserve() string { return filepath.Join(l.own(), "reserve") }
func (l layout) operations() string {
	return filepath.Join(l.own(), "operations")
}
func (l layout) operation(m field.MemberName) string {
	return filepath.Join(l.operations(), string(m)+".json")
}
func (l layout) keep(m field.MemberName) string {
	return filepath.Join(l.keeps(), string(m))
}
func (l layout) member(m field.MemberName) string { return render.MemberDir(l.dir, m) }
func (l layout) data(m field.MemberName) string   { return filepath.Join(l.member(m), dataFolder) }
func (l layout) aside(m field.MemberName) string  { return filepath.Join(l.dir, "kept", string(m)) } // the data of one that is gone

// putAside moves a member's data to where it outlives the member, and gives how many bytes that is. It may be repeated.
// False means that there is none.
func (l layout) putAside(m field.MemberName) (bytes int64, kept bool, err error) {
	from, to := l.data(m), l.aside(m)
	if !emptyDir(from) {
		if !emptyDir(to) {
			return 0, false, fmt.Errorf("its data cannot be put aside: there is data of it in %s already. Move one of the two away", to)
		}
		if err := errors.Join(makeFolder(filepath.Dir(to), private), os.RemoveAll(to)); err != nil {
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
	if err := errors.Join(makeFolder(filepath.Dir(l.member(m)), passable), os.MkdirAll(l.member(m), private), os.RemoveAll(to)); err != nil {
		return diskError(err)
	}
	return diskError(os.Rename(from, to))
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

	Group   string `json:"group,omitempty"` // its control group; empty where it has none
	GroupV2 bool   `json:"group_v2,omitempty"`

	Revision uint64 `json:"revision,omitempty"` // of the order that it was started with
	Refused  uint64 `json:"refused,omitempty"`  // the revision whose spec was found unfit: the one before stays in force
}

// writeSafe replaces a file whole, and returns after it is on the disk.
func writeSafe(name string, value any) error { return write(name, value, true) }

// writeQuick replaces a file whole, without waiting for the disk: enough for what dies with the machine anyway.
func writeQuick(name string, value any) error { return write(name, value, false) }

func write(name string, value any, sync bool) error {
	data, err := json.Marshal(value)
	if err != nil {
		return err
	}
	return replace(name, data, sync)
}

func replace(name string, data []byte, sync bool) error {
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

// readJSON reads a file that was written by save, by writeSafe or by writeQuick.
func readJSON(name string, into any) error {
	data, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	return json.Unmarshal(data, into)
}

// save replaces a file whole with a value that may hold secrets, sealed.
func (l layout) save(name string, value any, sync bool) error {
	data, err := json.Marshal(value)
	if err != nil {
		return err
	}
	if l.sealer != nil {
		data = l.sealer.Seal(data)
	}
	return replace(name, data, sync)
}

// keepOrder writes an order to the disk.
func (l layout) keepOrder(o order.Order) error {
	if err := makeFolder(l.keep(o.Member), private); err != nil {
		return diskError(err)
	}
	return l.save(filepath.Join(l.keep(o.Member), orderFile), o, true)
}

// recall reads what save wrote.
func (l layout) recall(name string, into any) error {
	data, err := os.ReadFile(name)
	if err == nil && l.sealer != nil {
		data, err = l.sealer.Open(data)
	}
	if err != nil {
		return err
	}
	return json.Unmarshal(data, into)
}

// writeFiles puts a member's config files in place. Those already as wanted, and those that are written once and are there,
// are left alone; it gives those that changed, also where it fails half-way.
func (l layout) writeFiles(m field.MemberName, spec *order.Spec, files []order.File) (changed []replaced, err error) {
	who, err := accountOf(spec.User)
	if err != nil {
		return nil, err
	}
	if err := l.prepare(m, who); err != nil {
		return nil, err
	}
	b, err := openBeneath(l.member(m), who.owner)
	if err != nil {
		return nil, diskError(err)
	}
	defer b.close()
	for _, f := range files {
		was := replaced{File: f, owner: who.owner}
		if f.Once && b.there(f.Path) {
			continue
		}
		old, mode, err := b.read(f.Path)
		if err == nil && string(old) == f.Content && mode == fs.FileMode(f.Mode) {
			continue
		}
		was.old, was.mode, was.there = old, mode, err == nil
		if err := b.write(f.Path, []byte(f.Content), fs.FileMode(f.Mode)); err != nil {
			return changed, err
		}
		changed = append(changed, was)
	}
	return changed, nil
}

// replaced is a file that was written, with what it replaced.
type replaced struct {
	order.File
	owner owner
	old   []byte
	mode  fs.FileMode
	there bool // there was one before
}

// putBack undoes what writeFiles did to those files.
func (l layout) putBack(m field.MemberName, changed []replaced) error {
	if len(changed) == 0 {
		return nil
	}
	b, err := openBeneath(l.member(m), changed[0].owner)
	if err != nil {
		return diskError(err)
	}
	defer b.close()
	var errs []error
	for _, f := range changed {
		if f.there {
			errs = append(errs, b.write(f.Path, f.old, f.mode))
		} else {
			errs = append(errs, b.remove(f.Path))
		}
	}
	return diskError(errors.Join(errs...))
}

// removeFile removes a config file.
func (l layout) removeFile(m field.MemberName, name string) error {
	b, err := openBeneath(l.member(m), owner{})
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return diskError(err)
	}
	defer b.close()
	return diskError(b.remove(name))
}
