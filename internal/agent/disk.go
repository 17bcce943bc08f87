package agent

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"lanternfield/internal/agent/runtime"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/render"
	"lanternfield/internal/host"
	"lanternfield/internal/host/fit"
	"lanternfield/internal/identity"
)

// layout is a node's folder. What the agent itself writes is in a folder that nobody else may enter. The way down to a member's own
// folder may be passed by others, since programs run as users of their own, and holds nothing but folders.
type layout struct {
	dir    string
	sealer *identity.Sealer // nil: what is kept is not sealed
}

func (l layout) own() string { return host.OwnFolder(l.dir) }

func (l layout) endpoint() string { return host.EndpointFile(l.dir) }

func (l layout) lock() string { return host.LockFile(l.dir) }

func (l layout) reports() string { return filepath.Join(l.own(), "reports.ndjson") }

func (l layout) memory() string { return filepath.Join(l.own(), "memory.json") }

func (l layout) records() string { return filepath.Join(l.own(), "keep") }

func (l layout) logs() string { return filepath.Join(l.own(), "logs") }

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

func (l layout) record(m field.MemberName) string {
	return filepath.Join(l.records(), string(m))
}

func (l layout) member(m field.MemberName) string { return render.MemberDir(l.dir, m) }

func (l layout) data(m field.MemberName) string { return filepath.Join(l.member(m), dataFolder) }

func (l layout) aside(m field.MemberName) string { return filepath.Join(l.dir, "kept", string(m)) } // the data of one that is gone

// retainData moves a member's data to where it outlives the member, and gives how many bytes that is. It may be repeated.
// False means that there is none.
func (l layout) retainData(m field.MemberName) (bytes int64, kept bool, err error) {
	from, to := l.data(m), l.aside(m)
	if !emptyDir(from) {
		if !emptyDir(to) {
			return 0, false, fmt.Errorf("its data cannot be put aside: there is data of it in %s already. Move one of the two away", to)
		}
		if err := errors.Join(host.MakeFolder(filepath.Dir(to), host.Private), os.RemoveAll(to)); err != nil {
			return 0, false, host.DiskError(err)
		}
		if err := os.Rename(from, to); err != nil {
			return 0, false, host.DiskError(err)
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

// restoreData gives a member the data that was put aside of it.
func (l layout) restoreData(m field.MemberName) error {
	from, to := l.aside(m), l.data(m)
	if _, err := os.Stat(from); err != nil {
		return nil
	}
	if !emptyDir(to) {
		return fmt.Errorf("there is data that was kept of it in %s, and other data in %s. Move one of the two away", from, to)
	}
	if err := errors.Join(host.MakeFolder(filepath.Dir(l.member(m)), host.Passable), os.MkdirAll(l.member(m), host.Private), os.RemoveAll(to)); err != nil {
		return host.DiskError(err)
	}
	return host.DiskError(os.Rename(from, to))
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

// record is what the runtime finds the process again by.
func (k keptProcess) record() runtime.Record {
	return runtime.Record{PID: k.PID, StartTime: k.StartTime, Group: k.Group, GroupV2: k.GroupV2}
}

// place is where a member's things are, for who runs it.
func (l layout) place(m field.MemberName) runtime.Place {
	return runtime.Place{Node: l.dir, Folder: l.member(m), Data: l.data(m), Log: l.log(m), Lock: filepath.Join(l.record(m), "alive.lock")}
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
		return host.DiskError(err)
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
		return host.DiskError(errors.Join(err, removeIfThere(tmp)))
	}
	if !sync {
		return nil
	}
	return host.SyncDir(filepath.Dir(name))
}

func removeIfThere(name string) error {
	if err := os.Remove(name); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
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
	if err := host.MakeFolder(l.record(o.Member), host.Private); err != nil {
		return host.DiskError(err)
	}
	return l.save(filepath.Join(l.record(o.Member), orderFile), o, true)
}

// load reads what save wrote.
func (l layout) load(name string, into any) error {
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
func (l layout) writeFiles(m field.MemberName, who *fit.Account, files []order.File) (changed []replaced, err error) {
	if err := l.prepare(m, who); err != nil {
		return nil, err
	}
	b, err := openBeneath(l.member(m), owner{who.UID, who.GID})
	if err != nil {
		return nil, host.DiskError(err)
	}
	defer b.close()
	for _, f := range files {
		was := replaced{File: f, owner: owner{who.UID, who.GID}}
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

// altered lists the config files of a member that are not as they were ordered: changed, gone, or open to others. What a program may write itself is left
// out.
func (l layout) altered(m field.MemberName, files []order.File) []string {
	b, err := openBeneath(l.member(m), owner{})
	if err != nil {
		return nil // it is about to be made, or gone
	}
	defer b.close()
	var out []string
	for _, f := range files {
		if f.Once {
			continue
		}
		if has, mode, err := b.read(f.Path); err != nil || string(has) != f.Content || mode != fs.FileMode(f.Mode) {
			out = append(out, f.Path)
		}
	}
	return out
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
		return host.DiskError(err)
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
	return host.DiskError(errors.Join(errs...))
}

// removeFile removes a config file.
func (l layout) removeFile(m field.MemberName, name string) error {
	b, err := openBeneath(l.member(m), owner{})
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return host.DiskError(err)
	}
	defer b.close()
	return host.DiskError(b.remove(name))
}

// LogFile is what a member writes to its standard output and error.
func LogFile(nodeDir string, m field.MemberName) string { return render.LogFile(nodeDir, m) }

// takeOverFolder moves what an agent of an older version kept in the open into the agent's own folder. That agent has ended: whoever
// calls this holds its lock.
func (l layout) takeOverFolder() error {
	var errs []error
	move := func(from, to string) {
		_ = syscall.Rmdir(to) // an empty folder of a start that came no further
		if err := os.Rename(from, to); err != nil && !errors.Is(err, fs.ErrNotExist) {
			errs = append(errs, err)
		}
	}
	for _, name := range []string{"reports.ndjson", "operations", "keep", "memory.json"} {
		move(filepath.Join(l.dir, name), filepath.Join(l.own(), name))
	}
	logs, _ := filepath.Glob(filepath.Join(l.dir, "members", "*", "output.log*"))
	for _, log := range logs {
		if info, err := os.Lstat(log); err == nil && info.Mode().IsRegular() {
			member := field.MemberName(filepath.Base(filepath.Dir(log)))
			to := l.log(member) + strings.TrimPrefix(filepath.Base(log), "output.log")
			move(log, to)
			// Its user could have put something else there in the last moment; here it cannot.
			if info, err := os.Lstat(to); err == nil && info.Mode().IsRegular() {
				errs = append(errs, os.Chmod(to, 0o600))
			} else if err == nil {
				errs = append(errs, os.Remove(to))
			}
		}
	}
	errs = append(errs, host.MakeFolder(filepath.Join(l.dir, "members"), host.Passable))
	if _, err := os.Lstat(filepath.Join(l.dir, "kept")); err == nil {
		errs = append(errs, os.Chmod(filepath.Join(l.dir, "kept"), host.Private))
	}
	for _, name := range []string{"agent.json", "token", "agent.log"} {
		errs = append(errs, removeIfThere(filepath.Join(l.dir, name)))
	}
	return errors.Join(errs...)
}
