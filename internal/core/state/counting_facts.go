package state

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/core/field"
)

// Counting says which certificates count between controllers and agents, beside what they say themselves.
type Counting struct {
	Changes   int                          `json:",omitzero"` // how often any of it has changed
	Number    int64                        `json:",omitzero"` // of what agents are told; it rises with every change of that
	Authority int                          `json:",omitzero"` // how many authorities have taken the place of another
	Beside    bool                         `json:",omitzero"` // the newest does not count alone yet: agents are being given certificates by it
	Askers    time.Time                    `json:",omitzero"` // certificates of controllers and watchers that were issued before do not count
	Agents    map[field.NodeName]time.Time `json:",omitzero"` // likewise of the agents of nodes; replaced as a whole
}

// changed notes a change; told says that agents are told of it. Numbers follow the clock, so that a log that was brought back from a copy does not give one
// again that agents have heard.
func (c *Counting) changed(at time.Time, told bool) {
	c.Changes++
	if told {
		c.Number = max(c.Number+1, at.UnixNano())
	}
}

// from is the first moment from which certificates count that are issued after one: they say the second in which they were issued.
func from(at time.Time) time.Time { return at.Truncate(time.Second).Add(time.Second) }

// refuseAgents has certificates of the agents of nodes not count that have been issued until now.
func (c *Counting) refuseAgents(nodes []field.NodeName, at time.Time) {
	all := maps.Clone(c.Agents)
	if all == nil {
		all = map[field.NodeName]time.Time{}
	}
	for _, n := range nodes {
		all[n] = from(at)
	}
	c.Agents = all
	c.changed(at, false)
}

// AgentsRevoked says that certificates that agents of nodes have been given until now do not count.
type AgentsRevoked struct {
	Nodes []field.NodeName
	By    string
}

// ControllersRevoked says that certificates that controllers and watchers have been given until now do not count.
type ControllersRevoked struct{ By string }

// AgentsAuthorityMade says that another authority issues agents' certificates from now on. The one before counts until it is withdrawn.
type AgentsAuthorityMade struct{ By string }

// AgentsAuthorityWithdrawn says that the newest authority alone counts between controllers and agents from now on, and that invitations that were made
// before have ended: they name the one before.
type AgentsAuthorityWithdrawn struct {
	By   string
	Away []field.NodeName `json:",omitempty"` // whose agents have no certificate by it
}

func (f AgentsRevoked) apply(s *State, at time.Time) { s.Counting.refuseAgents(f.Nodes, at) }

// Sentence words the fact for the journal.
func (f AgentsRevoked) Sentence() string {
	return fmt.Sprintf("the certificate of the agent of %s is revoked by %s", namesOf(f.Nodes), f.By)
}

func (f ControllersRevoked) apply(s *State, at time.Time) {
	s.Counting.Askers = from(at)
	s.Counting.changed(at, true)
}

// Sentence words the fact for the journal.
func (f ControllersRevoked) Sentence() string {
	return fmt.Sprintf("all certificates of controllers and watchers that were issued until now are revoked by %s", f.By)
}

func (f AgentsAuthorityMade) apply(s *State, at time.Time) {
	s.Counting.Authority, s.Counting.Beside = s.Counting.Authority+1, true
	s.Counting.changed(at, true)
}

// Sentence words the fact for the journal.
func (f AgentsAuthorityMade) Sentence() string {
	return fmt.Sprintf("another authority issues agents' certificates, asked for by %s; the one before still counts", f.By)
}

func (f AgentsAuthorityWithdrawn) apply(s *State, at time.Time) {
	s.Counting.Beside, s.Invitations = false, nil
	s.Counting.changed(at, true)
}

// Sentence words the fact for the journal.
func (f AgentsAuthorityWithdrawn) Sentence() string {
	text := "the authority before no longer counts between controllers and agents"
	if len(f.Away) > 0 {
		text += fmt.Sprintf(", by the word of %s; the agent of %s has no certificate by the new one", f.By, namesOf(f.Away))
	}
	return text
}

func namesOf(nodes []field.NodeName) string {
	var names []string
	for _, n := range slices.Sorted(slices.Values(nodes)) {
		names = append(names, string(n))
	}
	return strings.Join(names, ", ")
}
