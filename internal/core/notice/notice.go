// Package notice finds what a person is to be told of: a field that does not work as it should, a role that is one loss from stopping, members that
// come and go or are stuck, disks that fill, lag that grows, what is not as it was ordered, certificates that end. What is found is compared with what was told.
package notice

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/trust"
	"lanternfield/internal/core/wording"
)

// Of finds what is so now. The snapshot is that of the state; trends are what was measured of members, by name.
func Of(s *state.State, snap *snapshot.Snapshot, trends map[field.MemberName]*Trend, now time.Time) []state.Notice {
	if !s.Deployed() || s.Retiring || snap.State == snapshot.Draft {
		return nil
	}
	f := finder{s: s, snap: snap, trends: trends, now: now}
	f.state()
	f.survivals()
	f.flapping()
	f.stuck()
	f.disks()
	f.lags()
	f.drift()
	f.logs()
	f.certificates()
	return f.found
}

type finder struct {
	s      *state.State
	snap   *snapshot.Snapshot
	trends map[field.MemberName]*Trend
	now    time.Time
	found  []state.Notice
}

func (f *finder) add(n state.Notice) {
	n.ID = cmp.Or(n.ID, string(n.Kind)+"/"+cmp.Or(string(n.Member), string(n.Role), string(n.Node)))
	f.found = append(f.found, n)
}

func (f *finder) state() {
	if f.snap.State == snapshot.Degraded || f.snap.State == snapshot.Down {
		f.add(state.Notice{ID: string(f.snap.State), Kind: state.NoticeState, Bad: f.snap.State == snapshot.Down,
			Text: fmt.Sprintf("%s is %s: %s", f.snap.Field, f.snap.State, f.snap.Said())})
	}
}

func (f *finder) survivals() {
	most := field.NoticeSurvives
	if own := f.s.Field.Notices.Survives; own != nil {
		most = *own
	}
	for _, r := range f.snap.Roles {
		whole := r.Want - 1 // losses that it survives when all is well
		if r.Votes {
			whole = (r.Voters - 1) / 2
		} else if !r.Leased {
			continue
		}
		if !r.Worked || r.Halted || r.Survives > most || r.Survives >= whole {
			continue
		}
		var text string
		switch {
		case r.Survives < 0:
			text = fmt.Sprintf("%s cannot do its work: too few of its members are there", r.Role)
		case r.Survives == 0:
			text = fmt.Sprintf("one more loss in %s stops writes; %s when all is well", r.Role, survived(whole))
		default:
			text = fmt.Sprintf("%s survives %s; %d when all is well", r.Role, strings.TrimPrefix(survived(r.Survives), "it survives "), whole)
		}
		f.add(state.Notice{Kind: state.NoticeSurvival, Role: r.Role, Text: text, Bad: r.Survives < 0})
	}
}

func survived(n int) string {
	if n == 1 {
		return "it survives 1 loss"
	}
	return fmt.Sprintf("it survives %d losses", n)
}

func (f *finder) flapping() {
	for _, m := range f.snap.Members {
		if of := f.s.Members[m.Member]; of != nil && !of.Leaving && !of.Halted {
			if text := of.Flaps(f.now); text != "" {
				f.add(state.Notice{Kind: state.NoticeFlapping, Member: m.Member, Role: m.Role, Node: m.Node, Text: text})
			}
		}
	}
}

// mostStuck is how many stuck members of a role are told each alone.
const mostStuck = 3

// stuck finds who is stuck on the way to being ready, or to its end: of many in a role, the role.
func (f *finder) stuck() {
	for _, r := range f.snap.Roles {
		var names []string
		var of []snapshot.MemberView
		for _, m := range f.snap.Members {
			if m.Role == r.Role && m.Stuck() {
				names, of = append(names, string(m.Member)), append(of, m)
			}
		}
		if len(of) > mostStuck {
			f.add(state.Notice{Kind: state.NoticeStuck, Role: r.Role, Text: fmt.Sprintf("%d members of %s are stuck: %s", len(of), r.Role, wording.FirstOf(names, mostStuck))})
			continue
		}
		for _, m := range of {
			f.add(state.Notice{Kind: state.NoticeStuck, Member: m.Member, Role: m.Role, Node: m.Node, Text: m.Late() + m.Besides()})
		}
	}
}

