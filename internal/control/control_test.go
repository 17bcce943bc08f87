package control

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"lanternfield/internal/agent"
	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/ground"
	"lanternfield/internal/ground/kind"
	"lanternfield/internal/keyring"
)

// inside is a ground whose agents run in this process, so that the race detector sees both sides.
type inside struct {
	*ground.Local
	ctx context.Context
	mu  sync.Mutex
	end map[field.NodeName]func() // and wait for it
	all sync.WaitGroup
	cut map[field.NodeName]bool // cannot be reached
}

func (g *inside) Find(ctx context.Context, node field.NodeName, at state.Binding) (agentapi.Agent, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.cut[node] {
		return nil, errCut
	}
	return g.Local.Find(ctx, node, at)
}

var errCut = errors.New("the node is cut off")

func (g *inside) Ensure(ctx context.Context, node field.NodeName, at state.Binding) (agentapi.Agent, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.cut[node] {
		return nil, errCut
	}
	if g.end[node] != nil {
		c, err := g.Local.Find(ctx, node, at)
		if err == nil {
			if _, err := c.Standing(ctx); !errors.Is(err, agentapi.ErrUntrusted) {
				return c, nil
			}
			c.Close()
		}
		g.end[node]()
		delete(g.end, node)
	}
	if g.end[node] == nil {
		ours, theirs := net.Pipe()
		defer ours.Close()
		life, cancel := context.WithCancel(g.ctx)
		ended := make(chan struct{})
		g.end[node] = func() { cancel(); <-ended }
		g.all.Add(1)
		go func() {
			defer g.all.Done()
			defer close(ended)
			for {
				err := agent.Run(life, agent.Options{Dir: at.Dir, Node: node, Address: at.Address, Enrol: theirs})
				if !errors.Is(err, agent.ErrRunning) {
					break
				}
				time.Sleep(5 * time.Millisecond) // a process that was just being started had the lock of the one before, until it ran
			}
			theirs.Close()
		}()
		if _, err := g.Authority.Enrol(ours, string(node), g.Seal(node)); err != nil {
			return nil, err
		}
	}
	return g.Local.Find(ctx, node, at)
}

func (g *inside) Release(_ context.Context, node field.NodeName, at state.Binding) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.end[node] != nil {
		g.end[node]()
		delete(g.end, node)
	}
	return os.RemoveAll(at.Dir)
}

// TestMain gives the tests an owner's key of their own.
func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "lf-owner-")
	if err != nil {
		panic(err)
	}
	os.Setenv(keyring.OwnerVariable, filepath.Join(dir, "owner.key"))
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// folder is a state folder with agents inside this process.
func folder(t *testing.T) Folder {
	t.Helper()
	f, _ := folderWith(t)
	return f
}

func folderWith(t *testing.T) (Folder, *inside) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	g := &inside{ctx: ctx, end: map[field.NodeName]func(){}, cut: map[field.NodeName]bool{}}
	f := Folder{Dir: filepath.Join(t.TempDir(), strings.Repeat("deep/", 30), "saltmarsh"), Grounds: func(l *ground.Local) ground.Several {
		g.Local = l
		return ground.Several{kind.Local: g}
	}}
	t.Cleanup(func() {
		cancel()
		g.all.Wait()
		endBelow(t, f.Dir)
	})
	return f, g
}

func sleepers(members int) *field.Field {
	f := &field.Field{Name: "saltmarsh", Nodes: []field.Node{{Name: "gull-1", Zone: "a"}, {Name: "tern-1", Zone: "b"}},
		Roles: []field.Role{{Name: "crews", Members: members, Program: &field.Program{Command: []string{"sleep", "600"},
			Ready: &field.Probe{Call: field.Call{Exec: []string{"true"}}, Every: field.Duration(200 * time.Millisecond)}}}}}
	field.FillDefaults(f)
	return f
}

func open(t *testing.T, f Folder) Session {
	t.Helper()
	s, err := Open(context.Background(), f, "test")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() }) // one that goes on would write to a folder that is being removed
	return s
}

func await(t *testing.T, s Session, what string, holds func(*snapshot.Snapshot) bool) *snapshot.Snapshot {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	snapshots, err := s.Watch(ctx)
	if err != nil {
		t.Fatal(err)
	}
	var last *snapshot.Snapshot
	for snap := range snapshots {
		if last = snap; holds(snap) {
			return snap
		}
	}
	t.Fatalf("never %s; last: %+v", what, last)
	return nil
}

