package fieldfile

import (
	"os"
	"path/filepath"
	"testing"
)

// TestWhatAKitMustNotStandBeside has a kit name another, and what others provide; a field that has one stand beside the other means it.
func TestWhatAKitMustNotStandBeside(t *testing.T) {
	below := t.TempDir()
	for name, rest := range map[string]string{"bells": "apart: [gongs, horns]", "gongs": "kind: worker", "trumpets": "provides: [horns]", "drums": "kind: worker"} {
		folder := filepath.Join(below, "kits", name)
		if err := os.MkdirAll(folder, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(folder, "kit.yaml"), []byte("kit: "+name+"\n"+rest+"\nprogram: {command: [sleep, \"9\"]}\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, test := range []struct {
		kit, more string
		apart     bool
	}{{"gongs", "", true}, {"trumpets", "", true}, {"drums", "", false}, {"gongs", ", beside: [tower]", false}, {"bells", "", false}, {"drums", ", apart: [tower]", true}} {
		f, err := Parse(filepath.Join(below, "x.field.yaml"), []byte("format: 1\nfield: x\nnodes: [{name: n}]\nroles:\n  tower: {kit: bells}\n  other: {kit: "+test.kit+test.more+"}\n"), nil)
		if err != nil {
			t.Fatal(err)
		}
		tower, other := f.Field.Role("tower"), f.Field.Role("other")
		if f.Field.Apart(tower, other) != test.apart || f.Field.Apart(other, tower) != test.apart {
			t.Errorf("beside %s%s: %t", test.kit, test.more, !test.apart)
		}
	}
}
