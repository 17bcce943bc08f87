package fieldfile

import (
	"strings"
	"testing"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/resolve"
)

const withSet = `format: 1
field: ferries
nodes:
  - {name: gull-1, zone: north, size: {cpu: 1}}
  # made when the crews want them
  - name: skua          # of the second hall
    zones: [north, south]
    set: {least: 1, most: 4}   # no more
    size: {cpu: 2}
roles:
  crews: {kit: crew, members: 2, spread: none, room: {cpu: 1}, calls: {store: wardens, queue: relays}}
  wardens: {kit: warden, members: 1}
  relays: {kit: relay, members: 1}
place: {wardens: [skua-1]}
`

func nodesOf(f *File) string {
	var names []string
	for _, n := range resolve.Draft(f.Field, plan.Live{}, nil).Nodes {
		names = append(names, string(n.Name)+"@"+string(n.Zone))
	}
	return strings.Join(names, " ")
}

func TestASetHasTheNodesThatMembersWant(t *testing.T) {
	for members, want := range map[string]string{
		"2":  "gull-1@north skua-1@north",
		"3":  "gull-1@north skua-1@north",
		"4":  "gull-1@north skua-1@north skua-2@south",
		"40": "gull-1@north skua-1@north skua-2@south skua-3@north skua-4@south",
	} {
		f, err := Parse("ferries.field.yaml", []byte(strings.Replace(withSet, "members: 2", "members: "+members, 1)), nil)
		if err != nil {
			t.Fatal(err)
		}
		if got := nodesOf(f); got != want {
			t.Errorf("for %s crews: %s, want %s", members, got, want)
		}
		if n := len(f.Field.Nodes); n != 2 {
			t.Errorf("for %s crews: the file declares 2 nodes that are there in any case, and was read with %d", members, n)
		}
		if got := f.NodeEntry("skua-2"); got != "skua" {
			t.Errorf("skua-2 comes from %q", got)
		}
	}
}

// TestWhatIsSaidOfOneOfASetIsSaidOfAll edits through a node of a set: nothing is divided, comments stay.
func TestWhatIsSaidOfOneOfASetIsSaidOfAll(t *testing.T) {
	f, err := Parse("ferries.field.yaml", []byte(withSet), nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name     string
		edit     func() ([]byte, error)
		from, to string
	}{
		{"a size", func() ([]byte, error) { return f.Put(put("4", "nodes", "skua-3", "size", "cpu")) }, "size: {cpu: 2}", "size: {cpu: 4}"},
		{"the most", func() ([]byte, error) { return f.Put(put("9", "nodes", "skua", "set", "most")) }, "most: 4", "most: 9"},
		{"a name", func() ([]byte, error) {
			return f.Rename(arrange.Rename{What: arrange.ANode, From: "skua", To: "auk"})
		}, "name: skua ", "name: auk "},
		{"a zone", func() ([]byte, error) {
			return f.Rename(arrange.Rename{What: arrange.AZone, From: "south", To: "east"})
		}, "zones: [north, south]", "zones: [north, east]"},
		{"all of it", func() ([]byte, error) { return f.Put(put("", "place"), put("", "nodes", "skua")) },
			withSet[strings.Index(withSet, "  # made"):strings.Index(withSet, "roles:")], ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			data, err := c.edit()
			if err != nil {
				t.Fatal(err)
			}
			want := strings.Replace(withSet, c.from, c.to, 1)
			if c.name == "a name" {
				want = strings.Replace(want, "[skua-1]", "[auk-1]", 1)
			}
			if c.name == "all of it" {
				want = strings.Replace(want, "place: {wardens: [skua-1]}\n", "", 1)
			}
			if string(data) != want {
				t.Errorf("got\n%s\nwant\n%s", data, want)
			}
		})
	}
	if _, err := f.Put(put("1", "nodes", "skua", "set", "most"), put("3", "nodes", "skua", "set", "least")); err == nil || !strings.Contains(err.Error(), "3 nodes at the least and 1 at the most") {
		t.Errorf("more at the least than at the most: %v", err)
	}
}