func in(state snapshot.Condition) func(*snapshot.Snapshot) bool {
	return func(s *snapshot.Snapshot) bool { return s.State == state && !s.Rollout.Active }
}

func TestOneHoldsAndAllActThroughIt(t *testing.T) {
	f := folder(t)
	ctx := context.Background()
	first := open(t, f)
	if _, ok := first.(*Controller); !ok {
		t.Fatalf("the first session is a %T", first)
	}
	second := open(t, f)
	if _, ok := second.(*remote); !ok {
		t.Fatalf("the second session is a %T", second)
	}
	review, err := second.Review(ctx, sleepers(3))
	if err != nil || len(review.Steps) != 5 {
		t.Fatalf("review: %+v, %v", review, err)
	}
	if err := second.Do(ctx, Request{What: "deploy", Draft: sleepers(3), By: "test"}); err != nil {
		t.Fatal(err)
	}
	for _, s := range []Session{first, second} {
		snap := await(t, s, "converged", in(snapshot.Converged))
		if lit, want := snap.Lit(); lit != 3 || want != 3 {
			t.Errorf("%T: %d of %d lit", s, lit, want)
		}
	}
	if err := second.Do(ctx, Request{What: "stop", Names: []string{"crews-9"}}); err == nil || !strings.HasPrefix(err.Error(), `there is no role, node or member "crews-9"`) {
		t.Errorf("a refused order came back as %v", err)
	}
	if err := second.Do(ctx, Request{What: "sing"}); err == nil {
		t.Error("an unknown order was taken")
	}
	samples, err := second.Tide(ctx, time.Time{})
	if err != nil || len(samples) == 0 || samples[len(samples)-1].Lit != 3 {
		t.Errorf("tide: %+v, %v", samples, err)
	}
	entries, err := second.Journal(ctx, Range{Limit: 2})
	if err != nil || len(entries) != 2 || entries[0].Kind != "term-raised" || entries[1].Seq != 2 {
		t.Errorf("journal: %+v, %v", entries, err)
	}

	// Many act at once: everything is decided one after the other.
	var all sync.WaitGroup
	for i := range 8 {
		all.Add(1)
		go func() {
			defer all.Done()
			s := []Session{first, second}[i%2]
			for n := range 5 {
				_ = s.Do(ctx, Request{What: []string{"stop", "start", "restart"}[(n+i)%3], Names: []string{fmt.Sprintf("crews-%d", i%3+1)}})
				_, _ = s.Snapshot(ctx)
				_, _ = s.Review(ctx, sleepers(n))
			}
		}()
	}
	all.Wait()
	if err := first.Do(ctx, Request{What: "start"}); err != nil {
		t.Fatal(err)
	}
	await(t, second, "converged", in(snapshot.Converged))

	// The holder goes; what runs goes on, and the next one takes it over under a higher term.
	before, err := first.Snapshot(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if err := first.Close(); err != nil {
		t.Fatal(err)
	}
	if _, err := second.Snapshot(ctx); err == nil {
		t.Error("a session through a holder that has gone still answers")
	}
	looked, err := Look(ctx, f)
	if err != nil || looked.State != snapshot.Converged {
		t.Errorf("looking without a controller: %+v, %v", looked, err)
	}
	third := open(t, f)
	after := await(t, third, "converged", in(snapshot.Converged))
	if after.Term != before.Term+1 || after.Members[0].PID != before.Members[0].PID {
		t.Errorf("term %d after %d, process %d after %d", after.Term, before.Term, after.Members[0].PID, before.Members[0].PID)
	}
	if err := third.Do(ctx, Request{What: "retire", By: "test"}); err != nil {
		t.Fatal(err)
	}
	await(t, third, "retired", in(snapshot.Retired))
	receipt, err := WriteReceipt(f)
	if err != nil || len(receipt.Members) != 3 || len(receipt.Nodes) != 2 || len(receipt.Left) != 0 {
		t.Errorf("receipt: %+v, %v", receipt, err)
	}
	if err := third.Close(); err != nil {
		t.Fatal(err)
	}
	if err := Forget(f); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(f.Dir); !os.IsNotExist(err) {
		t.Errorf("forgotten, and still there: %v", err)
	}
}

func TestOnlyARetiredFieldIsForgotten(t *testing.T) {
	foreign := Folder{Dir: t.TempDir()}
	if err := os.WriteFile(filepath.Join(foreign.Dir, "precious"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := Forget(foreign); err == nil || !strings.HasPrefix(err.Error(), "nothing is known of ") {
		t.Errorf("a folder that is no field's: %v", err)
	}
	if _, err := os.Stat(filepath.Join(foreign.Dir, "precious")); err != nil {
		t.Errorf("a foreign folder was removed: %v", err)
	}
	f := folder(t)
	s := open(t, f)
	if err := s.Do(context.Background(), Request{What: "deploy", Draft: sleepers(1)}); err != nil {
		t.Fatal(err)
	}
	var held *HeldError
	if err := Forget(f); !errors.As(err, &held) || held.Holder.PID != os.Getpid() {
		t.Errorf("a field that is held: %v", err)
	}
	await(t, s, "converged", in(snapshot.Converged))
	s.Close()
	if err := Forget(f); err == nil || err.Error() != "saltmarsh is deployed; retire it before it is forgotten" {
		t.Errorf("a field that is deployed: %v", err)
	}
	s = open(t, f)
	defer s.Close()
	if err := s.Do(context.Background(), Request{What: "retire"}); err != nil {
		t.Fatal(err)
	}
	await(t, s, "retired", in(snapshot.Retired))
}

func TestSecretsAreDerivedAndStay(t *testing.T) {
	f := folder(t)
	if err := f.make(); err != nil {
		t.Fatal(err)
	}
	ring, err := f.keyring()
	if err != nil {
		t.Fatal(err)
	}
	key := ring.Key()
	again, err := f.keyring()
	if err != nil || !bytes.Equal(key, again.Key()) {
		t.Errorf("another key the second time: %v", err)
	}
	name := filepath.Join(f.own(), keyring.File)
	if info, _ := os.Stat(name); info.Mode().Perm() != 0o600 {
		t.Errorf("the keyring's mode is %v", info.Mode())
	}
	if a, b := derive(key, "a"), derive(key, "b"); a == b || len(a) != 32 || a != derive(again.Key(), "a") {
		t.Errorf("derived %q and %q", a, b)
	}
	if err := os.WriteFile(name, []byte("short"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := f.keyring(); err == nil || !strings.Contains(err.Error(), "is damaged") {
		t.Errorf("a damaged keyring: %v", err)
	}
}

func TestRootIsWhereItIsSaidToBe(t *testing.T) {
	t.Setenv("LANTERNFIELD_STATE", "")
	t.Setenv("XDG_STATE_HOME", "/x")
	for _, test := range []struct{ flag, env, want string }{{"/f", "/e", "/f"}, {"", "/e", "/e"}, {"", "", "/x/lanternfield"}} {
		t.Setenv("LANTERNFIELD_STATE", test.env)
		if got, err := Root(test.flag); got != test.want || err != nil {
			t.Errorf("%+v: got %s, %v", test, got, err)
		}
	}
	t.Setenv("XDG_STATE_HOME", "")
	t.Setenv("HOME", "/h")
	if got, _ := Root(""); got != "/h/.local/state/lanternfield" {
		t.Errorf("got %s", got)
	}
}

// TestWhoeverIsAnsweredSeesItInTheNextSnapshot repeats what once came late only now and then.
func TestWhoeverIsAnsweredSeesItInTheNextSnapshot(t *testing.T) {
	s := open(t, folder(t))
	draft := sleepers(1)
	for i := range 400 { // roles without members, so that a snapshot takes long enough to come late
		draft.Roles = append(draft.Roles, field.Role{Name: field.RoleName(fmt.Sprint("none-", i)), Program: draft.Roles[0].Program})
	}
	field.FillDefaults(draft)
	if err := s.Do(t.Context(), Request{What: "deploy", Draft: draft, By: "test"}); err != nil {
		t.Fatal(err)
	}
	await(t, s, "converged", in(snapshot.Converged))
	for i := range 100 {
		what := []string{"stop", "start"}[i%2]
		if err := s.Do(t.Context(), Request{What: what, By: "test"}); err != nil {
			t.Fatal(err)
		}
		if snap, err := s.Snapshot(t.Context()); err != nil || snap.Rollout.What != what {
			t.Fatalf("order %d: after %s was answered the snapshot says %q (%v)", i, what, snap.Rollout.What, err)
		}
	}
}

// Open holds a field in this process, or gives a session through who holds it: the tests' controllers are in their own process, so that the
// race detector sees both sides.
func Open(ctx context.Context, f Folder, command string) (Session, error) {
	c, err := Hold(ctx, f, command)
	var held *HeldError
	if errors.As(err, &held) && held.Answers {
		s, _, err := Attach(ctx, f, command)
		return s, err
	}
	if err != nil {
		return nil, err
	}
	return c, nil
}
