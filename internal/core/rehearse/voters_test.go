package rehearse

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"lanternfield/internal/core/review"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/plan"
)

// voting is a field with voters that join and leave by procedure, and crews that live by them.
func voting(wardens, crews int, pins ...field.NodeName) *field.Field {
	program := &field.Program{Command: []string{"program"}}
	giveProcedures(program)
	f := &field.Field{Name: "saltmarsh",
		Roles: []field.Role{
			{Name: "wardens", Kind: field.Master, Members: wardens, Votes: true, Program: program},
			{Name: "crews", Members: crews, Calls: map[string]field.RoleName{"store": "wardens"},
				Program: &field.Program{Command: []string{"program", `{{range .Calls "store"}}{{.Address}} {{end}}`}}},
		}}
	for i, zone := range []field.ZoneName{"north-quay", "south-quay", "lighthouse"} {
		for n := range 3 {
			f.Nodes = append(f.Nodes, field.Node{Name: field.NodeName(fmt.Sprintf("%s-%d", []string{"gull", "tern", "puffin"}[i], n+1)), Zone: zone})
		}
	}
	if len(pins) > 0 {
		f.Place = map[field.RoleName][]field.NodeName{"wardens": pins}
	}
	field.FillDefaults(f)
	return f
}

func deploy(t *testing.T, w *World, f *field.Field) error {
	t.Helper()
	return w.Do(engine.Deploy{Draft: f, By: "test"})
}

func votingWorld(t *testing.T, f *field.Field) *World {
	t.Helper()
	w := New(begin)
	w.ReadyAfter = map[field.RoleName]time.Duration{"wardens": 80 * time.Millisecond}
	w.TakeOver()
	if err := deploy(t, w, f); err != nil {
		t.Fatal(err)
	}
	if !w.Until(settled(w, snapshot.Converged), time.Minute) {
		t.Fatalf("at first: %s: %s", w.Snapshot().State, w.Snapshot().Verdict)
	}
	return w
}

// sameList checks that a cluster lists exactly those members that are there to stay.
func sameList(t *testing.T, w *World) {
	t.Helper()
	c := w.Cluster("wardens")
	var want []field.MemberName
	for _, m := range state.EveryMember(w.State) {
		if m.Role == "wardens" && m.Phase != state.Gone {
			want = append(want, m.Name)
		}
	}
	slices.Sort(want)
	if got := slices.Sorted(maps.Keys(c.Voters)); !slices.Equal(got, want) || len(c.Learners) > 0 {
		t.Errorf("the cluster lists %v and as learners %v; the members are %v", got, c.Learners, want)
	}
	if len(w.Problems) > 0 {
		t.Errorf("problems: %v", w.Problems)
	}
	if bad := w.Overlaps(); len(bad) > 0 {
		t.Errorf("two processes at the same time for %v", bad)
	}
}

// TestControllerMayDieAfterEveryEventOfAChangeOfVoters grows a cluster from three to five and shrinks it again, with the
// leader among those that leave, and has the controller die after every single event.
func TestControllerMayDieAfterEveryEventOfAChangeOfVoters(t *testing.T) {
	carry := func(w *World, f *field.Field, dieAfter int) {
		w.DieAfter = dieAfter
		if err := deploy(t, w, f); err != nil {
			t.Fatal(err)
		}
		w.Until(func() bool { return w.Dead || dieAfter <= len(w.Log) && settled(w, snapshot.Converged)() }, 20*time.Second)
		if w.Dead {
			w.Run(300 * time.Millisecond) // what is under way goes on without it
			w.TakeOver()
			if w.State.Field.Role("wardens").Members != f.Role("wardens").Members || len(w.State.Field.Place) != len(f.Place) {
				if err := deploy(t, w, f); err != nil { // the order itself was never stored
					t.Fatal(err)
				}
			}
		}
		if !w.Until(settled(w, snapshot.Converged), time.Minute) {
			t.Fatalf("controller dead after event %d: %s: %s", dieAfter, w.Snapshot().State, w.Snapshot().Verdict)
		}
		sameList(t, w)
	}
	out, in := voting(5, 2), voting(3, 2, "tern-2", "puffin-1", "gull-2")
	whole := votingWorld(t, voting(3, 2))
	first := len(whole.Log)
	carry(whole, out, 0)
	middle := len(whole.Log)
	carry(whole, in, 0)
	if gone := whole.State.Member("wardens-1"); gone.Phase != state.Gone {
		t.Fatalf("the leader, wardens-1, is %s and should have left", gone.Phase)
	}
	for n := first + 1; n <= len(whole.Log); n++ {
		w := votingWorld(t, voting(3, 2))
		if n <= middle {
			carry(w, out, n)
		} else {
			carry(w, out, 0)
			carry(w, in, n)
		}
		if got := len(w.Lives); got != len(whole.Lives) && n > middle {
			t.Errorf("controller dead after event %d: %d processes were started, want %d", n, got, len(whole.Lives))
		}
	}
	t.Logf("died after each of %d events", len(whole.Log)-first)
}

