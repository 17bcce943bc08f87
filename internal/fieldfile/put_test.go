package fieldfile

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"lanternfield/internal/core/arrange"
)

const ferry = `# the ferry
format: 1
field: ferry            # its name

nodes:
  # the quay
  - name: gull-{1..3}   # three of them
    zone: north
    size: {cpu: 2, memory: 1GiB}
  - {name: tern-1, zone: south}

roles:
  # who agrees
  wardens:              # three
    kit: warden
    members: 3          # odd

    room:
      memory: 64MiB     # enough
  crews: {kit: crew, members: 2, calls: {store: wardens, queue: relays}}
  relays:
    kit: relay
    where: zone == "north" or zone == 'south'
    settings:
      keeps: 8MiB       # not much
`

func put(value string, path ...string) arrange.Put { return arrange.Put{Path: path, Value: value} }

func TestPutWritesOnlyWhatItMust(t *testing.T) {
	for _, test := range []struct {
		name     string
		puts     []arrange.Put
		from, to string // what is replaced in the file; the rest stays
	}{
		{"a value", []arrange.Put{put("5", "roles", "wardens", "members")}, "members: 3          # odd", "members: 5          # odd"},
		{"a value in braces", []arrange.Put{put("7", "roles", "crews", "members")}, "members: 2", "members: 7"},
		{"a map instead of a number", []arrange.Put{put("{per-zone: 1}", "roles", "crews", "members")}, "members: 2", "members: {per-zone: 1}"},
		{"a new key", []arrange.Put{put("node", "roles", "wardens", "spread")}, "    members: 3          # odd\n", "    members: 3          # odd\n    spread: node\n"},
		{"a new key in braces", []arrange.Put{put("none", "roles", "crews", "spread")}, "members: 2, calls", "members: 2, spread: none, calls"},
		{"a key and what is above it", []arrange.Put{put("1s", "roles", "wardens", "settings", "election")}, "      memory: 64MiB     # enough\n", "      memory: 64MiB     # enough\n    settings: {election: 1s}\n"},
		{"a key beside another", []arrange.Put{put("1", "roles", "wardens", "room", "cpu")}, "# enough\n", "# enough\n      cpu: 1\n"},
		{"the only key below another", []arrange.Put{put("", "roles", "wardens", "room", "memory")}, "    room:\n      memory: 64MiB     # enough\n", ""},
		{"a key in braces taken out", []arrange.Put{put("", "roles", "crews", "members")}, "members: 2, ", ""},
		{"the last in braces", []arrange.Put{put("", "nodes", "tern-1", "zone")}, ", zone: south", ""},
		{"a role with its comment", []arrange.Put{put("", "roles", "crews"), put("", "roles", "wardens")}, "  # who agrees\n  wardens:              # three\n    kit: warden\n    members: 3          # odd\n\n    room:\n      memory: 64MiB     # enough\n  crews: {kit: crew, members: 2, calls: {store: wardens, queue: relays}}\n", ""},
		{"a new role", []arrange.Put{put("kit: lookout\nmembers: 1\nknows: {store: wardens}\n", "roles", "lookout")}, "      keeps: 8MiB       # not much\n", "      keeps: 8MiB       # not much\n  lookout:\n    kit: lookout\n    members: 1\n    knows: {store: wardens}\n"},
		{"a node", []arrange.Put{put("{name: tern-2, zone: south}", "nodes", "+")}, "zone: south}\n", "zone: south}\n  - {name: tern-2, zone: south}\n"},
		{"a node in lines", []arrange.Put{put("name: tern-2\nzone: south", "nodes", "+")}, "zone: south}\n", "zone: south}\n  - name: tern-2\n    zone: south\n"},
		{"one of a range", []arrange.Put{put("broken", "nodes", "gull-2", "out")}, "  - name: gull-{1..3}   # three of them\n    zone: north\n    size: {cpu: 2, memory: 1GiB}\n",
			"  - name: gull-1   # three of them\n    zone: north\n    size: {cpu: 2, memory: 1GiB}\n  - name: gull-2   # three of them\n    zone: north\n    size: {cpu: 2, memory: 1GiB}\n    out: broken\n  - name: gull-3   # three of them\n    zone: north\n    size: {cpu: 2, memory: 1GiB}\n"},
		{"the last of a range taken out", []arrange.Put{put("", "nodes", "gull-3")}, "gull-{1..3}", "gull-{1..2}"},
		{"a whole range", []arrange.Put{put("true", "nodes", "gull-{1..3}", "out")}, "memory: 1GiB}\n", "memory: 1GiB}\n    out: true\n"},
		{"accepted", []arrange.Put{put("{finding: even number of voters, reason: so be it}", "accepted", "+")}, "      keeps: 8MiB       # not much\n", "      keeps: 8MiB       # not much\naccepted:\n  - {finding: even number of voters, reason: so be it}\n"},
		{"at the top", []arrange.Put{put("heavy", "load")}, "\nnodes:", "load: heavy\n\nnodes:"},
		{"a nested list", []arrange.Put{put("crews", "roles", "wardens", "apart", "+")}, "# enough\n", "# enough\n    apart:\n      - crews\n"},
		{"a wire", []arrange.Put{put("", "roles", "crews", "calls", "store"), put("wardens", "roles", "crews", "knows", "store")}, "calls: {store: wardens, queue: relays}}", "calls: {queue: relays}, knows: {store: wardens}}"},
	} {
		t.Run(test.name, func(t *testing.T) {
			if !strings.Contains(ferry, test.from) {
				t.Fatalf("the file has no %q", test.from)
			}
			for _, end := range []string{"\n", "\r\n"} {
				file, err := Parse("ferry.field.yaml", []byte(strings.ReplaceAll(ferry, "\n", end)), nil)
				if err != nil {
					t.Fatal(err)
				}
				got, err := file.Put(test.puts...)
				if test.name == "a wire" || test.name == "a role with its comment" { // crews then cannot be rendered, but that is no error of the file
					if err != nil && test.name == "a wire" {
						t.Fatal(err)
					}
				}
				if err != nil {
					t.Fatal(err)
				}
				want := strings.Replace(ferry, test.from, test.to, 1)
				if strings.ReplaceAll(string(got), "\r\n", "\n") != want || strings.Count(string(got), end) != strings.Count(string(got), "\n") {
					t.Errorf("got\n%s\nwant\n%s", got, want)
				}
			}
		})
	}
}

