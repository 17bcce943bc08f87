package draw

import (
	"bytes"
	"fmt"
	"os"
	"time"

	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
)

// Save writes a drawing into a file, whole or not at all.
func Save(d *Drawing, name string) error {
	var b bytes.Buffer
	if err := d.Write(&b, name); err != nil {
		return err
	}
	tmp := name + ".new"
	err := os.WriteFile(tmp, b.Bytes(), 0o644)
	if err == nil {
		err = os.Rename(tmp, name)
	}
	if err != nil {
		_ = os.Remove(tmp)
		return fmt.Errorf("the drawing cannot be written: %w", err)
	}
	return nil
}

// Draft is a field that has not been deployed, with its members where they would be placed.
func Draft(f *field.Field) *snapshot.Snapshot {
	snap := snapshot.OfDraft(f, time.Now())
	if f.Cycle() != nil {
		return snap
	}
	for _, a := range plan.Make(f, plan.Live{}).Adds {
		snap.Members = append(snap.Members, snapshot.MemberView{Member: a.Name, Role: a.Role, Node: a.Node, Phase: state.Planned})
	}
	return snap
}

// Kinds are the drawings that there are of a field.
var Kinds = []string{"board", "order", "survives"}

// Of makes a drawing of that kind.
func Of(kind string, snap *snapshot.Snapshot, t Theme) *Drawing {
	switch kind {
	case "order":
		return Order(snap, t)
	case "survives":
		return Survives(snap, t)
	}
	return Board(snap, t)
}
