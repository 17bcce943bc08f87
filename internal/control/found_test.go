package control

import (
	"os"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/machine"
	"lanternfield/internal/core/preflight"
)

// TestWhatMachinesHaveIsNoted looks at some, and again when they have other sizes.
func TestWhatMachinesHaveIsNoted(t *testing.T) {
	f := Folder{Dir: t.TempDir()}
	matrix := func(memory field.Bytes) *preflight.Matrix {
		of := func(name field.NodeName, ground string) preflight.Node {
			return preflight.Node{Name: name, Ground: ground, Found: &machine.Machine{CPUs: 4, Memory: memory, Disk: 10 << 30}}
		}
		return &preflight.Matrix{Nodes: []preflight.Node{of("gull-1", "ssh"), of("skua", "join"), of("here", "local"), {Name: "away", Ground: "ssh"}}}
	}
	f.noteFound(matrix(8 << 30))
	if f.found() != nil {
		t.Error("something is noted where there is no field")
	}
	if err := os.MkdirAll(f.own(), 0o700); err != nil {
		t.Fatal(err)
	}
	f.noteFound(matrix(8 << 30))
	got := f.found()
	if len(got) != 2 || got["gull-1"] != (field.Size{CPU: 4, Memory: 8 << 30, Disk: 10 << 30}) || got["skua"].CPU != 4 {
		t.Errorf("%+v", got)
	}
	f.noteFound(matrix(8<<30 - 100<<20)) // as it may be after another start
	if f.found()["gull-1"].Memory != 8<<30 {
		t.Error("a little less counts")
	}
	f.noteFound(matrix(16 << 30))
	if got := f.Around().Found["gull-1"].Memory; got != 16<<30 {
		t.Errorf("twice as much does not count: %s", got)
	}
	if err := os.WriteFile(f.machines(), []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if f.found() != nil {
		t.Error("a damaged file counts")
	}
}
