package field

import "testing"

// TestWhatWasFoundCountsWhereTheFileSaysNothing surrounds nodes of each ground with what was found of them.
func TestWhatWasFoundCountsWhereTheFileSaysNothing(t *testing.T) {
	f := &Field{Name: "quay", Ground: Ground{Kind: GroundSSH}, Nodes: []Node{
		{Name: "said", Size: Size{CPU: 2, Memory: 4 << 30, Disk: 10 << 30}},
		{Name: "part", Size: Size{CPU: 2}, Reserved: Size{Memory: 1 << 30}},
		{Name: "none"},
		{Name: "joins", Ground: Ground{Kind: GroundJoin}},
		{Name: "here", Ground: Ground{Kind: "local"}},
		{Name: "unseen"},
	}}
	found := Size{CPU: 8, Memory: 16 << 30, Disk: 100 << 30}
	f.Surround(Around{Found: map[NodeName]Size{"said": found, "part": found, "none": found, "joins": found, "here": found}})
	for name, want := range map[NodeName]struct{ offered, said Size }{
		"said":   {Size{CPU: 2, Memory: 4 << 30, Disk: 10 << 30}, Size{CPU: 2, Memory: 4 << 30, Disk: 10 << 30}},
		"part":   {Size{CPU: 2, Memory: 15 << 30, Disk: 100 << 30}, Size{CPU: 2}},
		"none":   {found, Size{}},
		"joins":  {found, Size{}},
		"here":   {}, // what a node of this machine has is not what the machine has
		"unseen": {},
	} {
		n := f.Node(name)
		if n.Offered() != want.offered || n.Said() != want.said {
			t.Errorf("%s offers %+v, by the file %+v", name, n.Offered(), n.Said())
		}
	}
	if !f.Machines() || f.Node("none").WhereEnv().CPU != 8 {
		t.Error("what an expression sees")
	}
	f.Surround(Around{})
	if f.Node("none").Offered() != (Size{}) {
		t.Error("what was found before is still there")
	}
}
