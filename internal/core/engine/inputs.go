package engine

import (
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
)

// StopMembers, StartMembers and RestartMembers ask for members to be stopped, started again, or restarted one by one.
type (
	StopMembers struct {
		Members []field.MemberName
		By      string
	}
	StartMembers struct {
		Members []field.MemberName
		Without []field.MemberName // whose data is given up, should it be the newest or not to be read
		By      string
	}
	RestartMembers struct {
		Members []field.MemberName
		By      string
	}
)

// Retire asks for everything to be taken down.
type Retire struct{ By string }

// PauseRollout and ResumeRollout hold a rollout and let it go on.
type (
	PauseRollout  struct{ By string }
	ResumeRollout struct{ By string }
)

// NodeLost and NodeFound say whether a node's agent can be reached; NodeFreed, that nothing is left on a node.
type (
	NodeLost struct {
		Node    field.NodeName
		Why     string
		Refuses bool // it answers, and does not obey
	}
	NodeFound struct{ Node field.NodeName }
	NodeFreed struct{ Node field.NodeName }
)

// GiveUpNode says that a node is gone for good, such as a host that burned: nobody will answer for it any more. What was on it counts as gone.
type GiveUpNode struct {
	Node field.NodeName
	By   string
}

func (in GiveUpNode) decide(s *state.State) ([]state.Fact, error) {
	n := s.Nodes[in.Node]
	switch {
	case n == nil || n.Released:
		return nil, fmt.Errorf("there is no node %s that could be given up", in.Node)
	case !n.Unreachable:
		return nil, fmt.Errorf("%s can be reached, so nothing has to be given up: take it out of the file and deploy, or retire the field, and it is given back as it should be", in.Node)
	case !s.Retiring && s.Field.Node(in.Node) != nil:
		return nil, fmt.Errorf("%s is still in the field: take it out of the file and deploy first, so that others take the place of those that were on it", in.Node)
	}
	facts := []state.Fact{state.NodeAccounted{Node: in.Node, Unconfirmed: "it is gone for good, as " + in.By + " says, and nothing was looked for on it"}}
	for _, m := range state.SortedMembers(s) {
		switch {
		case m.Node != in.Node || m.Phase == state.Gone:
		case !s.Retiring && !(m.Leaving && m.Left):
			return nil, fmt.Errorf("%s on %s has not left its cluster yet: wait until it has, which the others see to", m.Name, in.Node)
		default:
			facts = append(facts, state.MemberGone{Member: m.Name, Forced: true})
		}
	}
	return append(facts, state.NodeReleased{Node: in.Node, Lost: true, By: in.By}), nil
}

func (in PauseRollout) decide(s *state.State) ([]state.Fact, error) {
	switch {
	case !s.Rollout.Active() || s.Retired || s.Retiring:
		return nil, fmt.Errorf("nothing is under way that could be paused")
	case s.Rollout.Held():
		return nil, fmt.Errorf("it is paused already")
	}
	return []state.Fact{state.RolloutPaused(in)}, nil
}

func (in ResumeRollout) decide(s *state.State) ([]state.Fact, error) {
	if !s.Rollout.Held() {
		return nil, fmt.Errorf("it is not paused")
	}
	return []state.Fact{state.RolloutResumed(in)}, nil
}

func guardOrder(s *state.State, what string) error {
	switch {
	case !s.Deployed():
		return fmt.Errorf("the field is not deployed, so there is nothing to %s", what)
	case s.Retiring:
		return fmt.Errorf("%s is being retired; nothing in it can be asked to %s any more", s.Field.Name, what)
	}
	return nil
}

func (in StopMembers) decide(s *state.State) ([]state.Fact, error) {
	if err := guardOrder(s, "stop"); err != nil {
		return nil, err
	}
	names := pick(s, in.Members, func(m *state.Member) bool { return !m.Halted })
	if len(names) == 0 {
		return nil, nil
	}
	return []state.Fact{state.StopAsked{Members: names, By: in.By}}, nil
}

