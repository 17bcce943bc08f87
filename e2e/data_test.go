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
