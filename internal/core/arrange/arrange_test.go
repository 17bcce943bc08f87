package arrange

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/plan"
)

// six is a field of six nodes in three zones with one role.
func six(members int, spread field.Spread) *field.Field {
	f := &field.Field{Name: "six", Roles: []field.Role{{Name: "crews", Kind: field.Worker, Members: members, Spread: spread,
		Room: field.Size{CPU: 0.5}, Program: &field.Program{Command: []string{"x"}}}}}
	for i := range 6 {
		f.Nodes = append(f.Nodes, field.Node{Name: field.NodeName(fmt.Sprintf("n%d", i+1)), Zone: field.ZoneName(fmt.Sprintf("z%d", i/2+1)),
			Size: field.Size{CPU: 1}})
	}
	return f
}

// lived is what is live when the draft has been deployed.
func lived(f *field.Field) plan.Live {
	live := plan.Live{Highest: map[field.RoleName]int{}}
	for i, a := range plan.Make(f, plan.Live{}).Adds {
		live.Members = append(live.Members, plan.Member{Member: a, Number: i + 1, Ready: true, Leads: i == 0})
		live.Highest[a.Role]++
	}
	return live
}

func on(f *field.Field, live plan.Live) string {
	stand, unplaced := Standings(f, live, "crews")
	var parts []string
	for _, s := range stand {
		parts = append(parts, fmt.Sprintf("%s@%s", strings.TrimPrefix(string(s.Member), "crews-"), s.Node))
	}
	slices.Sort(parts)
	return strings.Join(parts, " ") + unplaced
}

func TestAsItWasArranged(t *testing.T) {
	for _, test := range []struct {
		name string
		live bool
		do   func(f *field.Field, l plan.Live) (Change, error)
		want string // who stands where
		pins string
	}{
		{"one more goes where it likes", true, func(f *field.Field, l plan.Live) (Change, error) { return Add(f, l, "crews", "") }, "1@n1 2@n3 3@n5 4@n2", "[]"},
		{"where it would have gone anyway needs no pin", true, func(f *field.Field, l plan.Live) (Change, error) { return Add(f, l, "crews", "n2") }, "1@n1 2@n3 3@n5 4@n2", "[]"},
		{"elsewhere needs one", true, func(f *field.Field, l plan.Live) (Change, error) { return Add(f, l, "crews", "n6") }, "1@n1 2@n3 3@n5 4@n6", "[n6]"},
		{"a second on the same node needs two", true, func(f *field.Field, l plan.Live) (Change, error) { return Add(f, l, "crews", "n1") }, "1@n1 2@n3 3@n5 4@n1", "[n1 n1]"},
		{"the newest leaves by itself", true, func(f *field.Field, l plan.Live) (Change, error) { return Remove(f, l, "crews", "crews-3") }, "1@n1 2@n3", "[]"},
		{"another leaves when the others are pinned", true, func(f *field.Field, l plan.Live) (Change, error) { return Remove(f, l, "crews", "crews-1") }, "2@n3 3@n5", "[n5 n3]"},
		{"a live one is replaced", true, func(f *field.Field, l plan.Live) (Change, error) { return Move(f, l, "crews", "crews-3", "n2") }, "1@n1 2@n3 4@n2", "[n2]"},
		{"the leader too", true, func(f *field.Field, l plan.Live) (Change, error) { return Move(f, l, "crews", "crews-1", "n2") }, "2@n3 3@n5 4@n2", "[n2 n5 n3]"},
		{"in a draft nobody is replaced", false, func(f *field.Field, l plan.Live) (Change, error) { return Move(f, l, "crews", "crews-3", "n6") }, "1@n6 2@n1 3@n3", "[n6]"},
	} {
		t.Run(test.name, func(t *testing.T) {
			f := six(3, field.SpreadZone)
			live := plan.Live{}
			if test.live {
				live = lived(f)
			}
			c, err := test.do(f, live)
			if err != nil {
				t.Fatal(err)
			}
			if got := on(c.On(f), live); got != test.want || fmt.Sprint(c.Pins) != test.pins {
				t.Errorf("got %s, pins %v; want %s, pins %s", got, c.Pins, test.want, test.pins)
			}
			if on(f, live) != on(six(3, field.SpreadZone), live) {
				t.Error("the draft itself was changed")
			}
		})
	}
}