// disks looks at each disk once: the nodes of this machine share theirs.
func (f *finder) disks() {
	least := cmp.Or(f.s.Field.Notices.Disk, field.NoticeDisk)
	type disk struct {
		host string
		size int64
	}
	of := map[disk][]*snapshot.MemberView{}
	for i := range f.snap.Members {
		m := &f.snap.Members[i]
		if t := f.trends[m.Member]; t != nil && t.Last().Size > 0 {
			host := string(m.Node)
			if n := f.s.Nodes[m.Node]; n != nil && (n.Kind == "" || n.Kind == "local") {
				host = ""
			}
			key := disk{host, t.Last().Size}
			of[key] = append(of[key], m)
		}
	}
	for _, d := range slices.SortedFunc(maps.Keys(of), func(a, b disk) int { return cmp.Or(cmp.Compare(a.host, b.host), cmp.Compare(a.size, b.size)) }) {
		members := of[d]
		m := members[0]
		t := f.trends[m.Member]
		last := t.Last()
		left, fills := t.Filling()
		percent := float64(last.Free) / float64(last.Size) * 100
		if percent > float64(least) && !fills {
			continue
		}
		names := make([]string, len(members))
		for i, m := range members {
			names[i] = string(m.Member)
		}
		text := fmt.Sprintf("the disk of %s on %s has %s free, %.1f %% of %s", wording.FirstOf(names, 3), m.Node, field.Bytes(last.Free), percent, field.Bytes(last.Size))
		if fills {
			text += fmt.Sprintf(", and is full in about %s at the pace of the last minutes", field.Span(left.Round(time.Second)))
		}
		f.add(state.Notice{ID: fmt.Sprintf("disk/%s/%d", cmp.Or(d.host, "this machine"), d.size), Kind: state.NoticeDisk, Member: m.Member, Role: m.Role, Node: m.Node, Text: text, Bad: last.Free == 0})
	}
}

func (f *finder) lags() {
	for _, m := range f.snap.Members {
		t := f.trends[m.Member]
		if t == nil || m.Phase != state.Ready || t.Last().Lag == nil {
			continue
		}
		lag := *t.Last().Lag
		most, bounded := f.s.Field.Notices.Lag[m.Role]
		rate, grows := t.Growing()
		if !grows && (!bounded || lag <= most) {
			continue
		}
		unit := ""
		if m.Gauge != nil {
			unit = m.Gauge.Unit
		}
		text := fmt.Sprintf("%s is %s behind", m.Member, field.Amount(lag, unit))
		if bounded && lag > most {
			text += ", more than " + field.Amount(most, unit)
		}
		if grows {
			text += fmt.Sprintf(", and falls further behind by %s every second", field.Amount(rate, unit))
		}
		f.add(state.Notice{Kind: state.NoticeLag, Member: m.Member, Role: m.Role, Node: m.Node, Text: text})
	}
}

// logs finds whose lines do not get where they are to go, by role: most have one reason.
func (f *finder) logs() {
	for _, r := range f.snap.Roles {
		var names []string
		var first snapshot.MemberView
		why := ""
		for _, m := range f.snap.Members {
			if t := f.trends[m.Member]; m.Role == r.Role && t != nil && t.Unsent != "" {
				if names = append(names, string(m.Member)); why == "" {
					why, first = t.Unsent, m
				}
			}
		}
		if len(names) > 0 {
			f.add(state.Notice{ID: "logs/" + string(r.Role), Kind: state.NoticeLogs, Member: first.Member, Role: r.Role, Node: first.Node, Text: wording.FirstOf(names, 3) + ": " + why})
		}
	}
}

