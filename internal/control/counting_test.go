package control

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/host"
	"lanternfield/internal/identity"
)

// running deploys two sleepers, and gives what they run as.
func running(t *testing.T, f Folder) (*Controller, map[field.MemberName]int) {
	t.Helper()
	s := open(t, f)
	if err := s.Do(context.Background(), Request{What: "deploy", Draft: sleepers(2), By: "test"}); err != nil {
		t.Fatal(err)
	}
	return s.(*Controller), pids(await(t, s, "converged", in(snapshot.Converged)))
}

func pids(s *snapshot.Snapshot) map[field.MemberName]int {
	out := map[field.MemberName]int{}
	for _, m := range s.Members {
		out[m.Member] = m.PID
	}
	return out
}

// answersAt is where the agent of a node answers.
func answersAt(t *testing.T, f Folder, node string) string {
	t.Helper()
	var end host.Endpoint
	data, err := os.ReadFile(host.EndpointFile(filepath.Join(f.nodes(), node)))
	if err == nil {
		err = json.Unmarshal(data, &end)
	}
	if err != nil {
		t.Fatal(err)
	}
	return end.URL
}

func doneBy(t *testing.T, c *Controller, r Request) {
	t.Helper()
	r.By = "test"
	if err := c.Do(context.Background(), r); err != nil {
		t.Fatal(err)
	}
}

