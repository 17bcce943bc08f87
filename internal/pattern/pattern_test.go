package pattern

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/fieldfile"
)

func TestEveryPatternMakesASoundField(t *testing.T) {
	for _, p := range All() {
		if p.Err != nil || p.About == "" {
			t.Fatalf("%s: %v %q", p.Name, p.Err, p.About)
		}
		for _, nodes := range []string{"1", "3", "north 3, south 3, light 2", "a 2, b 2"} {
			for _, survive := range Survives {
				zones, err := ParseZones(nodes)
				if err != nil {
					t.Fatal(err)
				}
				o, err := p.Make(Answers{Name: "mine", Zones: zones, Size: field.Size{CPU: 4, Memory: 8 << 30}, Load: "heavy", Survive: survive})
				if err != nil {
					t.Fatalf("%s on %s: %v", p.Name, nodes, err)
				}
				possible := survive == Nothing || survive == OneNode && nodes != "1" || survive == OneZone && len(zones) == 3 ||
					survive == TwoNodes && nodes == "north 3, south 3, light 2"
				if !hasVoters(o.File.Field) {
					possible = possible || survive == OneZone && len(zones) == 2 || survive == TwoNodes && len(zones) == 2 || survive == TwoNodes && nodes == "3"
				}
				if o.Kept != possible && !(survive == TwoNodes && !possible) {
					t.Errorf("%s on %s shall survive %s: kept %v: %v\n%s", p.Name, nodes, survive, o.Kept, o.Says, o.Data)
				}
				for _, f := range finding.All(o.File.Field) {
					if f.Severity == finding.Error || o.Kept && survive == OneZone && f.Severity == finding.Risk {
						t.Errorf("%s on %s, %s: %s", p.Name, nodes, survive, f.Text)
					}
				}
				if strings.Contains(string(o.Data), "pattern:") || !strings.Contains(string(o.Data), "# ") || !strings.Contains(string(o.Data), "load: heavy") {
					t.Errorf("%s: the file is not as somebody would write it:\n%s", p.Name, o.Data)
				}
			}
		}
	}
}

func hasVoters(f *field.Field) bool {
	return slices.ContainsFunc(f.Roles, func(r field.Role) bool { return r.Votes })
}

func TestTheAnswersSetCountsAndSpread(t *testing.T) {
	p, err := Find("demo-service")
	if err != nil {
		t.Fatal(err)
	}
	zones, _ := ParseZones("north 3, south 3, light 2")
	o, err := p.Make(Answers{Name: "ferries", Zones: zones, Survive: TwoNodes})
	if err != nil {
		t.Fatal(err)
	}
	if r := o.File.Field.Role("keepers"); r.Members != 5 || o.File.Field.Role("carriers").Members != 3 || o.File.Field.Name != "ferries" || len(o.File.Field.Nodes) != 8 {
		t.Errorf("got %+v\n%s", r, o.Data)
	}
	shards, _ := Find("demo-shards")
	o, err = shards.Make(Answers{Name: "x", Zones: zones, Survive: OneNode, Variables: map[string]string{"shards": "7"}})
	if err != nil || o.File.Field.Role("shards").Members != 7 || !strings.Contains(string(o.Data), "members: ${shards}") {
		t.Errorf("got %v\n%s", err, o.Data)
	}
	if _, err := Find("servise"); err == nil || !strings.Contains(err.Error(), `did you mean "service"?`) {
		t.Errorf("got %v", err)
	}
	for text, want := range map[string]string{"": "at least one node", "north many": "is not a number of nodes", "north 3, north 2": "twice", "North 3": "cannot name a zone", "north 3 4": "is not a zone", "a 9999, b 9999": "at most"} {
		if _, err := ParseZones(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: got %v, want %q", text, err, want)
		}
	}
	if s, err := ParseSize("2 cores, 4GiB, 40GiB"); err != nil || s != (field.Size{CPU: 2, Memory: 4 << 30, Disk: 40 << 30}) {
		t.Errorf("got %v %v", s, err)
	}
	if _, err := ParseSize("large"); err == nil {
		t.Error("large is a size")
	}
}

func TestAFieldIsSavedAsAPattern(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	text := "# ours\nformat: 1\nfield: ours\nabout: What we always do.\nvariables: {hands: 2}\nnodes:\n  - {name: a, labels: {disk: nvme}}\nroles:\n  hands: {members: \"${hands}\", program: {command: [sleep, \"9\"]}}\nplace: {hands: [a]}\n"
	f, err := fieldfile.Parse("ours.field.yaml", []byte(text), nil)
	if err != nil {
		t.Fatal(err)
	}
	name, err := Save(f, "ours", "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Save(f, "ours", ""); err == nil || !strings.Contains(err.Error(), "already") {
		t.Errorf("got %v", err)
	}
	p, err := Find("ours")
	if err != nil || !p.Own || p.About != "What we always do." {
		t.Fatalf("got %+v %v", p, err)
	}
	o, err := p.Make(Answers{Name: "new", Zones: []Zone{{Nodes: 2}}, Variables: map[string]string{"hands": "5"}})
	if err != nil || len(o.File.Field.Place) != 0 || o.File.Field.Role("hands").Members != 5 || !strings.HasPrefix(string(o.Data), "# ours\n") {
		t.Fatalf("got %v", err)
	}
	data, _ := os.ReadFile(name)
	_ = os.WriteFile(filepath.Join(filepath.Dir(name), "newer.pattern.yaml"), []byte(strings.Replace(string(data), "format: 1,", "format: 2,", 1)), 0o600)
	if _, err := Find("newer"); err == nil || !strings.Contains(err.Error(), "this version reads 1") {
		t.Errorf("a newer format: got %v", err)
	}
}

// TestHostsAreReadFromTheirAddresses reads what somebody may write who has hosts, and makes a field of them.
func TestHostsAreReadFromTheirAddresses(t *testing.T) {
	for text, want := range map[string]string{
		"":                               "at least one host is needed",
		"north":                          "the zone north has no host",
		"north 3":                        `"3" is no address`,
		"north 10.1.0.1, north 10.1.0.2": "the zone north stands there twice",
		"north 10.1.0.1 10.1.0.1":        "10.1.0.1 stands there twice",
		"north gull-1.example":           `"gull-1.example" is no address`,
		"North 10.1.0.1":                 `"North" cannot name a zone`,
		"north 10.1.0.{1..999999}":       "",
	} {
		if _, err := ParseHosts(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v; want %s", text, err, want)
		}
	}
	zones, err := ParseHosts("north 10.1.0.{1..3}; south 10.2.0.1 fd00::2, 10.3.0.1")
	if err != nil || len(zones) != 3 || zones[0].Nodes != 3 || zones[1].Hosts[1] != "fd00::2" || zones[2].Name != "" {
		t.Fatalf("%+v %v", zones, err)
	}
	p, err := Find("sql")
	if err != nil {
		t.Fatal(err)
	}
	o, err := p.Make(Answers{Name: "mine", Zones: zones, Ground: field.Ground{Kind: field.GroundSSH, User: "harbour", Sudo: field.SudoAlways}, Survive: OneNode})
	if err != nil {
		t.Fatal(err)
	}
	f := o.File.Field
	if f.Ground != (field.Ground{Kind: "ssh", User: "harbour", Sudo: "always"}) || len(f.Nodes) != 6 || f.Nodes[4].Name != "south-2" || f.Nodes[4].Address != "fd00::2" || f.Nodes[5].Name != "node-1" {
		t.Errorf("%+v %+v\n%s", f.Ground, f.Nodes, o.Data)
	}
}