func (in StartMembers) decide(s *state.State) ([]state.Fact, error) {
	if err := guardOrder(s, "start"); err != nil {
		return nil, err
	}
	without := pick(s, in.Without, func(m *state.Member) bool { return s.RoleOf(m.Role).Cold || m.Halted })
	names := pick(s, in.Members, func(m *state.Member) bool { return m.Halted || slices.Contains(without, m.Name) })
	if in.Without = without; len(names) == 0 && len(without) == 0 {
		return nil, nil
	}
	return []state.Fact{state.StartAsked{Members: names, Without: in.Without, By: in.By}}, nil
}

func (in RestartMembers) decide(s *state.State) ([]state.Fact, error) {
	if err := guardOrder(s, "restart"); err != nil {
		return nil, err
	}
	for _, name := range in.Members {
		if m := s.Members[name]; m != nil && m.Halted {
			return nil, fmt.Errorf("%s is stopped; start it instead", name)
		}
	}
	names := pick(s, in.Members, func(m *state.Member) bool { return m.Ordered.Want == order.Run })
	if len(names) == 0 {
		return nil, nil
	}
	return []state.Fact{state.RestartAsked{Members: names, Why: state.AskedFor, By: in.By}}, nil
}

// pick keeps the names of members that are there to stay and meet the condition.
func pick(s *state.State, names []field.MemberName, keep func(*state.Member) bool) []field.MemberName {
	var out []field.MemberName
	for _, name := range names {
		if m := s.Members[name]; m != nil && m.Phase != state.Gone && !m.Leaving && keep(m) {
			out = append(out, name)
		}
	}
	return out
}

func (in Retire) decide(s *state.State) ([]state.Fact, error) {
	if s.Retired {
		return nil, nil // it has just come to its end
	}
	if !s.Deployed() {
		return nil, fmt.Errorf("the field is not deployed, so there is nothing to retire")
	}
	if s.Retiring {
		return nil, nil
	}
	return []state.Fact{state.RetireAsked(in)}, nil
}

func (in NodeLost) decide(s *state.State) ([]state.Fact, error) {
	if n := s.Nodes[in.Node]; n == nil || !n.There() && !n.Releasing || n.Unreachable && !n.Unheard && n.Refuses == in.Refuses || n.Released {
		return nil, nil
	}
	return []state.Fact{state.NodeDark(in)}, nil
}

func (in NodeFound) decide(s *state.State) ([]state.Fact, error) {
	n := s.Nodes[in.Node]
	if n == nil || n.Released || !n.Unreachable && !n.Unheard {
		return nil, nil
	}
	if n.Forced { // a person has taken the field over: it answers once it has given a whole account
		return nil, nil
	}
	return []state.Fact{state.NodeBack(in)}, nil
}

func (in NodeFreed) decide(s *state.State) ([]state.Fact, error) {
	n := s.Nodes[in.Node]
	if n == nil || !n.Releasing || n.Released {
		return nil, nil
	}
	return []state.Fact{state.NodeReleased{Node: in.Node, Withdrawn: !n.There()}}, nil
}

// Choose finds the members that words of a command line name: nothing for all of them, or roles, nodes and members.
func Choose(s *state.State, what []string) ([]field.MemberName, error) {
	var all []field.MemberName
	known := map[string][]field.MemberName{}
	for _, m := range s.Members {
		if m.Phase == state.Gone || m.Leaving {
			continue
		}
		all = append(all, m.Name)
		for _, word := range []string{string(m.Name), string(m.Role), string(m.Node)} {
			known[word] = append(known[word], m.Name)
		}
	}
	if len(what) == 0 {
		slices.Sort(all)
		return all, nil
	}
	var chosen []field.MemberName
	for _, word := range what {
		names, ok := known[word]
		if !ok {
			words := make([]string, 0, len(known))
			for k := range known {
				words = append(words, k)
			}
			slices.Sort(words)
			if len(words) == 0 {
				return nil, fmt.Errorf("there is no role, node or member %q: nothing is deployed", word)
			}
			text := fmt.Sprintf("there is no role, node or member %q; there is %s", word, strings.Join(words, ", "))
			if near := field.Nearest(word, words); near != "" {
				text = fmt.Sprintf("there is no role, node or member %q; did you mean %q?", word, near)
			}
			return nil, fmt.Errorf("%s", text)
		}
		chosen = append(chosen, names...)
	}
	slices.Sort(chosen)
	return slices.Compact(chosen), nil
}
