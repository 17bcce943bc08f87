package journal

import (
	"slices"
	"time"

	"lanternfield/internal/core/field"
)

// Event is an event as far as its causes are looked for.
type Event struct {
	At     time.Time
	Kind   string // as it is stored, e.g. member-ready
	Member field.MemberName
	Role   field.RoleName // also where it is about a member
	Node   field.NodeName // likewise
}

// How far back an event may lie that another follows from: what loses somebody notices it soon, what a person asks for may take its time.
const (
	soon = 2 * time.Minute
	long = 24 * time.Hour
)

// asked are the kinds by which a person asks for something.
var asked = []string{"accepted", "restart-asked", "start-asked", "stop-asked", "retire-asked", "procedures-resumed", "secret-changed", "certificate-installed", "certificate-removed", "rollout-resumed"}

// Cause finds which of the events before, which are in the order of time, an event follows from, and says how; -1 where there is none. Callers are, by role,
// the roles without whom it cannot do its work.
func Cause(events []Event, i int, calls map[field.RoleName][]field.RoleName) (cause int, how string) {
	f := causes{events, i, events[i], calls}
	for _, rule := range rules[f.of.Kind] {
		if j := f.before(rule.within, func(e Event) bool { return slices.Contains(rule.kinds, e.Kind) && rule.same(f, e) }); j >= 0 {
			return j, rule.how
		}
	}
	return -1, ""
}

type causes struct {
	events []Event
	i      int
	of     Event
	calls  map[field.RoleName][]field.RoleName
}

// before finds the newest event before, no older than that, which fits.
func (f causes) before(within time.Duration, fits func(Event) bool) int {
	for j := f.i - 1; j >= 0 && f.of.At.Sub(f.events[j].At) <= within; j-- {
		if fits(f.events[j]) {
			return j
		}
	}
	return -1
}

// rule says what an event may follow from. The first rule that finds something counts.
type rule struct {
	kinds  []string
	same   func(f causes, e Event) bool // what both must have in common
	within time.Duration
	how    string
}

func sameMember(f causes, e Event) bool { return e.Member == f.of.Member }
func sameNode(f causes, e Event) bool   { return e.Node == f.of.Node && e.Node != "" }
func sameRole(f causes, e Event) bool   { return e.Role == f.of.Role && e.Role != "" }
func anything(causes, Event) bool       { return true }

// called tells whether an event is of a role without which that of the other cannot work.
func called(f causes, e Event) bool { return slices.Contains(f.calls[f.of.Role], e.Role) }

// others tells whether an event is about another member of the same role.
func others(f causes, e Event) bool { return e.Member != f.of.Member && sameRole(f, e) }

// ends are the losses that others do not bring about; the rest of losses often follows from one of those.
var (
	ends   = []string{"member-exited", "node-dark", "member-stopped", "start-failed", "member-gone"}
	losses = append(slices.Clone(ends), "member-unready", "leader-lost")
)

