package control

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/archive"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/journal"
	"lanternfield/internal/core/snapshot"
)

// TestASpanIsArchivedAndOpenedElsewhere keeps a field with a member that has told its secret and then ended, and looks at all of it where no field is.
func TestASpanIsArchivedAndOpenedElsewhere(t *testing.T) {
	f, _ := folderWith(t)
	s := open(t, f)
	ctx := context.Background()
	draft := sleepers(2)
	flag := filepath.Join(t.TempDir(), "well")
	draft.Roles[0].Program.Command = []string{"sh", "-c", "echo the watchword is $WORD; echo ERROR the mast broke; echo '\tat Dock.sail(Dock.java:7)'; while test ! -e " + flag + "; do sleep 0.1; done; exec sleep 600"}
	draft.Roles[0].Program.Ready.Exec = []string{"test", "-e", flag}
	draft.Roles[0].Program.Env = map[string]field.Text{"WORD": `{{.Secret "watch"}}`}
	draft.Secrets = map[string]field.GivenSecret{"watch": {Env: "WATCH"}}
	if _, err := s.ChangeSecret(ctx, SecretAsked{Name: "watch", Given: true, Value: "rope-and-anchor"}); err != nil {
		t.Fatal(err)
	}
	before := time.Now()
	if err := s.Do(ctx, Request{What: "deploy", Draft: draft}); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(flag, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	lit := await(t, s, "converged", func(s *snapshot.Snapshot) bool { return s.State == snapshot.Converged && !s.Rollout.Active })
	between := time.Now()
	if err := os.Remove(flag); err != nil {
		t.Fatal(err)
	}
	await(t, s, "dark", func(s *snapshot.Snapshot) bool { return s.State == snapshot.Down })
	out := filepath.Join(t.TempDir(), "saltmarsh"+archive.Ending)
	done, err := Archive(ctx, f, before.Add(-time.Minute), time.Now(), out)
	if err != nil {
		t.Fatal(err)
	}
	if done.Hidden != 2 || done.Members != 2 || done.Secrets < 3 || done.Events < 8 || len(done.Silent) > 0 {
		t.Errorf("it was archived as %+v", done)
	}
	whole, err := os.ReadFile(out)
	if err != nil || strings.Contains(string(whole), "rope-and-anchor") {
		t.Errorf("the secret stands in it (%v)", err)
	}

	a, err := OpenArchive(out)
	if err != nil {
		t.Fatal(err)
	}
	now, err := a.Snapshot(ctx)
	if err != nil || now.State != snapshot.Down || now.Field != "saltmarsh" {
		t.Errorf("at its end: %+v, %v", now, err)
	}
	if then, err := a.Past(ctx, between); err != nil || then.State != snapshot.Converged {
		t.Errorf("in between: %+v, %v", then, err)
	}
	if _, err := a.Past(ctx, before.Add(-2*time.Minute)); err != nil {
		t.Errorf("before anything: %v", err)
	}
	r, err := a.Rollout(ctx, RolloutAsked{Number: lit.Rollout.Number})
	if err != nil || len(r.Rows) != 2 || r.Active() {
		t.Errorf("the rollout: %+v, %v", r, err)
	}
	if tide, err := a.Tide(ctx, time.Time{}); err != nil || len(tide) < 3 {
		t.Errorf("the tide: %v, %v", tide, err)
	}
	found, err := a.Search(ctx, SearchAsked{Filter: journal.Parse("errors dock.java", journal.Names{})})
	if err != nil || len(found.Lines["crews-1"]) != 1 || len(found.Lines["crews-2"]) != 1 {
		t.Errorf("found %+v, %v", found, err)
	}
	lines, err := a.Lines(ctx, map[field.MemberName]int64{"crews-1": -1, "crews-9": -1})
	if err != nil || len(lines["crews-1"].Lines) != 2 || lines["crews-1"].Lines[0].Text != "the watchword is (a secret)" {
		t.Errorf("lines: %+v, %v", lines, err)
	}
	entries, err := a.Journal(ctx, Range{Last: 1000})
	if err != nil || len(entries) == 0 || entries[len(entries)-1].At.Before(between) {
		t.Errorf("%d events, %v", len(entries), err)
	}
	if err := a.Do(ctx, Request{What: "retire"}); !errors.Is(err, ErrArchive) {
		t.Errorf("an archive can be retired: %v", err)
	}
	if _, err := os.Stat(a.root); err != nil {
		t.Error(err)
	}
	if err := a.Close(); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(a.root); err == nil {
		t.Error("what was extracted is left")
	}

	// A span that begins in the middle begins with the field as it was.
	later := filepath.Join(t.TempDir(), "later"+archive.Ending)
	if _, err := Archive(ctx, f, between, time.Now(), later); err != nil {
		t.Fatal(err)
	}
	b, err := OpenArchive(later)
	if err != nil {
		t.Fatal(err)
	}
	defer b.Close()
	if then, err := b.Past(ctx, between.Add(time.Millisecond)); err != nil || then.State != snapshot.Converged {
		t.Errorf("at its beginning: %+v, %v", then, err)
	}
	if all, err := b.Rollouts(ctx); err != nil || len(all) > 0 {
		t.Errorf("rollouts of before are listed: %v, %v", all, err)
	}
	if _, err := Archive(ctx, f, between, before, later); err == nil {
		t.Error("a span that ends before it begins is archived")
	}
	if _, err := Archive(ctx, f, before.Add(-time.Hour), before.Add(-time.Minute), later); err == nil || !strings.Contains(err.Error(), "nothing had happened") {
		t.Errorf("a span before anything: %v", err)
	}
}

// TestASecretThatWasWrittenIntoTheFileIsNotArchived has a value in the field file that is one of its secrets.
func TestASecretThatWasWrittenIntoTheFileIsNotArchived(t *testing.T) {
	f, _ := folderWith(t)
	s := open(t, f)
	ctx := context.Background()
	draft := sleepers(1)
	draft.Roles[0].Program.Env = map[string]field.Text{"WORD": `{{.Secret "watch"}}`, "SAME": "rope-and-anchor"}
	draft.Secrets = map[string]field.GivenSecret{"watch": {Env: "WATCH"}}
	if _, err := s.ChangeSecret(ctx, SecretAsked{Name: "watch", Given: true, Value: "rope-and-anchor"}); err != nil {
		t.Fatal(err)
	}
	if err := s.Do(ctx, Request{What: "deploy", Draft: draft}); err != nil {
		t.Fatal(err)
	}
	await(t, s, "converged", func(s *snapshot.Snapshot) bool { return s.State == snapshot.Converged })
	out := filepath.Join(t.TempDir(), "saltmarsh"+archive.Ending)
	if _, err := Archive(ctx, f, time.Now().Add(-time.Hour), time.Now(), out); err == nil || !strings.Contains(err.Error(), "stands in an event of") {
		t.Errorf("it is archived: %v", err)
	}
	if _, err := os.Stat(out); err == nil {
		t.Error("the archive is there")
	}
}
