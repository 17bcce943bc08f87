package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/rehearse"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/snapshot"
)

var update = flag.Bool("update", false, "write what is printed into testdata")

var noon = time.Date(2026, 1, 1, 12, 0, 0, 0, time.UTC)

func ferries() *field.Field {
	program := &field.Program{Command: []string{"x"}, Ports: map[string]field.Port{"client": {From: 7400, To: 7409}}}
	f := &field.Field{Name: "saltmarsh", Nodes: []field.Node{{Name: "gull-1", Zone: "north-quay"}, {Name: "tern-1", Zone: "south-quay"}, {Name: "puffin-1", Zone: "lighthouse"}},
		Roles: []field.Role{{Name: "wardens", Kind: field.Master, Members: 3, Votes: true, Program: program},
			{Name: "crews", Members: 2, Calls: map[string]field.RoleName{"store": "wardens"}, Program: program}}}
	field.FillDefaults(f)
	return f
}

// world is a rehearsed field that is all lit, a leader among it.
func world(t *testing.T) *rehearse.World {
	t.Helper()
	w := rehearse.New(noon)
	w.TakeOver()
	f := ferries()
	if err := w.Do(engine.Deploy{Draft: f, By: "test"}); err != nil {
		t.Fatal(err)
	}
	w.Run(2 * time.Second)
	w.Lead("wardens-1", 2)
	w.Run(20 * time.Second)
	return w
}

