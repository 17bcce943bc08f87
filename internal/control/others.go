package control

import (
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
)

// Around finds what is known of the field's nodes beside what it declares.
func (f Folder) Around() field.Around { return field.Around{Others: f.Others(), Found: f.found()} }

// Others finds what the other fields of the state folder keep for their members on nodes that they share. A field that
// cannot be read counts for nothing, and is logged.
func (f Folder) Others() map[field.NodeName]*field.Others {
	out := map[field.NodeName]*field.Others{}
	folders, _ := filepath.Glob(filepath.Join(filepath.Dir(f.Dir), "*"))
	for _, dir := range folders { // sorted
		other := Folder{Dir: dir}
		if _, err := os.Stat(other.events()); err != nil || other.Dir == f.Dir {
			continue
		}
		for node, take := range other.keeps() {
			o := out[node]
			if o == nil {
				o = &field.Others{}
				out[node] = o
			}
			o.Take = o.Take.Plus(take)
			o.Fields = append(o.Fields, filepath.Base(other.Dir))
		}
	}
	return out
}

// kept remembers what other fields say, by their folder, as long as their logs stay as they are.
var kept struct {
	sync.Mutex
	by map[string]keptShare
}

type keptShare struct {
	stamp    [2]time.Time
	deployed bool
	take     map[field.NodeName]field.Size // of shared nodes
	links    map[field.RoleName]field.External
	given    map[string]state.Grant // what other fields have, and is not to be made anew
}

// keeps is what the members of a deployed field take of the nodes that it shares.
func (f Folder) keeps() map[field.NodeName]field.Size {
	share, err := f.share()
	if err != nil && !errors.Is(err, ErrNothing) {
		slog.Warn("what another field keeps of shared nodes cannot be read", "folder", f.Dir, "error", err)
	}
	return share.take
}

// share is what other fields need to know of this one. ErrNothing says that there is none.
func (f Folder) share() (keptShare, error) {
	var stamp [2]time.Time
	for i, name := range []string{f.events(), f.events() + "-wal"} {
		if info, err := os.Stat(name); err == nil {
			stamp[i] = info.ModTime()
		}
	}
	kept.Lock()
	defer kept.Unlock()
	if k, known := kept.by[f.Dir]; known && k.stamp == stamp {
		return k, nil
	}
	s, err := readState(f)
	if err != nil {
		return keptShare{}, err
	}
	k := keptShare{stamp: stamp, deployed: s.Deployed() && !s.Retiring, take: map[field.NodeName]field.Size{}, links: map[field.RoleName]field.External{}, given: map[string]state.Grant{}}
	if s.Deployed() {
		for _, m := range state.SortedMembers(s) {
			r, n := s.Field.Role(m.Role), s.Field.Node(m.Node)
			if m.Phase != state.Gone && r != nil && n != nil && n.Shared {
				k.take[m.Node] = k.take[m.Node].Plus(r.Taken())
			}
		}
		for key, g := range s.Grants {
			if g.Barred == "" && !engine.LinkDue(s, g, time.Now()) {
				k.given[key] = g
			}
		}
		for i := range s.Field.Roles {
			if r := &s.Field.Roles[i]; r.Linked() && k.deployed {
				k.links[r.Name] = *r.External
			}
		}
	}
	if kept.by == nil {
		kept.by = map[string]keptShare{}
	}
	kept.by[f.Dir] = k
	return k, nil
}