func (f *finder) drift() {
	for _, m := range f.snap.Members {
		var parts []string
		if t := f.trends[m.Member]; t != nil && len(t.Altered) > 0 && !m.Leaving {
			parts = append(parts, fmt.Sprintf("%s %s not as ordered: somebody has changed %s by hand (a restart puts %s right)", wording.And(t.Altered),
				wording.Plural(len(t.Altered), "is", "are"), wording.Plural(len(t.Altered), "it", "them"), wording.Plural(len(t.Altered), "it", "them")))
		}
		if m.TakenOff {
			parts = append(parts, fmt.Sprintf("%s does not list it any more: somebody has taken it off by hand", m.Role))
		}
		if m.Unfit != "" {
			parts = append(parts, "it runs as before: "+m.Unfit)
		}
		if len(parts) > 0 {
			f.add(state.Notice{Kind: state.NoticeDrift, Member: m.Member, Role: m.Role, Node: m.Node, Text: string(m.Member) + ": " + strings.Join(parts, "; ")})
		}
	}
	for _, r := range f.snap.Roles {
		if len(r.Strangers) > 0 {
			f.add(state.Notice{Kind: state.NoticeDrift, Role: r.Role, Text: fmt.Sprintf("%s lists %s, which %s none of ours", r.Role, wording.FirstOf(r.Strangers, 3), wording.Plural(len(r.Strangers), "is", "are"))})
		}
	}
	for _, n := range state.SortedNodes(f.s) {
		if !n.Released && n.RulesWhy != "" && f.s.Field.Rules == field.RulesManaged {
			f.add(state.Notice{Kind: state.NoticeDrift, Node: n.Name, Text: fmt.Sprintf("the packet filter of %s is not as it should be: %s", n.Name, n.RulesWhy)})
		}
	}
}

// certificates finds those that end soon: of members, that were to be renewed long since; and from outside, which nobody here can renew.
func (f *finder) certificates() {
	own := time.Duration(f.s.Field.Notices.Certificates)
	for i := range f.s.Field.Roles {
		name := f.s.Field.Roles[i].Name
		r := f.s.RoleOf(name)
		if r.Outside != nil && r.Outside.Until.Sub(f.now) < cmp.Or(own, trust.Soon) {
			f.add(state.Notice{Kind: state.NoticeCertificate, Role: name, Text: snapshot.EndingWithin(name, *r.Outside, f.now, cmp.Or(own, trust.Soon)), Bad: !r.Outside.Until.After(f.now)})
			continue
		}
		var ending []*state.Member
		for _, m := range f.s.MembersOf(name) {
			if of := m.Issue; of.Number > 0 && !m.Leaving && m.Phase != state.Gone && of.Until.Sub(f.now) < min(cmp.Or(own, 1<<62), of.Until.Sub(of.From)/6) {
				ending = append(ending, m)
			}
		}
		if len(ending) == 0 {
			continue
		}
		first := slices.MinFunc(ending, func(a, b *state.Member) int { return a.Issue.Until.Compare(b.Issue.Until) })
		names := make([]string, len(ending))
		for i, m := range ending {
			names[i] = string(m.Name)
		}
		left := first.Issue.Until.Sub(f.now)
		text := fmt.Sprintf("the %s of %s should have been renewed, and %s in %s", wording.Plural(len(ending), "certificate", "certificates"), wording.FirstOf(names, 3),
			wording.Plural(len(ending), "ends", "the first of them ends"), field.Span(left.Round(time.Second)))
		if left <= 0 {
			text = fmt.Sprintf("the certificate of %s has ended, and was not renewed: whom it calls refuses it", wording.FirstOf(names, 3))
		}
		f.add(state.Notice{Kind: state.NoticeCertificate, Role: name, Member: first.Name, Text: text, Bad: left <= 0})
	}
}
