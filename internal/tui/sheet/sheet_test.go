package sheet

import (
	"slices"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/footprint"
	"lanternfield/internal/fieldfile"
)

const ferry = `format: 1
field: ferry
load: heavy
nodes:
  - {name: "gull-{1..2}", zone: north, size: {cpu: 2, memory: 1GiB}, labels: {disk: nvme, rack: "7"}, price: 0.5}
roles:
  wardens: {kit: warden, members: 3, room: {memory: 64MiB}, apart: [crews]}
  relays: {kit: relay, members: each-node}
  crews: {kit: crew, members: 2, calls: {store: wardens, queue: relays}, settings_of: {crews-1: {takes: 1s}}}
  ledger: {external: {addresses: ["db:5432", "db:5433"], authority: them}}
`

func ferryField(t *testing.T) *field.Field {
	t.Helper()
	f, err := fieldfile.Parse("ferry.field.yaml", []byte(ferry), nil)
	if err != nil {
		t.Fatal(err)
	}
	return f.Field
}

func find(t *testing.T, rows []Row, label string) Row {
	t.Helper()
	i := slices.IndexFunc(rows, func(r Row) bool { return r.Label == label })
	if i < 0 {
		t.Fatalf("there is no row %q", label)
	}
	return rows[i]
}

func TestASheetSaysWhatTheFileSays(t *testing.T) {
	f := ferryField(t)
	kits := []string{"crew", "warden"}
	for _, test := range []struct {
		role        field.RoleName
		label       string
		value, note string
		kind        Kind
		options     string
	}{
		{"wardens", "members", "3", "", Plain, ""},
		{"wardens", "votes", "true", "", Choice, "true false"},
		{"wardens", "kit", "warden", "", Choice, "crew warden"},
		{"wardens", "room memory", "64MiB", "", Plain, ""},
		{"wardens", "apart", "crews", "", Names, ""},
		{"wardens", "election", "2s", "from the load profile", Plain, ""},
		{"relays", "members", "each-node", "one on every node: 2", Plain, ""},
		{"crews", "calls queue", "relays", "wants queue", Wire, "relays ledger"},
		{"crews", "another to know", "", "", Wire, "wardens relays ledger"},
		{"ledger", "addresses", "db:5432, db:5433", "", Names, ""},
		{"ledger", "authority", "them", "", Words, ""},
	} {
		r := find(t, OfRole(f, f.Role(test.role), kits, false), test.label)
		if r.Value != test.value || r.Note != test.note || r.Kind != test.kind || strings.Join(r.Options, " ") != test.options {
			t.Errorf("%s %s: got %+v", test.role, test.label, r)
		}
	}
	few, all := OfRole(f, f.Role("crews"), kits, false), OfRole(f, f.Role("crews"), kits, true)
	if find(t, few, "2 more settings").Kind != More || len(all) <= len(few) {
		t.Errorf("%d rows with the simple settings, %d with all", len(few), len(all))
	}
	if r := find(t, OfMember(f, f.Role("crews"), "crews-1", f.Node("gull-1"), 1), "takes"); r.Value != "1s" || r.Note != "from the member" || strings.Join(r.Path, ".") != "roles.crews.settings_of.crews-1.takes" {
		t.Errorf("got %+v", r)
	}
	if r := find(t, OfMember(f, f.Role("relays"), "relays-1", f.Node("gull-1"), 1), "keeps"); r.Value != "128MiB" || r.Note != "from the node's hardware" {
		t.Errorf("got %+v", r)
	}
	node := OfNode(f, f.Node("gull-2"), "gull-{1..2}")
	if r := find(t, node, "name"); r.Value != "gull-{1..2}" || r.Kind != Rename || !strings.Contains(r.Note, "one of a range") {
		t.Errorf("got %+v", r)
	}
	if find(t, node, "labels").Value != "{disk: nvme, rack: 7}" || find(t, node, "price").Value != "0.5" || find(t, node, "size memory").Value != "1GiB" {
		t.Errorf("got %+v", node)
	}
	if find(t, OfZone(f, "north"), "name").Value != "north" {
		t.Error("the zone has no name")
	}
	whole := OfField(f, []Variable{{Name: "crews", Value: "2", Note: "the file's default"}}, footprint.Footprint{Members: 4, Nodes: 2}, footprint.Footprint{Members: 3, Nodes: 2})
	if r := find(t, whole, "load"); r.Value != "heavy" || !slices.Contains(r.Options, "light") {
		t.Errorf("got %+v", r)
	}
	if r := find(t, whole, "members"); r.Kind != Told || r.Note != "now 3 on 2 nodes" {
		t.Errorf("got %+v", r)
	}
}

