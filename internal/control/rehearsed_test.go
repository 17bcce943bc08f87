package control

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/rehearse"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"
	"lanternfield/internal/eventlog/memory"
	"lanternfield/internal/keyring"
)

// stage is a rehearsed world under the controller itself: its loop, its drivers, its waiting and asking again, in the virtual time of a bubble
// (testing/synctest). Log, ground and agents are handed in.
type stage struct {
	t   *testing.T
	dir string
	log *memory.Log
	c   *Controller

	mu     sync.Mutex
	world  *rehearse.World
	seen   uint64 // events that the world has been told
	news   map[field.NodeName]chan struct{}
	random *rand.Rand // nil where everything arrives
	lossy  bool
}

func onStage(t *testing.T, seed uint64) *stage {
	s := &stage{t: t, dir: t.TempDir(), log: &memory.Log{}, news: map[field.NodeName]chan struct{}{}, random: rand.New(rand.NewPCG(seed, 1))}
	s.world = rehearse.Hosted(rehearse.Host{After: func(d time.Duration, do func()) { time.AfterFunc(d, func() { s.in(func(*rehearse.World) { do() }) }) }, News: s.tell}, time.Now())
	s.world.ReadyAfter = map[field.RoleName]time.Duration{"wardens": 80 * time.Millisecond}
	s.begin()
	return s
}

// begin starts a controller on what is in the log.
func (s *stage) begin() {
	s.t.Helper()
	folded, _, err := eventlog.Folder{Log: s.log}.Fold(nil)
	if err == nil {
		s.c, err = begin(Folder{Dir: s.dir}, parts{ground: s, log: s.log, state: folded, marks: noMarks{}, ring: keyring.InMemory(keyring.Content{}), letGo: func() error { return nil }, closed: true}, "a rehearsal")
	}
	if err != nil {
		s.t.Fatal(err)
	}
}

// dies ends the controller in the middle of whatever it does: what it had not stored is lost.
func (s *stage) dies() {
	s.c.cancel()
	<-s.c.done
	s.c.drivers.Wait()
}

// in has something happen in the world, as it is now.
func (s *stage) in(do func(w *rehearse.World)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.world.Now = time.Now()
	err := s.log.Read(s.seen, func(e eventlog.Stored) error {
		state.Apply(s.world.State, e.Event)
		s.seen = e.Seq
		return nil
	})
	if err != nil {
		s.t.Error(err)
	}
	do(s.world)
}

// tell wakes who waits for reports of a node. It is called from within the world.
func (s *stage) tell(node field.NodeName) {
	if wake := s.news[node]; wake != nil {
		close(wake)
		delete(s.news, node)
	}
}

// lost tells whether something gets lost on its way.
func (s *stage) lost() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.lossy && s.random.IntN(30) == 0
}

// noMarks keeps no checkpoints.
type noMarks struct{}

func (noMarks) note(eventlog.Stored)                          {}
func (noMarks) isDue() bool                                   { return false }
func (noMarks) take(*state.State, timeline)                   {}
func (noMarks) close(*state.State, timeline)                  {}
func (noMarks) condense(context.Context, field.History) error { return nil }

// voting is a field with voters that join and leave by procedure, and crews that live by them.
func voting(wardens, crews int) *field.Field {
	step := func(capture map[string]string) []field.Step {
		return []field.Step{{On: "peer", Call: field.Call{Exec: []string{"true"}}, DoneWhen: "true", Capture: capture}}
	}
	p := &field.Program{Command: []string{"program"}, Join: step(map[string]string{"id": "id"}), Promote: step(nil), Leave: step(nil), HandOver: step(map[string]string{"target": "{{.Target.Member}}"}),
		Leader: &field.LeaderProbe{Call: field.Call{Exec: []string{"true"}}, IsMe: "true"}, Roster: &field.RosterProbe{Call: field.Call{Exec: []string{"true"}}, Each: "body", ID: "item", Name: "item"}}
	p.HandOver[0].On = "leader"
	f := &field.Field{Name: "saltmarsh", Roles: []field.Role{
		{Name: "wardens", Kind: field.Master, Members: wardens, Votes: true, Program: p},
		{Name: "crews", Members: crews, Calls: map[string]field.RoleName{"store": "wardens"}, Program: &field.Program{Command: []string{"program"}}},
	}}
	for i, zone := range []field.ZoneName{"north-quay", "south-quay", "lighthouse"} {
		for n := range 3 {
			f.Nodes = append(f.Nodes, field.Node{Name: field.NodeName(fmt.Sprintf("%s-%d", []string{"gull", "tern", "puffin"}[i], n+1)), Zone: zone})
		}
	}
	field.FillDefaults(f)
	return f
}

func (s *stage) ask(r Request) error {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	r.By = "test"
	return s.c.Do(ctx, r)
}

// converges deploys a draft, again while it is refused for what still goes on, and waits until it has come true.
func (s *stage) converges(f *field.Field) {
	s.t.Helper()
	var err error
	for range 40 {
		if err = s.ask(Request{What: "deploy", Draft: f}); err == nil {
			break
		}
		time.Sleep(15 * time.Second)
	}
	if err != nil {
		s.t.Fatal(err)
	}
	for deadline := time.Now().Add(10 * time.Minute); !in(snapshot.Converged)(s.now()); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(deadline) {
			s.t.Fatalf("%s: %s", s.now().State, s.now().Verdict)
		}
	}
	s.whole()
}

