package snapshot

import (
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
)

// TestWhoDoesNotAnswerIsNamed: where the agents of all nodes of a zone are silent, it is the zone that is named.
func TestWhoDoesNotAnswerIsNamed(t *testing.T) {
	zones := map[field.NodeName]field.ZoneName{"gull-1": "north-quay", "gull-2": "north-quay", "tern-1": "south-quay", "tern-2": "south-quay", "skua-1": "lighthouse"}
	for _, test := range []struct {
		name   string
		silent string            // nodes, each of which has a member
		more   map[string]string // what else is known of them
		want   string
	}{
		{"one node", "tern-1", nil, "on-tern-1 is unknown: the agent of tern-1 does not answer"},
		{"one node, and why", "tern-1", map[string]string{"tern-1": ": connection refused"}, "on-tern-1 is unknown: the agent of tern-1 does not answer: connection refused"},
		{"two nodes of two zones", "gull-1 tern-1", map[string]string{"tern-1": ": connection refused"}, "on-gull-1 and on-tern-1 are unknown: the agents of gull-1 and tern-1 do not answer"},
		{"a zone", "gull-1 gull-2", nil, "on-gull-1 and on-gull-2 are unknown: no agent in north-quay answers"},
		{"two zones", "gull-1 gull-2 tern-1 tern-2", nil, "on-gull-1, on-gull-2, on-tern-1 and on-tern-2 are unknown: no agent in north-quay and south-quay answers"},
		{"a zone of one node", "skua-1", nil, "on-skua-1 is unknown: the agent of skua-1 does not answer"},
		{"a zone, and one of another", "gull-1 gull-2 tern-2", nil, "on-gull-1, on-gull-2 and on-tern-2 are unknown: no agent in north-quay answers, nor on tern-2"},
		{"all", "gull-1 gull-2 skua-1 tern-1 tern-2", nil, "on-gull-1, on-gull-2, on-skua-1 and 2 more are unknown: no agent of the field answers"},
	} {
		snap := &Snapshot{}
		for _, n := range []field.NodeName{"gull-1", "gull-2", "skua-1", "tern-1", "tern-2"} {
			silent := strings.Contains(" "+test.silent+" ", " "+string(n)+" ")
			snap.Nodes = append(snap.Nodes, NodeView{Node: n, Zone: zones[n], Unreachable: silent})
			m := MemberView{Member: field.MemberName("on-" + n), Node: n, Phase: state.Ready}
			if silent {
				m.Phase, m.Why = state.Unknown, state.Silent+test.more[string(n)]
			}
			snap.Members = append(snap.Members, m)
		}
		if got := strings.Join(darkMembers(snap), " · "); got != test.want {
			t.Errorf("%s: %q, want %q", test.name, got, test.want)
		}
	}
}

// TestWhatIsNoticedStandsBeforeWhatIsWell: a verdict that does not fit is cut at its end.
func TestWhatIsNoticedStandsBeforeWhatIsWell(t *testing.T) {
	snap := &Snapshot{State: Converged, said: "3 of 3 lit", Roles: []RoleView{{Role: "wardens", Votes: true, Want: 3, Voters: 3, VotesReady: 3, Survives: 1}},
		Notices: []state.Notice{{Kind: state.NoticeCertificate, Text: "a certificate runs out", Since: time.Unix(10, 0)}, {Kind: state.NoticeDisk, Text: "the disk of wardens-1 is full", Since: time.Unix(20, 0), Bad: true},
			{Kind: state.NoticeLag, Text: "crews-1 is behind", Since: time.Unix(30, 0)}}}
	if snap.Judged(); snap.Verdict != "3 of 3 lit · the disk of wardens-1 is full · crews-1 is behind · a certificate runs out · wardens holds 3 of 3 votes and survives 1 more loss" {
		t.Errorf("the verdict is %q", snap.Verdict)
	}
}
