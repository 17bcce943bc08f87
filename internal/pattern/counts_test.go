package pattern

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/fieldfile"
)

// Counts may be written instead of following from what is to be survived; those that would survive more are offered.
func TestCountsAreWrittenAndOffered(t *testing.T) {
	p, err := Find("sql")
	if err != nil {
		t.Fatal(err)
	}
	zones, _ := ParseZones("north 3, south 3, light 2")
	a := Answers{Name: "x", Zones: zones, Survive: OneNode}
	o, err := p.Make(a)
	if err != nil || CountsOf(o.Field).Words(o.Field) != "records 2, doors 2" {
		t.Fatalf("%v", err)
	}
	offers := p.Offers(a, o)
	if len(offers) != 1 || offers[0].Survives != TwoNodes || offers[0].Counts != "records 3, doors 3" {
		t.Errorf("offered: %v", offers)
	}
	if a.Counts, err = ParseCounts("doors: 1; records 4", p.File.Field); err != nil {
		t.Fatal(err)
	}
	if o, err = p.Make(a); err != nil || o.Field.Role("records").Members != 4 || o.Field.Role("doors").Members != 1 || o.Kept {
		t.Errorf("%v\n%s", err, o.Data)
	}
	if offers := p.Offers(a, o); len(offers) != 3 || offers[0].Survives != OneNode {
		t.Errorf("with one door there is offered: %v", offers)
	}
	for text, want := range map[string]string{"record 3": "there is no role \"record\" in this pattern; it has records, doors", "records": "write them like  records 3", "records 0": "is not a role with a number", "doors 1 2": "is not a role"} {
		if _, err := ParseCounts(text, p.File.Field); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

// What kits require is asked for, and stands in the file.
func TestWhatKitsRequireIsNeeded(t *testing.T) {
	config := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", config)
	folder := filepath.Join(config, "lanternfield", "kits", "bells")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	kit := "kit: bells\nabout: Rings.\nsettings:\n  tune: {required: true, about: what is rung}\n  loud: {default: 1}\nprogram: {command: [sleep, \"9\"]}\n"
	if err := os.WriteFile(filepath.Join(folder, "kit.yaml"), []byte(kit), 0o644); err != nil {
		t.Fatal(err)
	}
	f, err := fieldfile.Parse("ours.field.yaml", []byte("format: 1\nfield: ours\nnodes: [{name: a}]\nroles:\n  tower: {kit: bells, settings: {tune: low}}\n  chapel: {kit: bells}\n"), nil)
	if err == nil {
		_, err = Save(f, "ours", "")
	}
	if err != nil {
		t.Fatal(err)
	}
	p, err := Find("ours")
	if needs := p.Needs(); err != nil || len(needs) != 1 || needs[0] != (Need{"chapel", "tune", "what is rung"}) {
		t.Fatalf("%v, %v", needs, err)
	}
	a := Answers{Name: "new", Zones: []Zone{{Nodes: 1}}}
	a.Settings = map[field.RoleName]map[string]string{"chapel": {"tune": `high "C"`}}
	o, err := p.Make(a)
	if err != nil || o.Field.Role("chapel").Settings["tune"] != `high "C"` || o.Field.Role("tower").Settings["tune"] != "low" {
		t.Errorf("%v", err)
	}
}
