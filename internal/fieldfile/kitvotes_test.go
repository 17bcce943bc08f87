package fieldfile

import (
	"fmt"
	"testing"

	"lanternfield/internal/kit"
)

// TestVotersOfShippedKitsCanComeAndGo: a role whose members vote and cannot be joined could neither be scaled nor moved off a node.
func TestVotersOfShippedKitsCanComeAndGo(t *testing.T) {
	voting := 0
	for _, k := range kit.Of("x.field.yaml").All() {
		if info, err := k.Info(); err != nil || !info.Votes {
			continue
		}
		f, err := Parse("x.field.yaml", []byte(fmt.Sprintf("format: 1\nfield: x\nnodes: [{name: n}]\nroles:\n  it: {kit: %s, members: 3}\n", k.Name)), nil)
		if err != nil {
			t.Fatal(err)
		}
		voting++
		if p := f.Field.Role("it").Program; len(p.Join) == 0 {
			t.Errorf("nobody can join the members of %s", k.Name)
		}
	}
	if voting < 4 {
		t.Errorf("only %d kits vote", voting)
	}
}
