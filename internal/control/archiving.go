package control

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/archive"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/logline"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"
	"lanternfield/internal/eventlog/sqlite"
	"lanternfield/internal/keyring"
	"lanternfield/internal/series/store"
)

// Archived is an archive that was written.
type Archived struct {
	archive.Manifest
	File    string `json:"file"`
	Bytes   int64  `json:"bytes"`
	Secrets int    `json:"secrets"` // that were looked for in it
}

// What of members' lines goes into an archive: so much of each, the newest.
const mostArchived = 200_000

// Archive writes a span of a field's life into one file: its topology, events, series and members' lines. Secrets are left out, and it is checked that none
// is in it before it is written.
func Archive(ctx context.Context, f Folder, from, to time.Time, out string) (*Archived, error) {
	if !to.After(from) {
		return nil, fmt.Errorf("from %s to %s is no time that could be kept", from.Local().Format("15:04:05"), to.Local().Format("15:04:05"))
	}
	ring, err := f.keyring()
	if err != nil {
		return nil, fmt.Errorf("without the field's secrets it cannot be checked that none of them is in the archive: %w", err)
	}
	dir, err := os.MkdirTemp("", "lantern-archive-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	m := archive.Manifest{Field: fieldName(f), From: from.UTC(), To: to.UTC(), Made: time.Now().UTC(), Release: Release.Version, Programs: map[string]string{}}
	end, err := f.archiveEvents(&m, ring, filepath.Join(dir, "events.db"))
	if err != nil {
		return nil, err
	}
	for _, member := range end.Members {
		if member.Version != "" {
			m.Programs[string(member.Role)] = member.Version
		}
	}
	if err := store.Copy(f.series(), filepath.Join(dir, "series"), m.From, m.To); err != nil {
		return nil, fmt.Errorf("what was measured cannot be copied: %w", err)
	}
	hidden := secretsOf(ring, end)
	if err := f.archiveLines(ctx, &m, end, hidden, filepath.Join(dir, "lines")); err != nil {
		return nil, err
	}
	if err := hidden.noneBelow(dir); err != nil {
		return nil, err
	}
	if err := archive.Write(out, m, dir); err != nil {
		return nil, fmt.Errorf("the archive cannot be written: %w", err)
	}
	done := &Archived{Manifest: m, File: out, Secrets: len(hidden.values)}
	if info, err := os.Stat(out); err == nil {
		done.Bytes = info.Size()
	}
	return done, nil
}

// archiveEvents writes the events of the span after the state that those before led to, and gives the state at the end. What was being carried out when the
// span began is in it from its beginning on.
func (f Folder) archiveEvents(m *archive.Manifest, ring *keyring.Keyring, to string) (*state.State, error) {
	fold, done, err := f.folder(f.Progress)
	if errors.Is(err, eventlog.ErrNone) {
		return nil, fmt.Errorf("%s was never deployed, so there is nothing to be kept", m.Field)
	}
	if err != nil {
		return nil, err
	}
	defer done()
	begin, err := fold.At(m.From)
	var old *eventlog.TooOld
	if errors.As(err, &old) {
		return nil, fmt.Errorf("what happened before %s is not kept in detail any more; begin later with --since", old.From.Local().Format("2006-01-02 15:04"))
	}
	if err != nil {
		return nil, err
	}
	if begin.Rollout.Active() {
		m.From = begin.Rollout.Began.Add(-time.Millisecond)
		if begin, err = fold.At(m.From); err != nil {
			return nil, err
		}
	}
	var events []state.Event
	first := true
	err = fold.Log.Read(0, func(e eventlog.Stored) error {
		switch {
		case e.At.After(m.To):
		case e.At.After(m.From):
			events = append(events, e.Event)
		default:
			first = false
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if len(events) == 0 && begin.Field == nil {
		return nil, fmt.Errorf("nothing had happened by %s, so there is nothing to be kept", m.To.Local().Format("2006-01-02 15:04"))
	}
	m.Events = len(events)
	end, err := fold.At(m.To)
	if err == nil {
		err = secretsOf(ring, end).noneIn(begin, events) // on the disk, some of it is compressed
	}
	if err != nil {
		return nil, err
	}
	var encoded []byte
	if !first {
		if encoded, err = state.Encode(begin); err != nil {
			return nil, err
		}
	}
	if err := sqlite.Excerpt(to, encoded, m.From, events); err != nil {
		return nil, err
	}
	if _, err := sqlite.Check(to); err != nil {
		return nil, err
	}
	for _, beside := range []string{"-wal", "-shm"} {
		_ = os.Remove(to + beside)
	}
	return end, nil
}

// archiveLines writes what members wrote, a file a member, a line an object. Lines in which a secret stands lose it.
func (f Folder) archiveLines(ctx context.Context, m *archive.Manifest, end *state.State, hidden secrets, dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	reader := &LineReader{f, end, time.Now()}
	ask := SearchAsked{Since: m.From, Until: m.To, Within: searchUsual * 4}
	all := map[field.MemberName][]logline.Line{}
	for {
		found, err := reader.Search(ctx, ask)
		if err != nil {
			return fmt.Errorf("members' lines cannot be read: %w", err)
		}
		if !ask.On {
			m.Silent = found.Silent
		}
		for name, lines := range found.Lines {
			all[name] = append(lines, all[name]...)
			if len(all[name]) > mostArchived {
				delete(found.Left, name)
				m.Cut = append(m.Cut, name)
			}
		}
		if ask.On, ask.Before = true, found.Left; len(found.Left) == 0 {
			break
		}
	}
	slices.Sort(m.Cut)
	for _, name := range slices.Sorted(maps.Keys(all)) {
		m.Members++
		file, err := os.OpenFile(filepath.Join(dir, string(name)+".ndjson"), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if err != nil {
			return err
		}
		to := bufio.NewWriter(file)
		each := json.NewEncoder(to)
		each.SetEscapeHTML(false)
		for _, l := range all[name] {
			m.Lines++
			if hidden.hide(&l) {
				m.Hidden++
			}
			err = errors.Join(err, each.Encode(l))
		}
		if err = errors.Join(err, to.Flush(), file.Close()); err != nil {
			return err
		}
	}
	return nil
}

// secrets is what must not be in an archive.
type secrets struct{ values []string }

// leastSecret is how long something must be to be looked for: shorter texts stand everywhere.
const leastSecret = 6

// secretsOf lists what is secret of a field: what is in the keyring, and what is made of it.
func secretsOf(ring *keyring.Keyring, s *state.State) secrets {
	values := ring.Values()
	if s.Field != nil {
		for i := range s.Field.Roles {
			for _, name := range s.Field.Roles[i].SecretNames() {
				for number := range s.SecretOf(name).Number + 1 {
					values = append(values, made(ring, name, number))
				}
			}
		}
	}
	values = slices.DeleteFunc(values, func(v string) bool { return len(v) < leastSecret })
	slices.SortFunc(values, func(a, b string) int { return cmp.Compare(len(b), len(a)) }) // the longest first: it may contain another
	return secrets{slices.Compact(values)}
}

// made is the secret of that number that is made of the field's key.
func made(ring *keyring.Keyring, name string, number int) string {
	value, err := secretIn(ring, render.Secret{Name: name, Number: number})
	if err != nil {
		return ""
	}
	return value
}

// hiddenText stands where a secret stood.
const hiddenText = "(a secret)"

// hide takes secrets out of a line, and tells whether there was one. Private keys go whole.
func (x secrets) hide(l *logline.Line) bool {
	found := false
	clean := func(text string) string {
		if strings.Contains(text, "PRIVATE KEY-----") {
			found = true
			return hiddenText
		}
		for _, v := range x.values {
			if strings.Contains(text, v) {
				found = true
				text = strings.ReplaceAll(text, v, hiddenText)
			}
		}
		return text
	}
	l.Text = clean(l.Text)
	key := strings.Contains(strings.Join(l.More, "\n"), "PRIVATE KEY-----")
	for i := range l.More {
		l.More[i] = clean(l.More[i])
	}
	if key {
		l.More = []string{hiddenText}
	}
	return found
}

// holds tells whether a text, as JSON or as it is, holds a secret.
func (x secrets) holds(data []byte) bool {
	for _, v := range append(slices.Clone(x.values), "PRIVATE KEY-----") {
		quoted, _ := json.Marshal(v)
		if bytes.Contains(data, []byte(v)) || bytes.Contains(data, quoted[1:len(quoted)-1]) {
			return true
		}
	}
	return false
}

// noSecrets is what is to be done where one stands in what would be archived.
const noSecrets = "no archive is written. Put it under secrets: in the field file, deploy that, and archive what comes after"

// noneIn makes sure that neither a state nor events hold a secret.
func (x secrets) noneIn(begin *state.State, events []state.Event) error {
	data, err := json.Marshal(begin)
	if err != nil {
		return err
	}
	if x.holds(data) {
		return fmt.Errorf("a secret of the field stands in its topology, as it was when the span began, or in what a program told by then; %s", noSecrets)
	}
	for _, e := range events {
		if _, data, err = state.EncodeFact(e.Fact); err != nil {
			return err
		}
		if x.holds(data) {
			return fmt.Errorf("a secret of the field stands in an event of %s (%s), as somebody gave it in the field file or a program told it; %s", e.At.Local().Format("2006-01-02 15:04:05"),
				e.Fact.Sentence(), noSecrets)
		}
	}
	return nil
}

// noneBelow makes sure that no file below a folder holds a secret.
func (x secrets) noneBelow(dir string) error {
	return filepath.WalkDir(dir, func(name string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		data, err := os.ReadFile(name)
		if err == nil && x.holds(data) {
			rel, _ := filepath.Rel(dir, name)
			err = fmt.Errorf("a secret of the field stands in %s; %s", rel, noSecrets)
		}
		return err
	})
}