// TestRandomHistoriesOfVoters scales, kills, stops, starts and cuts off at seeded moments, loses answers and has
// procedures refused. No change ever costs a cluster its quorum; in the end, with everything back, the cluster lists
// whom it shall.
func TestRandomHistoriesOfVoters(t *testing.T) {
	seeds := uint64(200)
	if testing.Short() {
		seeds = 40
	}
	changes := 0
	for seed := uint64(1); seed <= seeds; seed++ {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			random := rand.New(rand.NewPCG(seed, 12))
			w := votingWorld(t, voting(3, 2))
			for range 25 {
				happen(t, w, random)
				w.Run(time.Duration(random.IntN(1500)) * time.Millisecond)
				if t.Failed() {
					return
				}
			}
			theSameTwice(t, w)
			makeWhole(t, w)
			for _, e := range w.Log {
				if done, ok := e.Fact.(state.OperationDone); ok && done.Procedure != order.HandOver {
					changes++
				}
			}
		})
	}
	t.Logf("seeds 1 to %d; %d changes of membership", seeds, changes)
}

// theSameTwice looks at the present as if it were the past, and compares a draft with the snapshot instead of the state.
func theSameTwice(t *testing.T, w *World) {
	t.Helper()
	now := w.Snapshot()
	again, err := json.Marshal(snapshot.Of(state.Rewind(w.Log, w.Now), now.At))
	if err != nil {
		t.Fatal(err)
	}
	if direct, _ := json.Marshal(snapshot.Of(w.State, now.At)); string(direct) != string(again) {
		t.Errorf("rewound to now it is\n%s\nand it is\n%s", again, direct)
	}
	draft := *w.State.Field
	draft.Roles = slices.Clone(draft.Roles)
	draft.Roles[0].Members += 2
	review, err := review.Of(w.State, &draft)
	if err != nil {
		return // it is refused just now
	}
	var told, seen []string
	for _, s := range review.Steps {
		if !s.Due && (s.Kind == plan.Take || s.Kind == plan.Start && w.State.Member(s.Member) == nil) {
			told = append(told, fmt.Sprint(s.Kind, s.Member, s.Node))
		}
	}
	for _, s := range plan.Preview(&draft, snapshot.Of(w.State, now.At).Live()).Steps {
		seen = append(seen, fmt.Sprint(s.Kind, s.Member, s.Node))
	}
	slices.Sort(told)
	slices.Sort(seen)
	if !slices.Equal(told, seen) {
		t.Errorf("the review says %v, the snapshot leads to %v", told, seen)
	}
}

// happen lets one thing happen.
func happen(t *testing.T, w *World, random *rand.Rand) {
	t.Helper()
	members := state.EveryMember(w.State)
	m := members[random.IntN(len(members))]
	nodes := voting(1, 1).Nodes
	n := nodes[random.IntN(len(nodes))].Name
	c := w.Cluster("wardens")
	switch random.IntN(14) {
	case 13: // its ground gives it late, not, or at once
		delete(w.NotGiven, n)
		w.GivenAfter[n] = time.Duration(random.IntN(5000)) * time.Millisecond
		if random.IntN(3) == 0 {
			w.NotGiven[n] = "none is left"
		}
	case 12:
		if w.Do(engine.PauseRollout{By: "test"}) != nil { // nothing to pause, or paused already
			_ = w.Do(engine.ResumeRollout{By: "test"})
		}
	case 0, 1:
		w.Kill(m.Name)
	case 2:
		w.Cut(n)
	case 3, 4:
		w.Heal(n)
	case 5:
		w.Dead = true
		w.Run(time.Duration(random.IntN(2000)) * time.Millisecond)
		w.TakeOver()
	case 6:
		_ = w.Do(engine.StopMembers{Members: []field.MemberName{m.Name}})
	case 7:
		_ = w.Do(engine.StartMembers{Members: []field.MemberName{m.Name}})
	case 8:
		_ = w.Do(engine.RestartMembers{Members: []field.MemberName{m.Name}})
	case 9:
		procedures := []order.Procedure{order.Join, order.Promote, order.Leave, order.HandOver}
		p := procedures[random.IntN(len(procedures))]
		if random.IntN(2) == 0 {
			c.Mute[p] = 1 + random.IntN(2)
		} else {
			c.Refuse[p] = random.IntN(30)
		}
	default:
		_ = deploy(t, w, anyDraft(random)) // refused now and then, with reason
	}
}