func golden(t *testing.T, name, got string) {
	t.Helper()
	file := filepath.Join("testdata", name+".txt")
	if *update {
		if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if want, err := os.ReadFile(file); err != nil || got != string(want) {
		t.Errorf("%v; got\n%s\nwant\n%s", err, got, want)
	}
}

func TestStatusInWords(t *testing.T) {
	for _, test := range []struct {
		name string
		do   func(w *rehearse.World)
	}{
		{"status_lit", func(*rehearse.World) {}},
		{"status_leader_dark", func(w *rehearse.World) { w.Kill("wardens-1"); w.Run(300 * time.Millisecond) }},
		{"status_no_quorum", func(w *rehearse.World) { w.Kill("wardens-1"); w.Kill("wardens-3"); w.Run(300 * time.Millisecond) }},
		{"status_node_unknown", func(w *rehearse.World) { w.Cut("tern-1"); w.Run(2 * time.Second) }},
		{"status_stopped", func(w *rehearse.World) {
			names, _ := engine.Choose(w.State, nil)
			_ = w.Do(engine.StopMembers{Members: names})
			w.Run(2 * time.Second)
		}},
		{"status_retired", func(w *rehearse.World) { _ = w.Do(engine.Retire{}); w.Run(2 * time.Second) }},
	} {
		t.Run(test.name, func(t *testing.T) {
			w := world(t)
			test.do(w)
			var out bytes.Buffer
			(&app{out: &out}).printStatus(w.Snapshot())
			golden(t, test.name, out.String())
		})
	}
	t.Run("status_draft", func(t *testing.T) {
		var out bytes.Buffer
		(&app{out: &out}).printStatus(snapshot.OfDraft(ferries(), noon))
		golden(t, "status_draft", out.String())
	})
}

// TestStatusJSONKeepsItsNames guards what other programs rely on: every key of the design, with its type.
func TestStatusJSONKeepsItsNames(t *testing.T) {
	var out bytes.Buffer
	(&app{out: &out, json: true}).printStatus(world(t).Snapshot())
	var got struct {
		Field   *string    `json:"field"`
		State   *string    `json:"state"`
		Verdict *string    `json:"verdict"`
		At      *time.Time `json:"at"`
		Roles   []struct {
			Role        *string `json:"role"`
			Kind        *string `json:"kind"`
			Want        *int    `json:"want"`
			Ready       *int    `json:"ready"`
			Voters      int     `json:"voters"`
			VotesNeeded int     `json:"votes_needed"`
			Survives    *int    `json:"survives"`
			Leader      string  `json:"leader"`
		} `json:"roles"`
		Members []struct {
			Member  *string        `json:"member"`
			Role    *string        `json:"role"`
			Node    *string        `json:"node"`
			Zone    *string        `json:"zone"`
			Phase   *string        `json:"phase"`
			Writes  *bool          `json:"writes"`
			Address *string        `json:"address"`
			Ports   map[string]int `json:"ports"`
			PID     *int           `json:"pid"`
			Since   *time.Time     `json:"since"`
			Probe   *struct {
				OK        *bool    `json:"ok"`
				LatencyMS *float64 `json:"latency_ms"`
				Error     *string  `json:"error"`
			} `json:"probe"`
		} `json:"members"`
	}
	if err := json.Unmarshal(out.Bytes(), &got); err != nil {
		t.Fatal(err)
	}
	r, m := got.Roles[0], got.Members[0]
	if got.Field == nil || got.State == nil || got.Verdict == nil || got.At == nil || r.Role == nil || r.Kind == nil || r.Want == nil || r.Ready == nil || r.Survives == nil {
		t.Errorf("keys are missing:\n%s", out.String())
	}
	if m.Member == nil || m.Role == nil || m.Node == nil || m.Zone == nil || m.Phase == nil || m.Writes == nil || m.Address == nil || m.PID == nil ||
		m.Since == nil || m.Probe == nil || m.Probe.OK == nil || m.Probe.LatencyMS == nil || m.Probe.Error == nil {
		t.Errorf("keys of a member are missing:\n%s", out.String())
	}
	if r.Voters != 3 || r.VotesNeeded != 2 || *r.Survives != 1 || r.Leader != "wardens-1" || !*m.Writes || m.Ports["client"] != 7400 {
		t.Errorf("values are wrong:\n%s", out.String())
	}
}

func TestReviewInWords(t *testing.T) {
	w := world(t)
	draft := ferries()
	draft.Nodes = append(draft.Nodes, field.Node{Name: "gull-2", Zone: "north-quay"})
	draft.Role("crews").Members = 4
	draft.Role("crews").Program = &field.Program{Command: []string{"y"}, OnChange: field.OnRestart, Ports: draft.Role("crews").Program.Ports}
	draft.Place = map[field.RoleName][]field.NodeName{"crews": {"gull-2"}}
	for name, f := range map[string]*field.Field{"review_changes": draft, "review_nothing": ferries()} {
		review, err := review.Of(w.State, f)
		if err != nil {
			t.Fatal(err)
		}
		var out bytes.Buffer
		(&app{out: &out}).printReview(review)
		golden(t, name, out.String())
	}
}

func TestCountsInWords(t *testing.T) {
	found := []finding.Finding{{Severity: finding.Error}, {Severity: finding.Risk}, {Severity: finding.Risk}}
	for want, list := range map[string][]finding.Finding{"nothing found": nil, "1 error, 2 risks": found} {
		if got := finding.Counted(list); got != want {
			t.Errorf("got %q, want %q", got, want)
		}
	}
	if got := gateNames("wardens: quorum (1 of 2 ready), relays: first (0 of 1 ready)"); got != "wardens: quorum, relays: first" {
		t.Errorf("got %q", got)
	}
}

// TestCommandsExplainThemselves asks every command for help and every command for nonsense.
func TestCommandsExplainThemselves(t *testing.T) {
	run := func(args ...string) (string, string, int) {
		var out, errs bytes.Buffer
		code := Run(context.Background(), args, nil, &out, &errs, Screens{})
		return out.String(), errs.String(), code
	}
	t.Chdir(t.TempDir())
	for _, name := range []string{"open", "demo", "check", "review", "deploy", "status", "scale", "stop", "start", "restart", "retire", "journal", "agent", "schema", "version", "completion"} {
		out, _, code := run(name, "--help")
		if code != 0 || !strings.Contains(out, "Usage:") || !strings.Contains(out, name) {
			t.Errorf("%s --help: %d\n%s", name, code, out)
		}
		if _, errs, code := run(name, "--nonsense"); code != 2 || !strings.Contains(errs, "unknown flag: --nonsense") {
			t.Errorf("%s --nonsense: %d %s", name, code, errs)
		}
	}
	for _, name := range []string{"check", "review", "deploy", "status", "scale", "stop", "retire", "journal", "open"} {
		if _, errs, code := run(name); code != 2 || !strings.Contains(errs, "no field file is named, and this folder has none; name one: NAME.field.yaml") {
			t.Errorf("%s without a file: %d %s", name, code, errs)
		}
	}
	for args, want := range map[string]string{"kit chek x": "there is no `kit chek`; did you mean \"check\"?", "schema kits": "or `schema kit`", "kit show": "name one kit", "kit check": "name one folder"} {
		if _, errs, code := run(strings.Fields(args)...); code != 2 || !strings.Contains(errs, want) {
			t.Errorf("%s: %d %s", args, code, errs)
		}
	}
	for _, shell := range []string{"bash", "zsh", "fish"} {
		if out, _, code := run("completion", shell); code != 0 || len(out) < 500 {
			t.Errorf("completion %s: %d, %d bytes", shell, code, len(out))
		}
	}
	out, _, code := run("schema")
	var schema map[string]any
	if err := json.Unmarshal([]byte(out), &schema); code != 0 || err != nil || schema["$schema"] == nil {
		t.Errorf("schema: %d %v", code, err)
	}
	out, _, _ = run("version", "--json")
	if err := json.Unmarshal([]byte(out), &schema); err != nil {
		t.Errorf("version --json: %v\n%s", err, out)
	}
	out, _, code = run("check", "missing.field.yaml", "--json")
	if err := json.Unmarshal([]byte(out), &schema); code != 2 || err != nil || !strings.Contains(schema["error"].(string), "there is no such file") {
		t.Errorf("an error under --json: %d %v\n%s", code, err, out)
	}
}