var rules = map[string][]rule{
	"member-unready": {
		{[]string{"member-started"}, sameMember, 30 * time.Second, "it had just been started"},
		{[]string{"member-exited", "node-dark", "member-reloaded"}, sameMember, soon, "of the same member, just before"},
		{[]string{"node-dark"}, sameNode, soon, "its node could not be reached"},
		{append([]string{"leader-seen"}, losses...), called, soon, "it cannot work without that role"},
		{ends, others, soon, "another of its role was lost"},
		{losses, others, soon, "another of its role was lost"},
		{[]string{"node-dark"}, anything, soon, "a node could not be reached"},
	},
	"member-exited": {
		{[]string{"member-reloaded", "operation-done", "member-visited"}, sameMember, soon, "of the same member, just before"},
		{[]string{"member-unready"}, sameMember, soon, "it was not ready before it ended"},
		{append([]string{"leader-seen"}, losses...), called, soon, "it cannot work without that role"},
		{[]string{"node-dark"}, anything, soon, "a node could not be reached"},
	},
	"start-failed":   {{[]string{"member-exited", "member-ordered"}, sameMember, long, "it was being started"}},
	"member-started": {{[]string{"member-exited", "start-failed", "member-stopped", "member-ordered"}, sameMember, long, "it was started after that"}, {asked, anything, long, "somebody asked for it"}},
	"member-ready":   {{[]string{"member-started", "member-unready", "node-back"}, sameMember, long, "it came to be ready after that"}, {[]string{"node-back"}, sameNode, long, "its node could be reached again"}},
	"member-ordered": {
		{[]string{"member-ready", "proof-ended", "operation-done", "member-stopped"}, othersOrCalled, 5 * time.Second, "it waited for that"},
		{asked, anything, long, "somebody asked for it"},
	},
	"member-stopped":    {{[]string{"member-ordered", "member-leaving"}, sameMember, long, "it was told to stop"}, {asked, anything, long, "somebody asked for it"}},
	"member-gone":       {{[]string{"member-stopped", "member-leaving"}, sameMember, long, "that was on its way out"}},
	"member-leaving":    {{asked, anything, long, "somebody asked for it"}},
	"member-planned":    {{asked, anything, long, "somebody asked for it"}},
	"member-reloaded":   {{[]string{"member-ordered"}, sameMember, long, "it was given another configuration"}},
	"order-refused":     {{[]string{"member-ordered"}, sameMember, long, "it is the answer to that"}},
	"leader-seen":       {{append([]string{"operation-done"}, ends...), sameRole, soon, "the one before was lost, or handed over"}, {losses, sameRole, soon, "the one before was lost, or handed over"}, {[]string{"node-dark"}, anything, soon, "a node could not be reached"}, {[]string{"member-ready"}, sameRole, soon, "enough of them were there to elect one"}},
	"leader-lost":       {{ends, sameRole, soon, "who led was lost"}, {losses, sameRole, soon, "who led was lost"}},
	"roster-seen":       {{[]string{"operation-done", "member-ready", "member-exited"}, sameRole, soon, "the cluster changed after that"}},
	"node-back":         {{[]string{"node-dark"}, sameNode, long, "it could not be reached since then"}},
	"operation-asked":   {{[]string{"operation-done", "operation-undone", "member-ready"}, sameRole, soon, "it waited for that"}, {asked, anything, long, "somebody asked for it"}},
	"operation-done":    {{[]string{"operation-asked", "operation-retried"}, sameRole, long, "it is the answer to that"}},
	"operation-undone":  {{[]string{"operation-asked", "operation-retried"}, sameRole, long, "it is the answer to that"}},
	"operation-retried": {{[]string{"operation-asked", "operation-undone"}, sameRole, long, "it came to nothing before"}},
	"proof-ended":       {{[]string{"proof-asked"}, sameRole, long, "it was begun then"}, {losses, anything, soon, "somebody was lost just before"}},
	"proof-asked":       {{[]string{"member-ready", "leader-seen"}, sameRole, soon, "the role was ready"}, {asked, anything, long, "somebody asked for it"}},
	"rollout-ended":     {{[]string{"member-ready", "member-gone", "member-stopped", "proof-ended"}, anything, long, "that was the last of it"}},
	"rollout-failed":    {{[]string{"start-failed", "member-exited", "order-refused", "operation-undone", "proof-ended"}, anything, long, "that kept it from going on"}, {asked, anything, long, "it was begun then"}},
	"notice-begun":      {{losses, sameMemberIfAny, soon, "that is what it tells of"}, {losses, ofNobody, soon, "that is what it tells of"}},
	"notice-over":       {{[]string{"member-ready", "node-back", "leader-seen"}, anything, 10 * time.Minute, "it is well again since then"}},
	"notice-told":       {{[]string{"notice-begun", "notice-over"}, anything, long, "that was told"}},
	"node-released":     {{[]string{"member-gone", "node-releasing"}, sameNode, long, "nobody was left on it"}},
	"field-retired":     {{[]string{"node-released", "member-gone"}, anything, long, "nothing was left of it"}},
}

// sameMemberIfAny holds of everything where the event is about no member.
func sameMemberIfAny(f causes, e Event) bool { return f.of.Member != "" && sameMember(f, e) }

// ofNobody holds of everything where the event is about no member, but about a role or the whole field.
func ofNobody(f causes, _ Event) bool { return f.of.Member == "" }

// othersOrCalled tells whether an event is about another member, or about a role that is waited for.
func othersOrCalled(f causes, e Event) bool { return others(f, e) || called(f, e) }