func (s *stage) now() *snapshot.Snapshot {
	now, err := s.c.Snapshot(context.Background())
	if err != nil {
		s.t.Fatal(err)
	}
	return now
}

// whole checks that the cluster lists the members that are there, that nothing ran twice, and that no change cost it its quorum.
func (s *stage) whole() {
	s.t.Helper()
	s.in(func(w *rehearse.World) {
		var want []field.MemberName
		for _, m := range state.SortedMembers(w.State) {
			if m.Role == "wardens" && m.Phase != state.Gone {
				want = append(want, m.Name)
			}
		}
		c := w.Cluster("wardens")
		slices.Sort(want)
		if got := slices.Sorted(maps.Keys(c.Voters)); !slices.Equal(got, want) || len(c.Learners) > 0 {
			s.t.Errorf("the cluster lists %v and as learners %v; the members are %v", got, c.Learners, want)
		}
		if twice := w.Overlaps(); len(twice) > 0 || len(w.Problems) > 0 {
			s.t.Errorf("two processes at the same time for %v; %v", twice, w.Problems)
		}
	})
}

// TestTheControllerInVirtualTime carries voters from three to five and back under the controller's own drivers, with a node cut off and a
// controller that dies on the way.
func TestTheControllerInVirtualTime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := onStage(t, 1)
		defer func() { s.dies() }()
		began := time.Now()
		s.converges(voting(3, 2))
		if took := time.Since(began); took > 5*time.Second {
			t.Errorf("three voters and two crews took %v, of which 100 ms are theirs", took)
		}
		if err := s.ask(Request{What: "deploy", Draft: voting(5, 2)}); err != nil {
			t.Fatal(err)
		}
		time.Sleep(100 * time.Millisecond)
		s.dies()
		s.begin()
		s.converges(voting(5, 2))

		s.in(func(w *rehearse.World) { w.Cut("tern-1") })
		time.Sleep(30 * time.Second)
		if now := s.now(); now.State != snapshot.Degraded {
			t.Errorf("with tern-1 cut off it is %s: %s", now.State, now.Verdict)
		}
		s.in(func(w *rehearse.World) { w.Heal("tern-1") })
		time.Sleep(3 * time.Second)
		s.converges(voting(3, 2))
		if err := s.ask(Request{What: "retire"}); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Minute)
		if now := s.now(); now.State != snapshot.Retired {
			t.Errorf("after a minute it is %s: %s", now.State, now.Verdict)
		}
		s.in(func(w *rehearse.World) {
			if n := w.Running(); n != 0 {
				t.Errorf("%d processes are left", n)
			}
		})
	})
}

// TestRandomHistoriesUnderTheController lets anything happen, loses answers, and has controllers die, under the real drivers. It is bounded by
// what happens and not by time, of which there is any amount.
func TestRandomHistoriesUnderTheController(t *testing.T) {
	seeds := uint64(60)
	if testing.Short() {
		seeds = 5
	}
	if os.Getenv("LANTERNFIELD_SOAK") != "" {
		seeds = 3000
	}
	for seed := uint64(1); seed <= seeds; seed++ {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s := onStage(t, seed)
				defer func() { s.dies() }()
				s.converges(voting(3, 2))
				random := rand.New(rand.NewPCG(seed, 2))
				for range 20 {
					s.mu.Lock()
					s.lossy = random.IntN(2) == 0
					s.mu.Unlock()
					s.happen(random)
					time.Sleep(time.Duration(random.IntN(3000)) * time.Millisecond)
				}
				s.mu.Lock()
				s.lossy = false
				s.mu.Unlock()
				s.in(func(w *rehearse.World) {
					clear(w.NotGiven)
					c := w.Cluster("wardens")
					clear(c.Mute)
					clear(c.Refuse)
					for _, n := range voting(1, 1).Nodes {
						w.Heal(n.Name)
					}
				})
				time.Sleep(10 * time.Second)
				_ = s.ask(Request{What: "go on"})
				_ = s.ask(Request{What: "start"})
				time.Sleep(time.Minute)
				s.converges(voting(5, 3))
			})
		})
	}
}

// happen lets one thing happen.
func (s *stage) happen(random *rand.Rand) {
	node := voting(1, 1).Nodes[random.IntN(9)].Name
	var member field.MemberName
	s.in(func(w *rehearse.World) {
		all := state.SortedMembers(w.State)
		member = all[random.IntN(len(all))].Name
	})
	switch random.IntN(10) {
	case 0, 1:
		s.in(func(w *rehearse.World) { w.Kill(member) })
	case 2:
		s.in(func(w *rehearse.World) { w.Cut(node) })
	case 3, 4:
		s.in(func(w *rehearse.World) { w.Heal(node) })
	case 5:
		s.dies()
		time.Sleep(time.Duration(random.IntN(2000)) * time.Millisecond)
		s.begin()
	case 6:
		_ = s.ask(Request{What: []string{"stop", "start", "restart"}[random.IntN(3)], Names: []string{string(member)}})
	case 7:
		s.in(func(w *rehearse.World) {
			p := []order.Procedure{order.Join, order.Promote, order.Leave, order.HandOver}[random.IntN(4)]
			if c := w.Cluster("wardens"); random.IntN(2) == 0 {
				c.Mute[p] = 1
			} else {
				c.Refuse[p] = random.IntN(30)
			}
			w.GivenAfter[node] = time.Duration(random.IntN(5000)) * time.Millisecond
		})
	default:
		_ = s.ask(Request{What: "deploy", Draft: voting(1+random.IntN(6), random.IntN(4))}) // refused now and then, with reason
	}
}