func TestWhatCannotBePutIsSaid(t *testing.T) {
	file, err := Parse("ferry.field.yaml", []byte(ferry), nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		put  arrange.Put
		want string
	}{
		{put("many", "roles", "wardens", "members"), "write a number, each-node"},
		{put("true", "nodes", "heron-1", "out"), "the file has no node heron-1"},
		{put("5", "roles", "wardens", "memebers"), "unknown key"},
		{put("a\nb", "roles", "crews", "room"), "written in braces"},
	} {
		if _, err := file.Put(test.put); err == nil || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%v: got %v, want %q", test.put, err, test.want)
		}
	}
}

func TestAVariableIsChangedWhereItStands(t *testing.T) {
	text := strings.Replace(ferry, "members: 3 ", "members: ${votes} ", 1) + "variables: {votes: 3}\n"
	file, err := Parse("ferry.field.yaml", []byte(text), nil)
	if err != nil {
		t.Fatal(err)
	}
	got, err := file.Put(put("5", "roles", "wardens", "members"))
	if err != nil || string(got) != strings.Replace(text, "votes: 3", "votes: 5", 1) {
		t.Errorf("got %v\n%s", err, got)
	}
	if got, err := file.Set(arrange.Change{Role: "wardens", Members: 5}); err != nil || string(got) != strings.Replace(text, "votes: 3", "votes: 5", 1) {
		t.Errorf("a count: got %v\n%s", err, got)
	}
	chosen := &Choices{Env: "staging", Name: "ferry.staging.choices.yaml", doc: parse("ferry.staging.choices.yaml", []byte("votes: 3\n"))}
	file, err = Parse("ferry.field.yaml", []byte(text), chosen)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := file.Set(arrange.Change{Role: "wardens", Members: 5}); err == nil || !strings.Contains(err.Error(), "is the variable votes, which ferry.staging.choices.yaml chooses; change it there") {
		t.Errorf("what an environment chooses was changed for all: %v", err)
	}
}

