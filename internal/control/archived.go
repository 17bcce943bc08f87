package control

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/archive"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/health"
	"lanternfield/internal/core/journal"
	"lanternfield/internal/core/logline"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"
	"lanternfield/internal/series/store"
)

// ArchiveSession is a session on an archive: it is looked at, and nothing is changed.
type ArchiveSession struct {
	Manifest archive.Manifest
	Name     string // of the file

	folder Folder
	root   string // where it was extracted
	state  *state.State
	tide   timeline
	snap   *snapshot.Snapshot
}

var _ Session = (*ArchiveSession)(nil)

// ErrArchive says that an archive is only looked at.
var ErrArchive = errors.New("this is an archive: it can be looked at, and nothing can be changed in it")

// OpenArchive opens an archive. Close removes what was extracted from it.
func OpenArchive(name string) (_ *ArchiveSession, err error) {
	clearOpened()
	root, err := os.MkdirTemp("", openedFolder)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.RemoveAll(root))
		}
	}()
	dir := filepath.Join(root, "extracted")
	m, err := archive.Extract(name, dir)
	if err != nil {
		return nil, err
	}
	a := &ArchiveSession{Manifest: *m, Name: name, root: root, folder: FolderOf(root, m.Field)}
	if err := os.MkdirAll(a.folder.Dir, 0o700); err != nil {
		return nil, err
	}
	if err := os.Rename(dir, a.folder.own()); err != nil {
		return nil, err
	}
	fold, done, err := a.folder.folder(nil)
	if err != nil {
		return nil, fmt.Errorf("%s: its events cannot be read: %w", name, err)
	}
	defer done()
	if a.state, _, err = fold.Fold(func(s *state.State, e eventlog.Stored) { a.tide.note(s, e.Event) }); err != nil {
		return nil, fmt.Errorf("%s: its events cannot be read: %w", name, err)
	}
	a.tide.settle(a.state)
	if a.snap, err = a.folder.past(m.To); err != nil {
		return nil, err
	}
	return a, nil
}

// openedFolder is how the folders begin into which archives are extracted.
const openedFolder = "lantern-opened-"

// clearOpened removes what one has left who was killed.
func clearOpened() {
	left, _ := filepath.Glob(filepath.Join(os.TempDir(), openedFolder+"*"))
	for _, dir := range left {
		if info, err := os.Lstat(dir); err == nil && info.IsDir() && time.Since(info.ModTime()) > 24*time.Hour {
			_ = os.RemoveAll(dir)
		}
	}
}

// Folder is where it was extracted.
func (a *ArchiveSession) Folder() Folder { return a.folder }

// Field is the topology at its end; nil where nothing was deployed.
func (a *ArchiveSession) Field() *field.Field { return a.state.Field }

// Snapshot gives the field as it was at the end of the span.
func (a *ArchiveSession) Snapshot(context.Context) (*snapshot.Snapshot, error) { return a.snap, nil }

// Watch gives that once.
func (a *ArchiveSession) Watch(ctx context.Context) (<-chan *snapshot.Snapshot, error) {
	out := make(chan *snapshot.Snapshot, 1)
	out <- a.snap
	context.AfterFunc(ctx, func() { close(out) })
	return out, nil
}

// Journal gives a part of the journal.
func (a *ArchiveSession) Journal(_ context.Context, r Range) ([]Entry, error) {
	entries, err := LookJournal(a.folder, r)
	return slices.DeleteFunc(entries, func(e Entry) bool { return e.Kind == "condensed" }), err
}

// Past gives the field as it was at that moment.
func (a *ArchiveSession) Past(_ context.Context, at time.Time) (*snapshot.Snapshot, error) {
	return a.folder.past(at)
}

// Tide gives how many lanterns were lit over time.
func (a *ArchiveSession) Tide(_ context.Context, since time.Time) ([]Sample, error) {
	return a.tide.since(since), nil
}

// Rollout tells a rollout, or a task, from its beginning to its end, or as far as it had come.
func (a *ArchiveSession) Rollout(_ context.Context, ask RolloutAsked) (*rollout.Record, error) {
	found, then, err := a.folder.recorder(a.state, ask)
	if err != nil {
		return nil, err
	}
	record := found.Record(then, a.Manifest.To)
	record.Expect(then)
	return record, nil
}

// Rollouts lists those that are in it.
func (a *ArchiveSession) Rollouts(context.Context) ([]snapshot.RolloutView, error) {
	all := rolloutsOf(a.state)
	return slices.DeleteFunc(all, func(r snapshot.RolloutView) bool { return r.Began.Before(a.Manifest.From) }), nil
}