func TestOfManyOnlyThoseArePinnedWhoWouldHaveLeftInstead(t *testing.T) {
	f := six(5, field.SpreadZone)
	live := lived(f)
	c, err := Move(f, live, "crews", "crews-4", "n6")
	if err != nil {
		t.Fatal(err)
	}
	if got := on(c.On(f), live); got != "1@n1 2@n3 3@n5 5@n4 6@n6" || fmt.Sprint(c.Pins) != "[n6 n4]" {
		t.Errorf("got %s, pins %v", got, c.Pins)
	}
}

func TestWhatCannotBeArrangedSaysWhy(t *testing.T) {
	f := six(3, field.SpreadZone)
	f.Roles[0].Room.CPU = 1
	live := lived(f)
	_, full := Add(f, live, "crews", "n1")
	_, there := Move(f, live, "crews", "crews-1", "n1")
	_, none := Remove(f, live, "crews", "crews-9")
	_, role := Add(f, live, "pilots", "")
	for _, test := range []struct {
		err  error
		want string
	}{{full, "n1 cannot hold one more of crews: too little CPU: n1 (0 of 1 free, 1 wanted)"}, {there, "crews-1 is on n1 already"},
		{none, "the draft has no crews-9"}, {role, "the draft has no role pilots"}} {
		if test.err == nil || test.err.Error() != test.want {
			t.Errorf("got %v, want %s", test.err, test.want)
		}
	}
}

func TestPinsAreTurnedOnAndOff(t *testing.T) {
	f := six(3, field.SpreadZone)
	live := lived(f)
	c, pinned, err := Pin(f, live, "crews", "crews-2")
	if err != nil || !pinned || fmt.Sprint(c.Pins) != "[n3]" {
		t.Fatalf("%v %v %v", c, pinned, err)
	}
	f = c.On(f)
	if c, pinned, err = Pin(f, live, "crews", "crews-2"); err != nil || pinned || len(c.Pins) != 0 {
		t.Errorf("%v %v %v", c, pinned, err)
	}
	if c, pinned, err = Pin(f, live, "crews", "crews-1"); err != nil || !pinned || fmt.Sprint(c.Pins) != "[n3 n1]" {
		t.Errorf("%v %v %v", c, pinned, err)
	}
}

// TestRandomArrangements adds, moves and removes at random: what is asked for comes out, and nobody else moves.
func TestRandomArrangements(t *testing.T) {
	done := 0
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 1))
		f := six(1+r.IntN(5), []field.Spread{field.SpreadZone, field.SpreadNode, field.SpreadNone}[r.IntN(3)])
		live := lived(f)
		for step := range 6 {
			before, _ := Standings(f, live, "crews")
			node := f.Nodes[r.IntN(6)].Name
			want := nodesOf(before)
			var c Change
			var err error
			switch kind := r.IntN(3); {
			case kind == 0 || len(before) == 0:
				c, err = Add(f, live, "crews", node)
				want = append(want, node)
			case kind == 1:
				i := r.IntN(len(before))
				c, err = Move(f, live, "crews", before[i].Member, node)
				want[i] = node
			default:
				i := r.IntN(len(before))
				c, err = Remove(f, live, "crews", before[i].Member)
				want = slices.Delete(want, i, i+1)
			}
			if err != nil {
				continue
			}
			done++
			f = c.On(f)
			after, unplaced := Standings(f, live, "crews")
			if unplaced != "" || !same(nodesOf(after), want) {
				t.Fatalf("seed %d, step %d: %v became %v, wanted %v", seed, step, before, after, want)
			}
			if r.IntN(3) == 0 { // deployed
				next := plan.Live{Highest: map[field.RoleName]int{"crews": live.Highest["crews"]}}
				for _, s := range after {
					number := live.Highest["crews"] + 1
					for _, m := range live.Members {
						if m.Name == s.Member {
							number = m.Number
						}
					}
					next.Highest["crews"] = max(next.Highest["crews"], number)
					next.Members = append(next.Members, plan.Member{Member: place.Member{Name: s.Member, Role: "crews", Node: s.Node}, Number: number, Ready: true})
				}
				live = next
			}
		}
	}
	if done < 600 {
		t.Errorf("only %d arrangements could be made", done)
	}
}