// anyDraft wants any number of voters, none too, now and then without one of the nodes, or with some of them pinned.
func anyDraft(random *rand.Rand) *field.Field {
	wardens, crews := random.IntN(7), random.IntN(4)
	if wardens == 0 {
		crews = 0
	}
	f := voting(wardens, crews)
	if random.IntN(3) == 0 {
		i := random.IntN(len(f.Nodes))
		f.Nodes = slices.Delete(f.Nodes, i, i+1)
	}
	if random.IntN(3) == 0 {
		f.Place = map[field.RoleName][]field.NodeName{}
		for range random.IntN(wardens + 1) {
			f.Place["wardens"] = append(f.Place["wardens"], f.Nodes[random.IntN(len(f.Nodes))].Name)
		}
	}
	return f
}

// makeWhole brings everything back, asks for five voters, and waits until they are what the cluster lists.
func makeWhole(t *testing.T, w *World) {
	t.Helper()
	c := w.Cluster("wardens")
	clear(c.Mute)
	clear(c.Refuse)
	clear(w.NotGiven)
	for _, n := range voting(1, 1).Nodes {
		w.Heal(n.Name)
	}
	_ = w.Do(engine.ResumeRollout{By: "test"})
	all, _ := engine.Choose(w.State, nil)
	_ = w.Do(engine.StartMembers{Members: all})
	w.Run(time.Minute)
	goal := voting(5, 3)
	var err error
	for range 20 { // refused while an earlier change goes on
		if err = deploy(t, w, goal); err == nil {
			break
		}
		w.Run(30 * time.Second)
	}
	if err != nil {
		t.Fatalf("in the end: %v; %s: %s", err, w.Snapshot().State, w.Snapshot().Verdict)
	}
	if !w.Until(settled(w, snapshot.Converged), 10*time.Minute) {
		t.Fatalf("in the end: %s: %s", w.Snapshot().State, w.Snapshot().Verdict)
	}
	sameList(t, w)
	if w.Running() != 8 {
		t.Errorf("%d processes run, want 8", w.Running())
	}
	numbersGivenOnce(t, w)
}

// numbersGivenOnce checks that no name was ever given to two members.
func numbersGivenOnce(t *testing.T, w *World) {
	t.Helper()
	names := map[field.MemberName]bool{}
	for _, e := range w.Log {
		if p, ok := e.Fact.(state.MemberPlanned); ok {
			if names[p.Name] {
				t.Errorf("%s was given out twice", p.Name)
			}
			names[p.Name] = true
		}
	}
}

// TestWhoJoinedUnseenLeavesByProcedure has a member join, and leave before its cluster's list has been read again: it is taken off the list, and
// not forgotten there.
func TestWhoJoinedUnseenLeavesByProcedure(t *testing.T) {
	w := votingWorld(t, voting(3, 2))
	if err := deploy(t, w, voting(4, 2)); err != nil {
		t.Fatal(err)
	}
	op := w.State.Roles["wardens"].Op
	if op == nil || op.Procedure != order.Join {
		t.Fatalf("nobody is asked to join: %+v", op)
	}
	n, _ := w.find(op.Asked)
	n.operations[op.ID] = true // the list is told of nothing
	joined := order.Report{Seq: n.last + 1, At: w.Now, Kind: order.Done, Member: op.Member, Operation: op.ID, Captured: map[string]string{"id": "id-" + string(op.Member)}}
	if err := w.Do(engine.Reports{Node: n.name, Agent: "agent of " + string(n.name), Reports: []order.Report{joined}}); err != nil {
		t.Fatal(err)
	}
	w.Run(time.Second)
	if err := w.Do(engine.StopMembers{Members: []field.MemberName{op.Member}}); err != nil { // else it is waited for
		t.Fatal(err)
	}
	w.Run(time.Second)
	if err := deploy(t, w, voting(3, 2)); err != nil {
		t.Fatal(err)
	}
	w.Run(50 * time.Millisecond)
	var asked *order.Operation
	for _, e := range w.Log {
		switch f := e.Fact.(type) {
		case state.OperationAsked:
			if f.Operation.Procedure == order.Leave {
				asked = &f.Operation
			}
		case state.MemberLeft:
			if asked == nil {
				t.Errorf("%s left its cluster, and nobody asked whether that lists it", f.Member)
			}
		}
	}
	if asked == nil || asked.Member != op.Member || !asked.VerifyFirst {
		t.Errorf("the cluster is not asked whether it lists %s: %+v", op.Member, asked)
	}
}