// Health tells what was measured of a role.
func (a *ArchiveSession) Health(_ context.Context, ask HealthAsked) (*health.Told, error) {
	if ask.Role == "" {
		return ask.whole(store.OpenToRead(a.folder.series(), store.Limits{}), a.state, a.tide.since(ask.From))
	}
	var role *field.Role
	if a.state.Field != nil {
		role = a.state.Field.Role(ask.Role)
	}
	if role == nil {
		return nil, fmt.Errorf("there is no role %q", ask.Role)
	}
	return ask.tell(store.OpenToRead(a.folder.series(), store.Limits{}), role, ask.members(a.state), a.tide.since(ask.From))
}

// Lines gives what members wrote: all of it at once, since nothing comes after it.
func (a *ArchiveSession) Lines(_ context.Context, after map[field.MemberName]int64) (map[field.MemberName]agentapi.Log, error) {
	out := map[field.MemberName]agentapi.Log{}
	for name, from := range after {
		if from > 0 {
			continue
		}
		lines, err := a.linesOf(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out[name] = agentapi.Log{Lines: lines[max(0, len(lines)-searchAtOnce):], Next: 1}
	}
	return out, nil
}

// searchAtOnce is how many lines of a member are given unasked.
const searchAtOnce = 2000

func (a *ArchiveSession) linesOf(name field.MemberName) ([]logline.Line, error) {
	file, err := os.Open(filepath.Join(a.folder.own(), "lines", string(name)+".ndjson"))
	if err != nil {
		return nil, err
	}
	defer file.Close()
	var lines []logline.Line
	each := bufio.NewScanner(file)
	each.Buffer(nil, 4<<20)
	for each.Scan() {
		var l logline.Line
		if err := json.Unmarshal(each.Bytes(), &l); err != nil {
			return nil, fmt.Errorf("the lines of %s are not as they were written: %w", name, err)
		}
		lines = append(lines, l)
	}
	return lines, each.Err()
}

// Search looks for lines in all that is in it.
func (a *ArchiveSession) Search(_ context.Context, ask SearchAsked) (*SearchFound, error) {
	filter, err := ask.Filter.Ready()
	if err != nil {
		return nil, err
	}
	out := &SearchFound{Found: agentapi.Found{Lines: map[field.MemberName][]logline.Line{}}}
	files, err := os.ReadDir(filepath.Join(a.folder.own(), "lines"))
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		name := field.MemberName(strings.TrimSuffix(file.Name(), ".ndjson"))
		lines, err := a.linesOf(name)
		if err != nil {
			return nil, err
		}
		x := journal.Of{Member: name}
		if m := a.state.Member(name); m != nil {
			x.Role, x.Node = m.Role, m.Node
			if n := a.state.Field.Node(m.Node); n != nil {
				x.Zone = n.Zone
			}
		}
		for _, l := range lines {
			of := x
			of.Level, of.Text, of.More = l.Level, l.Text, l.More
			if !l.At.Before(ask.Since) && (ask.Until.IsZero() || l.At.Before(ask.Until)) && filter.Fits(&of) {
				out.Lines[name] = append(out.Lines[name], l)
			}
		}
	}
	return out, nil
}

// Close removes what was extracted.
func (a *ArchiveSession) Close() error { return os.RemoveAll(a.root) }

// What would change something is refused.

// Review is refused.
func (a *ArchiveSession) Review(context.Context, *field.Field) (*plan.Review, error) {
	return nil, ErrArchive
}

// Preview is refused.
func (a *ArchiveSession) Preview(context.Context, *field.Field, field.MemberName) (*review.Files, error) {
	return nil, ErrArchive
}

// Trust is refused: certificates are made of what is secret.
func (a *ArchiveSession) Trust(context.Context) (*snapshot.Trust, error) { return nil, ErrArchive }

// Access is refused.
func (a *ArchiveSession) Access(context.Context, AccessAsked) ([]Access, error) {
	return nil, ErrArchive
}

// ChangeSecret is refused.
func (a *ArchiveSession) ChangeSecret(context.Context, SecretAsked) (*plan.Review, error) {
	return nil, ErrArchive
}

// Outside is refused.
func (a *ArchiveSession) Outside(context.Context, OutsideAsked) (*OutsideAnswer, error) {
	return nil, ErrArchive
}

// Seal is refused.
func (a *ArchiveSession) Seal(context.Context, Seals) error { return ErrArchive }

// Invite is refused.
func (a *ArchiveSession) Invite(context.Context, InviteAsked) (*Invitation, error) {
	return nil, ErrArchive
}

// Mend is refused.
func (a *ArchiveSession) Mend(context.Context, MendAsked) ([]MendOutcome, error) {
	return nil, ErrArchive
}

// SettleLedger is refused.
func (a *ArchiveSession) SettleLedger(context.Context, []field.NodeName) error { return ErrArchive }

// Do is refused.
func (a *ArchiveSession) Do(context.Context, Request) error { return ErrArchive }