// eventually waits until what agents show is as it should be.
func eventually(t *testing.T, c *Controller, what string, holds func(*snapshot.Trust) bool) {
	t.Helper()
	deadline := time.Now().Add(20 * time.Second)
	for {
		trust, err := c.Trust(context.Background())
		if err == nil && holds(trust) {
			return
		}
		if time.Now().After(deadline) {
			t.Fatalf("never %s: %+v, %v", what, trust, err)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

func allMoved(t *snapshot.Trust) bool {
	return !t.Beside && !slices.ContainsFunc(t.Agents, func(a snapshot.AgentShown) bool { return !a.Moved() })
}

// TestARevokedControllerIsHeardByNobody takes two certificates that agents answer, one of them in the middle of a conversation, and revokes them.
func TestARevokedControllerIsHeardByNobody(t *testing.T) {
	f := folder(t)
	c, before := running(t, f)
	ctx := context.Background()
	url := answersAt(t, f, "gull-1")
	stolen := f.watch() + ".copy"
	copied, err := os.ReadFile(f.watch())
	if err = errors.Join(err, os.WriteFile(stolen, copied, 0o600)); err != nil {
		t.Fatal(err)
	}
	watcher, err := identity.OpenWatch(stolen)
	if err != nil {
		t.Fatal(err)
	}
	// A controller by the same authority that hears nothing of what happens, as one whose memory was read out would be.
	authority, err := authorityOf(c.ring)
	if err != nil {
		t.Fatal(err)
	}
	other, err := authority.Controller()
	if err != nil {
		t.Fatal(err)
	}
	clients := map[string]*agentapi.Client{"a watcher": agentapi.NewClient(url, watcher.To("gull-1"), nil), "a controller": agentapi.NewClient(url, other.To("gull-1"), nil)}
	for who, x := range clients {
		defer x.Close()
		if _, err := x.Standing(ctx); err != nil {
			t.Fatalf("%s is not answered: %v", who, err)
		}
	}
	cut := make(chan time.Time, 1)
	go func() {
		for {
			if _, err := clients["a controller"].Reports(ctx, "", 1<<60, 0, 20*time.Second); err != nil {
				cut <- time.Now()
				return
			}
		}
	}()
	began := time.Now()
	doneBy(t, c, Request{What: RevokeControllers})
	select {
	case at := <-cut:
		t.Logf("a conversation was ended after %s", at.Sub(began))
	case <-time.After(10 * time.Second):
		t.Fatal("a conversation goes on")
	}
	for who, x := range clients {
		if _, err := x.Standing(ctx); err == nil {
			t.Errorf("%s is still answered", who)
		}
	}
	// The keeper goes on, and so does who watches with what is there now.
	eventually(t, c, "told", allMoved)
	doneBy(t, c, Request{What: "stop", Names: []string{"crews-1"}})
	await(t, c, "stopped", func(s *snapshot.Snapshot) bool { return pids(s)["crews-1"] == 0 })
	doneBy(t, c, Request{What: "start", Names: []string{"crews-1"}})
	if now := pids(await(t, c, "converged", in(snapshot.Converged))); now["crews-2"] != before["crews-2"] {
		t.Errorf("crews-2 was started anew: %v, then %v", before, now)
	}
	if now, err := os.ReadFile(f.watch()); err != nil || bytes.Equal(now, copied) {
		t.Errorf("watch.pem is as before: %v", err)
	}
	again, err := identity.OpenWatch(f.watch())
	if err != nil {
		t.Fatal(err)
	}
	x := agentapi.NewClient(url, again.To("gull-1"), nil)
	defer x.Close()
	if _, err := x.Standing(ctx); err != nil {
		t.Errorf("the new watcher is not answered: %v", err)
	}
}

// TestARevokedAgentIsReplaced revokes what an agent shows: whoever has its key is spoken with no more, and its successor goes on with its members.
func TestARevokedAgentIsReplaced(t *testing.T) {
	f := folder(t)
	c, before := running(t, f)
	if err := c.Do(context.Background(), Request{What: RevokeAgents, Names: []string{"gull-9"}, By: "test"}); err == nil {
		t.Error("the agent of a node that is not there was revoked")
	}
	began := time.Now().Truncate(time.Second)
	doneBy(t, c, Request{What: RevokeAgents, Names: []string{"gull-1"}})
	eventually(t, c, "replaced", func(x *snapshot.Trust) bool { return allMoved(x) && !x.Agents[0].Issued.Before(began) })
	if now := pids(await(t, c, "converged", in(snapshot.Converged))); now["crews-1"] != before["crews-1"] || now["crews-2"] != before["crews-2"] {
		t.Errorf("members were started anew: %v, then %v", before, now)
	}
}

// TestAgentsMoveToAnotherAuthority has another authority take the place of the one of agents while one of them cannot be reached.
func TestAgentsMoveToAnotherAuthority(t *testing.T) {
	f, g := folderWith(t)
	c, before := running(t, f)
	ctx := context.Background()
	first, _ := c.ring.Agents()
	thief, err := identity.Parse([]byte(first)) // whoever has read the keyring
	if err != nil {
		t.Fatal(err)
	}
	hide := func(node field.NodeName, hidden bool) {
		g.mu.Lock()
		g.cut[node] = hidden
		g.mu.Unlock()
		c.mu.Lock()
		c.driving[node].anew()
		c.mu.Unlock()
	}
	hide("tern-1", true)
	await(t, c, "cut off", func(s *snapshot.Snapshot) bool {
		return slices.ContainsFunc(s.Nodes, func(n snapshot.NodeView) bool { return n.Unreachable })
	})
	doneBy(t, c, Request{What: RotateAgents})
	eventually(t, c, "half moved", func(x *snapshot.Trust) bool {
		return x.Beside && x.Agents[0].Moved() && !x.Agents[1].Moved()
	})
	if err := c.Do(ctx, Request{What: RotateAgents, By: "test"}); err == nil {
		t.Error("a third authority was made")
	}
	hide("tern-1", false) // it believes the one before, and hears of the other now
	eventually(t, c, "moved", allMoved)
	now, next := c.ring.Agents()
	if now == first || next != "" || c.ring.Place() != 1 {
		t.Errorf("the keyring is at place %d, next %q", c.ring.Place(), next)
	}
	if after := pids(await(t, c, "converged", in(snapshot.Converged))); after["crews-1"] != before["crews-1"] || after["crews-2"] != before["crews-2"] {
		t.Errorf("members were started anew: %v, then %v", before, after)
	}
	for _, node := range []string{"gull-1", "tern-1"} {
		us, err := thief.Controller()
		if err != nil {
			t.Fatal(err)
		}
		x := agentapi.NewClient(answersAt(t, f, node), us.To(node), nil)
		if _, err := x.Standing(ctx); !errors.Is(err, agentapi.ErrUntrusted) {
			t.Errorf("whoever has the authority before is answered by %s: %v", node, err)
		}
		x.Close()
	}

	// One that is away until the end is left behind by name, and replaced when it comes back.
	hide("tern-1", true)
	doneBy(t, c, Request{What: RotateAgents})
	eventually(t, c, "half moved", func(x *snapshot.Trust) bool { return x.Agents[0].Moved() })
	doneBy(t, c, Request{What: FinishAgents})
	journal, err := c.Journal(ctx, Range{})
	if err != nil || !slices.ContainsFunc(journal, func(e Entry) bool {
		return bytes.Contains([]byte(e.Text), []byte("the agent of tern-1 has no certificate by the new one"))
	}) {
		t.Errorf("the journal does not say who was left behind: %v", err)
	}
	hide("tern-1", false)
	eventually(t, c, "moved", allMoved)
	if after := pids(await(t, c, "converged", in(snapshot.Converged))); after["crews-2"] != before["crews-2"] {
		t.Errorf("members were started anew: %v, then %v", before, after)
	}

	// Another process goes on with what is kept.
	if err := c.Close(); err != nil {
		t.Fatal(err)
	}
	again := open(t, f)
	await(t, again, "converged", in(snapshot.Converged))
}
