package fieldfile

import (
	"slices"
	"strings"
	"testing"

	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/resolve"
)

// make carries out an edit that a finding offers.
func (f *File) make(t *testing.T, e finding.Edit) *File {
	t.Helper()
	var data []byte
	var err error
	if e.Change != nil {
		data, err = f.Set(*e.Change)
	} else {
		data, err = f.Put(e.Puts...)
	}
	if err != nil {
		t.Fatalf("%s: %v", e.Text, err)
	}
	next, err := f.With(data)
	if err != nil {
		t.Fatalf("%s: %v", e.Text, err)
	}
	return next
}

// TestBrokenDraftsAreNamedAndMended breaks a sound draft in one way after the other: the finding must say so, and every
// edit that it offers must mend it, keep the comments and lead to nothing worse.
func TestBrokenDraftsAreNamedAndMended(t *testing.T) {
	const sound = `# the ferries
format: 1
field: ferries
nodes:
  - name: gull-{1..3}     # the quay
    zone: north
    size: {cpu: 2, memory: 1GiB, disk: 10GiB}
  - {name: tern-1, zone: south, size: {cpu: 2, memory: 1GiB}}
  - {name: skua-1, zone: light, size: {cpu: 2, memory: 1GiB}}
roles:
  wardens: {kit: warden, members: 3, room: {memory: 64MiB}}   # they vote
  relays:
    kit: relay            # they carry
    members: 3
    room: {memory: 64MiB}
    after: {wardens: quorum}
  crews:
    kit: crew
    members: 3
    room: {memory: 64MiB}
    calls: {store: wardens, queue: relays}
`
	replace := func(pairs ...string) string {
		text := sound
		for i := 0; i < len(pairs); i += 2 {
			if !strings.Contains(text, pairs[i]) {
				t.Fatalf("the draft has no %q", pairs[i])
			}
			text = strings.Replace(text, pairs[i], pairs[i+1], 1)
		}
		return text
	}
	for _, test := range []struct {
		name, text, what, says string
		severity               finding.Severity
		edits                  int
	}{
		{"sound", sound, "", "", "", 0},
		{"voters in one zone", replace("room: {memory: 64MiB}}   #", "where: 'zone == \"north\"', room: {memory: 64MiB}}   #"), "spread impossible", "are in one: if that zone fails", finding.Risk, 1},
		{"a majority in one zone", replace("members: 3, room", "members: 3, spread: none, room") + "place: {wardens: [gull-1, gull-2]}\n", "a majority of voters in one zone", "writes stop", finding.Risk, 1},
		{"memory overcommitted", replace("members: 3\n    room: {memory: 64MiB}\n    after", "members: 3\n    room: {memory: 960MiB}\n    after", "members: 3, room: {memory: 64MiB}", "members: 3, room: {memory: 600MiB}"), "over capacity", "too little memory", finding.Error, 2},
		{"a set that is too small", replace("- {name: skua-1, zone: light, size: {cpu: 2, memory: 1GiB}}", "- {name: skua, zones: [light], set: {most: 1}, size: {cpu: 2, memory: 1GiB}}", "members: 3\n    room: {memory: 64MiB}\n    calls", "members: 9\n    room: {memory: 600MiB}\n    calls"), "over capacity", "The only node of the set skua is there", finding.Error, 3},
		{"a cycle", replace("after: {wardens: quorum}", "after: {wardens: quorum, crews: all}"), "cycle", "relays waits for crews waits for relays", finding.Error, 2},
		{"a call of the kit", replace("{store: wardens, queue: relays}", "{store: wardens}"), "call not wired", "crews calls a queue", finding.Error, 1},
		{"a wrong call", replace("store: wardens", "store: relays"), "call does not fit", "wants store of it; relays provides queue", finding.Risk, 1},
		{"nobody to call", replace("kit: relay            # they carry\n    members: 3", "kit: relay            # they carry\n    members: 0"), "nobody to call", "crews waits for relays, which has no members", finding.Risk, 2},
		{"two voters", replace("members: 3, room", "members: 2, room"), "even number of voters", "survive 0 losses", finding.Risk, 2},
		{"ceilings", replace("room: {memory: 64MiB}\n    calls", "room: {memory: 64MiB}\n    ceiling: {memory: 1GiB}\n    calls"), "ceilings beyond the node", "may take", finding.Risk, 1},
		{"all taken out", replace("zone: north\n", "zone: north\n    out: flooded\n", "zone: south,", "zone: south, out: flooded,", "zone: light,", "zone: light, out: flooded,"), "over capacity", "taken out: gull-1 (flooded)", finding.Error, 1},
		{"where and apart", replace("members: 3, room", "members: 2, where: 'zone == \"south\"', apart: [crews], room", "room: {memory: 64MiB}\n    calls", "where: 'zone == \"south\"'\n    room: {memory: 64MiB}\n    calls"), "over capacity", "No node meets all of these: where: zone == \"south\"; apart from", finding.Error, 2},
		{"load", replace("roles:", "load: hevy\nroles:"), "unknown load profile", "no kit knows", finding.Risk, 1},
		{"idle", replace("roles:", "  - {name: heron-1, zone: light, price: 0.5, out: true}\nroles:"), "idle nodes", "cost 0.5 an hour", finding.Hint, 1},
		{"accepted", sound + "accepted:\n  - {finding: even number of voters, role: wardens, reason: so it is}\n", "accepted for nothing", "nothing of the kind", finding.Hint, 1},
	} {
		t.Run(test.name, func(t *testing.T) {
			file, err := Parse("ferries.field.yaml", []byte(test.text), nil)
			if err != nil {
				t.Fatal(err)
			}
			found := finding.All(resolve.Draft(file.Field, plan.Live{}, nil))
			if test.what == "" {
				if len(found) > 0 {
					t.Errorf("a sound draft: %+v", found)
				}
				return
			}
			i := slices.IndexFunc(found, func(f finding.Finding) bool { return f.What == test.what })
			if i < 0 || found[i].Severity != test.severity || !strings.Contains(found[i].Text, test.says) {
				t.Fatalf("got %+v", found)
			}
			if f := found[i]; len(f.Edits) < test.edits || f.Mend == "" {
				t.Errorf("%d edits are offered: %+v", len(f.Edits), f)
			}
			for _, e := range found[i].Edits {
				next := file.make(t, e)
				left := finding.All(next.Field)
				for _, l := range left {
					if l.What == test.what && l.Role == found[i].Role && l.Text == found[i].Text {
						t.Errorf("%s leaves: %s", e.Text, l.Text)
					}
					if l.Severity == finding.Error && !finding.HasErrors(found) {
						t.Errorf("%s leads to: %s", e.Text, l.Text)
					}
				}
				for _, line := range strings.Split(test.text, "\n") {
					if _, comment, has := strings.Cut(line, "  #"); has && !strings.Contains(string(next.Bytes), comment) {
						t.Errorf("%s: the comment %q is gone", e.Text, comment)
					}
				}
			}
		})
	}
}

func TestAFindingIsAcceptedWithAReason(t *testing.T) {
	text := strings.Replace(ferry, "members: 3 ", "members: 2 ", 1)
	file, err := Parse("ferry.field.yaml", []byte(text), nil)
	if err != nil {
		t.Fatal(err)
	}
	found := finding.All(resolve.Draft(file.Field, plan.Live{}, nil))
	i := slices.IndexFunc(found, func(f finding.Finding) bool { return f.What == "even number of voters" })
	if _, err := found[i].Acceptance("  "); err == nil {
		t.Error("nothing was said why")
	}
	e, err := found[i].Acceptance(`two quays: "that is all"`)
	if err != nil {
		t.Fatal(err)
	}
	next := file.make(t, e)
	after := finding.All(next.Field)
	j := slices.IndexFunc(after, func(f finding.Finding) bool { return f.What == "even number of voters" })
	if len(after) != len(found) || after[j].Accepted != `two quays: "that is all"` || j < i {
		t.Errorf("got %+v", after)
	}
	if _, err := (&finding.Finding{Severity: finding.Error}).Acceptance("so be it"); err == nil {
		t.Error("an error was accepted")
	}
}
