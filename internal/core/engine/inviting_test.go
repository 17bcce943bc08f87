package engine

import (
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
)

// waiting is a deployed field of which two nodes come by invitation: skua in the far zone, tern in the near one. Nobody is to stand on them.
func waiting(t *testing.T) *state.State {
	t.Helper()
	s := sailing(t, 1)
	f := draft(1)
	f.Nodes = append(f.Nodes, field.Node{Name: "skua", Zone: "far", Ground: field.Ground{Kind: field.GroundJoin}},
		field.Node{Name: "tern", Zone: "near", Ground: field.Ground{Kind: field.GroundJoin}})
	must(t, s, Deploy{Draft: f, By: "the pilot"})
	if s.Rollout.Active() || !s.Nodes["skua"].Comes() || !Settled(s) {
		t.Fatalf("the rollout waits for machines on which nobody is to stand: %+v %+v", s.Rollout, s.Nodes["skua"])
	}
	return s
}

func invite(node field.NodeName, zone field.ZoneName, uses int) Invite {
	return Invite{ID: "i" + string(node) + string(zone), Sum: "right", Node: node, Zone: zone, Uses: uses, At: "10.0.0.1:7900", For: time.Hour, By: "the pilot"}
}

func TestWhatCannotBeInvitedIsRefused(t *testing.T) {
	s := waiting(t)
	short, long := invite("skua", "", 1), invite("skua", "", 1)
	short.For, long.For = time.Second, 365*24*time.Hour
	for want, in := range map[string]Invite{
		"has no node gannet":                         invite("gannet", "", 1),
		"gull-1 does not come by invitation":         invite("gull-1", "", 1),
		"has no zone nowhere":                        invite("", "nowhere", 1),
		"at the least and 30 days at the most":       long,
		"counts for 1 min":                           short,
		"2 machines cannot be invited at once":       invite("skua", "", 2),
		"0 machines cannot be invited at once":       invite("", "", 0),
		"no node of the field comes by invitation: ": invite("", "a", 1),
	} {
		if events, err := Step(s, morning, in); err == nil || !strings.Contains(err.Error(), want) || len(events) > 0 {
			t.Errorf("%v; want %s", err, want)
		}
	}
	must(t, s, Retire{By: "the pilot"})
	if _, err := Step(s, morning, invite("skua", "", 1)); err == nil {
		t.Error("a machine is invited to a field that is being retired")
	}
}

func TestWhoShowsAnInvitationIsLetInAsItSays(t *testing.T) {
	s := waiting(t)
	admit := func(id, sum, machine string, later time.Duration) (field.NodeName, string) {
		t.Helper()
		if _, err := Step(s, morning.Add(later), Admit{ID: id, Sum: sum, Machine: machine, From: "10.0.0.9", At: morning.Add(later)}); err != nil {
			return "", err.Error()
		}
		return s.Invitations[id].Used[machine], ""
	}
	refused := func(want, id, sum, machine string, later time.Duration) {
		t.Helper()
		if node, why := admit(id, sum, machine, later); node != "" || !strings.Contains(why, want) {
			t.Errorf("%s is let in as %q: %s; want %s", machine, node, why, want)
		}
	}
	accepted := func(want field.NodeName, id, machine string) {
		t.Helper()
		if node, why := admit(id, "right", machine, time.Minute); node != want {
			t.Errorf("%s is let in as %q: %s; want %s", machine, node, why, want)
		}
	}
	must(t, s, invite("skua", "", 1))
	refused("none of this field's", "forged", "right", "a", 0)
	refused("none of this field's", "iskua", "wrong", "a", 0)
	refused("expired on 1 Jan 2026 07:00 UTC", "iskua", "right", "a", time.Hour)
	accepted("skua", "iskua", "a")
	accepted("skua", "iskua", "a") // something came between, and it knocks again
	refused("was for 1 machine, and has been used", "iskua", "right", "b", time.Minute)

	// It arrives. It may come back with an invitation of its own; another may not take its place.
	must(t, s, NodeGiven{Node: "skua", Times: 1, Binding: state.Binding{Kind: field.GroundJoin, ID: "a", Address: "10.0.0.9", Dir: "/x"}})
	if _, err := Step(s, morning, invite("skua", "", 1)); err == nil || !strings.Contains(err.Error(), "skua has joined already: it is the machine a") {
		t.Errorf("a machine is invited as one that answers: %v", err)
	}
	must(t, s, NodeLost{Node: "skua", Why: "no answer in time"})
	again := invite("skua", "", 1)
	again.ID = "again"
	must(t, s, again)
	refused("skua is another machine, a", "again", "right", "b", time.Minute)
	accepted("skua", "again", "a")

	// One for any node: the one that is waited for, and no more than there are.
	must(t, s, invite("", "near", 3))
	accepted("tern", "inear", "c")
	must(t, s, NodeGiven{Node: "tern", Times: 1, Binding: state.Binding{Kind: field.GroundJoin, ID: "c", Address: "10.0.0.10", Dir: "/x"}})
	refused("every node in near that joins by invitation has its machine", "inear", "right", "d", time.Minute)
	must(t, s, Revoke{ID: "inear", By: "the pilot"})
	refused("none of this field's, or was revoked", "inear", "right", "c", time.Minute)
	if _, err := Step(s, morning, Revoke{ID: "inear"}); err == nil {
		t.Error("it is revoked twice")
	}

	// Ended ones are forgotten when the next is made.
	late := invite("", "", 2)
	late.ID = "late"
	if _, err := Step(s, morning.Add(2*time.Hour), late); err != nil {
		t.Fatal(err)
	}
	if len(s.Invitations) != 1 || len(s.OpenInvitations(morning.Add(2*time.Hour))) != 1 {
		t.Errorf("%v", s.Invitations)
	}
}

