package rehearse

import (
	"slices"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/snapshot"
)

// TestFilesFollowWhoLeadsAndWhoIsReady has an entry whose file names who leads and who is ready: it is reloaded when that changes, and only then.
func TestFilesFollowWhoLeadsAndWhoIsReady(t *testing.T) {
	ask := field.Call{Exec: []string{"true"}}
	f := &field.Field{Name: "saltmarsh", Nodes: []field.Node{{Name: "gull-1"}, {Name: "tern-1"}, {Name: "skua-1"}},
		Roles: []field.Role{
			{Name: "store", Members: 3, Spread: field.SpreadNode, Program: &field.Program{Command: []string{"store"}, Leader: &field.LeaderProbe{Call: ask, IsMe: "true"}}},
			{Name: "pier", Members: 1, Calls: map[string]field.RoleName{"behind": "store"}, Program: &field.Program{Command: []string{"pier"}, Reload: &field.Reload{Signal: "HUP"},
				Files: map[string]field.File{"who": {OnChange: field.OnReload, Template: `{{range .Calls "behind"}}{{.Member}}{{if .Leads}} leads{{end}}{{if .Ready}} ready{{end}}; {{end}}`}}}},
		}}
	field.FillDefaults(f)
	w := New(begin)
	began(t, w, f)
	w.Until(func() bool { return len(w.Snapshot().Roles) > 0 && w.State.RoleOf("store") != nil }, time.Second)
	if !w.Until(func() bool { return w.lit("store-1") && w.lit("store-2") && w.lit("store-3") }, time.Minute) {
		t.Fatal(w.Snapshot().Verdict)
	}
	w.Lead("store-1", 1)
	file := func() string {
		for _, m := range w.State.MembersOf("pier") {
			if m.Ordered.Spec != nil && len(m.Ordered.Spec.Files) == 1 {
				return strings.TrimSpace(m.Ordered.Spec.Files[0].Content)
			}
		}
		return ""
	}
	says := func(want string) {
		t.Helper()
		if !w.Until(func() bool { return file() == want && w.Snapshot().State != snapshot.Deploying }, time.Minute) {
			t.Fatalf("the file says %q, want %q; %s", file(), want, w.Snapshot().Verdict)
		}
	}
	says("store-1 leads ready; store-2 ready; store-3 ready;")
	w.Claim("store-1", false, 1)
	w.Lead("store-3", 2)
	says("store-1 ready; store-2 ready; store-3 leads ready;")
	before := w.State.MembersOf("pier")[0].Incarnation
	w.Kill("store-2")
	says("store-1 ready; store-2; store-3 leads ready;")
	says("store-1 ready; store-2 ready; store-3 leads ready;")
	if m := w.State.MembersOf("pier")[0]; m.Incarnation != before {
		t.Errorf("it was restarted: start %d, then %d", before, m.Incarnation)
	}
	orders := w.State.MembersOf("pier")[0].Ordered.Revision
	w.Run(5 * time.Minute)
	if now := w.State.MembersOf("pier")[0].Ordered.Revision; now != orders {
		t.Errorf("it was ordered anew, %d times, while nothing changed", now-orders)
	}

	own := *f
	own.Roles = append([]field.Role{}, f.Roles...)
	program := *own.Roles[0].Program
	program.Command = []string{"store", "{{.Ready}}"}
	own.Roles[0].Program = &program
	found := finding.All(&own)
	if !slices.ContainsFunc(found, func(x finding.Finding) bool {
		return x.Severity == finding.Error && strings.Contains(x.Text, ".Ready is of members that are called")
	}) {
		t.Errorf("of itself: %v", found)
	}
}