func TestARowSaysWhatIsToBeWritten(t *testing.T) {
	for _, test := range []struct {
		kind        Kind
		value, want string
	}{
		{Words, "plain words", "plain words"},
		{Words, "words: of two", `"words: of two"`},
		{Words, "3", `"3"`},
		{Words, "true", `"true"`},
		{Words, "- dash", `"- dash"`},
		{Plain, " 64MiB ", "64MiB"},
		{Names, "relays,crews  pier", "[relays, crews, pier]"},
		{Names, "", ""},
	} {
		got := Row{Kind: test.kind, Path: []string{"x"}}.Puts(test.value)
		if len(got) != 1 || got[0].Value != test.want {
			t.Errorf("%q: got %+v, want %q", test.value, got, test.want)
		}
	}
}

// TestSeveralNodesAreChangedAtOnce lists what two nodes share, and what it would write for both.
func TestSeveralNodesAreChangedAtOnce(t *testing.T) {
	f := ferryField(t)
	f.Ground = field.Ground{Kind: field.GroundSSH, User: "harbour"}
	f.Nodes = []field.Node{{Name: "gull-1", Zone: "north", Price: 0.5}, {Name: "gull-2", Zone: "south", Price: 0.5, Ground: field.Ground{Kind: field.GroundSSH, User: "root"}}, {Name: "skua", Ground: field.Ground{Kind: field.GroundJoin}}}
	of := func(names ...int) []Row {
		var nodes []*field.Node
		for _, i := range names {
			nodes = append(nodes, &f.Nodes[i])
		}
		return OfNodes(f, nodes)
	}
	rows := of(0, 1)
	if r := find(t, rows, "zone"); r.Value != "" || r.Note != "they differ: north, south" {
		t.Errorf("the zone: %+v", r)
	}
	if r := find(t, rows, "price"); r.Value != "0.5" || r.Note != "" {
		t.Errorf("the price: %+v", r)
	}
	r := find(t, rows, "user")
	var puts []string
	for _, p := range r.Puts("tide") {
		puts = append(puts, strings.Join(p.Path, " ")+" = "+p.Value)
	}
	if want := []string{"nodes gull-1 ground user = tide", "nodes gull-2 ground user = tide"}; !slices.Equal(puts, want) {
		t.Errorf("%q", puts)
	}
	if r := find(t, rows, "take the 2 nodes out of the file"); r.Kind != Drop || len(r.Puts("")) != 2 {
		t.Errorf("%+v", r)
	}
	if slices.ContainsFunc(rows, func(r Row) bool { return r.Kind == Rename }) || rows[0].Group != "each of the nodes" || slices.ContainsFunc(rows, func(r Row) bool { return r.Label == "address" }) {
		t.Errorf("%+v", rows[0])
	}
	if slices.ContainsFunc(of(0, 2), func(r Row) bool { return r.Label == "user" }) {
		t.Error("a machine that joins is said to be logged in to")
	}
	if of() != nil {
		t.Error("no nodes")
	}
	one := OfNode(f, &f.Nodes[0], "gull-1")
	if r := find(t, one, "user"); r.Value != "" || r.Note != "harbour, as the field says" {
		t.Errorf("%+v", r)
	}
}