// TestAMemberWaitsForItsMachine has a member be placed on a node whose machine has not joined: the rollout waits, and goes on when it has.
func TestAMemberWaitsForItsMachine(t *testing.T) {
	s := sailing(t, 1)
	f := draft(2)
	f.Nodes = append(f.Nodes[:1], field.Node{Name: "skua", Zone: "far", Ground: field.Ground{Kind: field.GroundJoin}})
	must(t, s, Deploy{Draft: f, By: "the pilot"})
	must(t, s, NodeNotGiven{Node: "skua", Times: 1, Why: "no machine has joined as it yet", Awaited: true})
	if !s.Rollout.Active() || s.IsThere(s.Members["crews-2"]) {
		t.Fatalf("%+v %+v", s.Rollout, s.Members["crews-2"])
	}
	events := must(t, s, NodeGiven{Node: "skua", Times: 1, Binding: state.Binding{Kind: field.GroundJoin, ID: "a", Address: "10.0.0.9", Dir: "/x"}})
	ordered := false
	for _, e := range events {
		o, is := e.Fact.(state.MemberOrdered)
		ordered = ordered || is && o.Order.Member == "crews-2"
	}
	if !ordered || s.Nodes["skua"].Awaited {
		t.Errorf("its member is not ordered when it has joined: %v", events)
	}
}

// TestMembersThatCanDoWithoutEachOtherDoNotWaitForANodeThatCannotBeHad deploys two of a role of which one's node is refused: the other runs, and it follows
// when its node is there. Voters wait for all.
func TestMembersThatCanDoWithoutEachOtherDoNotWaitForANodeThatCannotBeHad(t *testing.T) {
	for _, votes := range []bool{false, true} {
		s := state.NewState()
		must(t, s, TakeOver{By: "test"})
		f := draft(3)
		f.Roles[0].Votes = votes
		f.Nodes = append(f.Nodes, field.Node{Name: "skua", Zone: "far", Ground: field.Ground{Kind: field.GroundJoin}}, field.Node{Name: "gull-2", Zone: "a"})
		f.Place = map[field.RoleName][]field.NodeName{"crews": {"gull-1", "gull-2", "skua"}}
		must(t, s, Deploy{Draft: f, By: "test"})
		must(t, s, NodeNotGiven{Node: "skua", Times: 1, Why: "it has no room"})
		running := func() (n int) {
			for _, m := range s.Members {
				if m.Ordered.Want == order.Run {
					n++
				}
			}
			return n
		}
		if got, want := running(), map[bool]int{false: 2, true: 0}[votes]; got != want {
			t.Errorf("voters %t: %d are ordered to run, want %d", votes, got, want)
		}
		must(t, s, NodeGiven{Node: "skua", Times: 1, Binding: state.Binding{Kind: field.GroundJoin, ID: "a", Address: "10.0.0.9", Dir: "/x"}})
		if got := running(); got != 3 {
			t.Errorf("voters %t: %d are ordered to run when all are there", votes, got)
		}
	}
}