func TestRenamingTakesReferencesAlong(t *testing.T) {
	text := ferry + "place: {wardens: [gull-1], crews: [gull-2]}\naccepted:\n  - {finding: x, role: wardens, reason: y}\nzones: {north: {about: up}}\n"
	for _, test := range []struct {
		r    arrange.Rename
		want func(string) string
	}{
		{arrange.Rename{What: arrange.ARole, From: "wardens", To: "agreers"}, func(s string) string { return strings.ReplaceAll(s, "wardens", "agreers") }},
		{arrange.Rename{What: arrange.AZone, From: "north", To: "harbour"}, func(s string) string { return strings.ReplaceAll(s, "north", "harbour") }},
		{arrange.Rename{What: arrange.ANode, From: "gull-{1..3}", To: "skua-{5..7}"}, func(s string) string {
			return strings.NewReplacer("gull-{1..3}", "skua-{5..7}", "gull-1", "skua-5", "gull-2", "skua-6").Replace(s)
		}},
	} {
		file, err := Parse("ferry.field.yaml", []byte(text), nil)
		if err != nil {
			t.Fatal(err)
		}
		got, err := file.Rename(test.r)
		if err != nil || string(got) != test.want(text) {
			t.Errorf("%v: got %v\n%s", test.r, err, got)
		}
	}
	file, _ := Parse("ferry.field.yaml", []byte(text), nil)
	for _, test := range []struct {
		r    arrange.Rename
		want string
	}{
		{arrange.Rename{What: arrange.ARole, From: "wardens", To: "crews"}, "there is a role crews already"},
		{arrange.Rename{What: arrange.ANode, From: "gull-2", To: "skua"}, "rename the range"},
		{arrange.Rename{What: arrange.ANode, From: "gull-{1..3}", To: "skua"}, "keeps its length"},
		{arrange.Rename{What: arrange.AZone, From: "north", To: "south"}, "there is a zone south already"},
		{arrange.Rename{What: arrange.ARole, From: "wardens", To: "The Keepers"}, "cannot be a role's name"},
		{arrange.Rename{What: arrange.ANode, From: "gull-{1..3}", To: "tern-{1..3}"}, "there is a node tern-1 already"},
		{arrange.Rename{What: arrange.AZone, From: "west", To: "east"}, "the file has no zone west"},
	} {
		if _, err := file.Rename(test.r); err == nil || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%v: got %v, want %q", test.r, err, test.want)
		}
	}
}

// TestRandomEditsKeepEverythingElse edits all examples at random, and looks whether every comment is still there, and
// every line that speaks of something else.
func TestRandomEditsKeepEverythingElse(t *testing.T) {
	files, _ := filepath.Glob("testdata/*.field.yaml")
	more, _ := filepath.Glob("../../examples/*.field.yaml")
	files = append(append(files, more...), "testdata/good/whole.field.yaml")
	rng := rand.New(rand.NewPCG(7, 7))
	edits := 0
	for _, name := range files {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		for range 60 {
			file, err := Parse(name, data, nil)
			if err != nil {
				t.Fatal(err)
			}
			role := file.Field.Roles[rng.IntN(len(file.Field.Roles))]
			node := file.Field.Nodes[rng.IntN(len(file.Field.Nodes))]
			r := []string{"roles", string(role.Name)}
			p := []arrange.Put{
				put(fmt.Sprint(1+rng.IntN(3)), append(r, "members")...),
				put("node", append(r, "spread")...),
				put("words: of two", append(r, "about")...),
				put(`"words: of two"`, append(r, "about")...),
				put("96MiB", append(r, "room", "memory")...),
				put("", append(r, "room")...),
				put("", append(r, "about")...),
				put("away", "nodes", string(node.Name), "out"),
				put("{name: heron-1}", "nodes", "+"),
			}[rng.IntN(9)]
			got, err := file.Put(p)
			if err != nil {
				if !strings.Contains(err.Error(), "pins") && !strings.Contains(err.Error(), "waits for") && !strings.Contains(err.Error(), "two") {
					t.Errorf("%s: %v: %v", name, p, err)
				}
				continue
			}
			edits++
			for _, line := range strings.Split(string(data), "\n") {
				if i := strings.Index(line, "#"); i >= 0 && strings.TrimSpace(line[:i]) == "" && !strings.Contains(string(got), line) {
					t.Errorf("%s: %v: the comment is gone: %s", name, p, line)
				}
			}
			if before, after := strings.Count(string(data), "\n"), strings.Count(string(got), "\n"); after < before-4 || after > before+30 {
				t.Errorf("%s: %v: %d lines became %d", name, p, before, after)
			}
		}
	}
	if edits < 200 {
		t.Errorf("only %d edits were made", edits)
	}
}
