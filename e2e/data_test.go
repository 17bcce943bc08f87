package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// TestKeptDataReturns scales workers in and out again: what they wrote stays, comes back to them under their own names,
// and ends when it is kept no longer, or with the field.
func TestKeptDataReturns(t *testing.T) {
	t.Parallel()
	content := `format: 1
field: kept
nodes: [{name: "gull-{1..3}", zone: north-quay}]
roles:
  books:
    members: 3
    spread: node
    data: {keep: true}
    program:
      command: [sh, -c, 'echo $LANTERNFIELD_MEMBER >> data/book; exec sleep 600']
`
	x := newTrial(t, content)
	x.must("deploy", x.file, "--yes")
	book := func(member, where string) string {
		files, _ := filepath.Glob(filepath.Join(x.state, "kept", "nodes", "*", where))
		for _, f := range files {
			if strings.Contains(f, "/"+member+"/") {
				data, _ := os.ReadFile(f)
				return strings.TrimSpace(string(data))
			}
		}
		return "none"
	}
	const live, aside = "members/*/data/book", "kept/*/book"
	x.until("all have written", 20*time.Second, func() bool { return book("books-2", live) == "books-2" && book("books-3", live) == "books-3" })

	x.contains(x.must("scale", x.file, "books", "1", "--yes"), "its data is kept there")
	if got := book("books-3", aside); got != "books-3" {
		t.Fatalf("the data of books-3 that was kept is %q", got)
	}
	x.contains(x.must("status", x.file), "kept: the data of books-2 on", "kept: the data of books-3 on")

	x.contains(x.must("scale", x.file, "books", "3", "--yes"), "start books-2 again", "with the data that was kept of it")
	x.until("both have written again, to what they had", 20*time.Second, func() bool {
		return book("books-2", live) == "books-2\nbooks-2" && book("books-3", live) == "books-3\nbooks-3"
	})
	if names := x.names(); !slices.Equal(names, []string{"books-1", "books-2", "books-3"}) {
		t.Errorf("members are %v", names)
	}

	x.must("scale", x.file, "books", "2", "--yes")
	file, err := os.ReadFile(x.file)
	if err != nil {
		t.Fatal(err)
	}
	x.write(strings.Replace(string(file), "keep: true", "keep: false", 1))
	x.contains(x.must("deploy", x.file, "--yes"), "delete the data kept of books-")
	if a, b := book("books-2", aside), book("books-3", aside); a != "none" || b != "none" {
		t.Errorf("data that is kept no longer is left: %q %q", a, b)
	}
	var s struct{ Kept []any }
	if err := json.Unmarshal([]byte(x.must("status", x.file, "--json")), &s); err != nil || len(s.Kept) > 0 {
		t.Errorf("status still lists %v (%v)", s.Kept, err)
	}
}

// TestNodesOfASetComeAndGo scales workers beyond what is there and back: agents come with the members that want them, and
// end with the last.
func TestNodesOfASetComeAndGo(t *testing.T) {
	t.Parallel()
	x := newTrial(t, `format: 1
field: sets
nodes:
  - {name: gull-1, zone: north-quay, size: {cpu: 2}}
  - {name: skua, zones: [north-quay, south-quay], set: {most: 3}, size: {cpu: 2}}
roles:
  crews:
    members: 2
    spread: none
    room: {cpu: 1}
    program: {command: [sleep, "600"]}
`)
	agents := func() string {
		folders, _ := filepath.Glob(filepath.Join(x.state, "sets", "nodes", "*", "agent", "agent.json"))
		var names []string
		for _, f := range folders {
			names = append(names, filepath.Base(filepath.Dir(filepath.Dir(f))))
		}
		return strings.Join(names, " ")
	}
	x.must("deploy", x.file, "--yes")
	if got := agents(); got != "gull-1" {
		t.Errorf("agents of %s run", got)
	}
	x.contains(x.must("scale", x.file, "crews", "5", "--yes"), "start the agent of skua-1", "start the agent of skua-2")
	if got := agents(); got != "gull-1 skua-1 skua-2" || len(x.agents()) != 3 {
		t.Errorf("agents of %s run", got)
	}
	out, code := x.try(time.Minute, "scale", x.file, "crews", "9", "--yes")
	if x.contains(out, "crews-9 fits nowhere", "All 3 nodes of the set skua are there", "let the set have more nodes"); code != 1 {
		t.Errorf("exit status %d", code)
	}
	x.contains(x.must("scale", x.file, "crews", "3", "--yes"), "the draft no longer needs skua-2", "end the agent of skua-2 and remove its folder")
	x.until("the agent of skua-2 has ended", 20*time.Second, func() bool { return agents() == "gull-1 skua-1" && len(x.agents()) == 2 })
	if s := x.status(); s.State != "converged" || len(s.Members) != 3 {
		t.Errorf("in the end: %s, %d members", s.State, len(s.Members))
	}
}

// TestFieldsShareANode deploys two fields on the same machine: what one keeps there, the other is not given.
func TestFieldsShareANode(t *testing.T) {
	t.Parallel()
	content := `format: 1
field: FIELD
nodes: [{name: gull-1, size: {cpu: 2}, shared: true}]
roles:
  crews:
    members: 1
    room: {cpu: 1.5}
    program: {command: [sleep, "600"]}
`
	x := newTrial(t, strings.Replace(content, "FIELD", "first", 1))
	second := filepath.Join(x.dir, "second.field.yaml")
	if err := os.WriteFile(second, []byte(strings.Replace(content, "FIELD", "second", 1)), 0o644); err != nil {
		t.Fatal(err)
	}
	x.must("check", second)
	x.must("deploy", x.file, "--yes")
	out, code := x.try(time.Minute, "deploy", second, "--yes")
	if x.contains(out, "crews-1 fits nowhere: too little CPU: gull-1 (0.5 of 0.5 free, 1.5 wanted)", "Members of first keep a part of 1 of these nodes"); code != 1 {
		t.Errorf("exit status %d", code)
	}
	x.must("retire", x.file, "--yes")
	x.must("deploy", second, "--yes")
	if out, code = x.try(time.Minute, "check", x.file); code != 1 {
		t.Errorf("exit status %d: %s", code, out)
	}
	x.contains(out, "Members of second keep a part")
	x.must("retire", second, "--yes")
}
