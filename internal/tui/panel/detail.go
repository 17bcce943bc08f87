// Package panel draws what stands beside or over the board: the detail of what is under the cursor, the review, and the
// keys.
package panel

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/tui/theme"

	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wording"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/whatif"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
)

// Foot is what stands below everything that is said: what can be done, or what would hurt.
type Foot struct {
	Head  string
	Lines []Can
}

// Can is something that the person can do to what is spoken of, or a failure with what it would lead to.
type Can struct{ Key, Word string }

// Detail speaks of what is under the cursor, and of what can be done about it. It gives how many rows it would need.
func Detail(g *grid.Grid, k theme.Theme, m *board.Model, c board.Cursor, now time.Time, foot Foot, a board.Area) {
	for y := a.Y; y < a.Y+a.H; y++ {
		g.Set(a.X, y, k.Or('│', '|'), k.In(k.Faint))
	}
	speak(&writer{g: g, k: k, x: a.X + 2, y: a.Y, w: a.W - 3, h: a.Y + a.H}, m, c, now, foot)
}

// DetailOver says the same in the middle of the screen, where there is no room beside the board.
func DetailOver(g *grid.Grid, k theme.Theme, m *board.Model, c board.Cursor, now time.Time, foot Foot) {
	w := min(g.W-2, 64)
	try := &writer{g: grid.New(g.W, g.H, k.Page()), k: k, x: 1, w: w - 4, h: g.H - 4}
	speak(try, m, c, now, foot)
	h := min(g.H-2, try.y+5)
	if len(foot.Lines) > 0 {
		h = min(g.H-2, try.y+len(foot.Lines)+6)
	}
	x, y := (g.W-w)/2, max(1, (g.H-h)/2)
	g.Fill(x, y, w, h, ' ', grid.Style{Fg: k.Paper, Bg: k.Raise})
	g.Clip(x+2, y+h-1, w-4, "esc goes back", k.Quiet())
	speak(&writer{g: g, k: k, x: x + 2, y: y + 1, w: w - 4, h: y + h - 2}, m, c, now, foot)
}

func speak(p *writer, m *board.Model, c board.Cursor, now time.Time, foot Foot) {
	at := m.Under(c)
	if n := len(foot.Lines); n > 0 { // it is never pushed out
		p.h -= n + 2
		key := 6
		for _, x := range foot.Lines {
			key = max(key, grid.Width(x.Key)+3)
		}
		low := &writer{g: p.g, k: p.k, x: p.x, y: p.h + 1, w: p.w, h: p.h + n + 2}
		low.text(foot.Head, p.k.Dim)
		for _, x := range foot.Lines {
			p.g.Text(low.x+2, low.y, x.Key, p.k.In(p.k.Act).Strong())
			p.g.Clip(low.x+key, low.y, low.w-key, x.Word, p.k.Text())
			low.y++
		}
	}
	switch {
	case at.Member != "":
		role, member := m.Member(at.Member)
		p.member(m, role, *member, now)
	case at.Role != "" && at.Zone == "" && at.Node == "" && c.Post < 0:
		p.role(m, m.Role(at.Role), now)
	case at.Role != "" && at.Node != "":
		p.title(string(at.Node), "has no "+string(at.Role))
		p.text(fmt.Sprintf("Nothing of %s hangs on this post.", at.Role), p.k.Dim)
	case at.Role != "":
		p.crossing(m.Role(at.Role), c.Post, at.Zone)
	case at.Node != "":
		p.node(m, *m.NodeView(at.Node))
	case c.Post >= 0 && c.Post < len(m.Posts):
		p.zone(m, m.Zones[m.Posts[c.Post].Zone])
	}
}

// Carry says what dropping a member where the cursor stands would mean.
func Carry(g *grid.Grid, k theme.Theme, m *board.Model, c board.Cursor, name field.MemberName, a board.Area) {
	for y := a.Y; y < a.Y+a.H; y++ {
		g.Set(a.X, y, k.Or('│', '|'), k.In(k.Faint))
	}
	p := &writer{g: g, k: k, x: a.X + 2, y: a.Y, w: a.W - 3, h: a.Y + a.H}
	p.title(string(name), "on its way")
	role, member := m.Member(name)
	if member == nil || c.Post < 0 || c.Post >= len(m.Posts) {
		return
	}
	to := m.Posts[c.Post]
	switch {
	case to.Folded:
		p.text("This zone is folded. esc, then z opens it, so that one of its nodes can be pointed at.", k.Warm)
		return
	case to.Nodes[0].Node == member.Node:
		p.text("This is where it stands.", k.Dim)
		return
	case member.Unsent:
		p.text(fmt.Sprintf("Dropped here, it is placed on %s from the start.", to.Nodes[0].Node), k.Paper)
	default:
		data := ", with its data."
		if role.Keeps {
			data = ", where its data is kept."
		}
		p.text(fmt.Sprintf("Dropped here and deployed, a new member of %s joins on %s; then %s leaves %s%s", role.Role, to.Nodes[0].Node, name, member.Node, data), k.Paper)
	}
	p.gap()
	p.row("stood in", cmp.Or(string(member.Zone), "no zone"), k.Paper)
	p.row("goes to", cmp.Or(string(m.Zones[to.Zone].Name), "no zone"), k.Paper)
	if n := len(role.At(c.Post)); n > 0 {
		p.row("there", fmt.Sprintf("%d of %s already", n, role.Role), k.Warm)
	}
	p.use(to.Nodes[0])
}

// crossing speaks of the members of a role in a zone that is folded.
func (p *writer) crossing(r *board.Role, post int, zone field.ZoneName) {
	here := r.At(post)
	p.title(string(r.Role), "in "+string(zone))
	if len(here) == 0 {
		p.text(fmt.Sprintf("Nothing of %s hangs here.", r.Role), p.k.Dim)
		return
	}
	p.phases(here)
	p.gap()
	for _, m := range here {
		if m.Phase != state.Ready && p.left() {
			lamp := p.k.LampOf(m.Phase, m.Leads)
			x := p.g.Text(p.x, p.y, string(lamp.Shape)+" ", p.k.In(lamp.Color))
			p.g.Clip(x, p.y, p.w-2, fmt.Sprintf("%s on %s  %s", m.Member, m.Node, cmp.Or(m.Why, m.WaitsFor)), p.k.Text())
			p.y++
		}
	}
}

// phases counts members by phase.
func (p *writer) phases(members []*board.Member) {
	count := map[state.Phase]int{}
	for _, m := range members {
		count[m.Phase]++
	}
	for _, phase := range slices.Sorted(maps.Keys(count)) {
		lamp := p.k.LampOf(phase, false)
		p.row(string(lamp.Shape)+" "+string(phase), fmt.Sprint(count[phase]), lamp.Color)
	}
}

func (p *writer) zone(m *board.Model, z board.Zone) {
	k := p.k
	p.title(cmp.Or(string(z.Name), "no zone"), fmt.Sprintf("a zone of %d", len(z.Nodes)))
	var use snapshot.NodeView
	dark := 0
	on := map[field.NodeName]bool{}
	for _, n := range z.Nodes {
		on[n.Node] = true
		use.Used.CPU += n.Used.CPU
		use.Offered.CPU += n.Offered.CPU
		use.Used.Memory += n.Used.Memory
		use.Offered.Memory += n.Offered.Memory
		if n.Unreachable {
			dark++
		}
	}
	if dark > 0 {
		p.row("unknown", fmt.Sprintf("%d of %d nodes cannot be reached", dark, len(z.Nodes)), k.Fail)
	}
	p.use(use)
	p.gap()
	for i := range m.Roles {
		n := 0
		for _, x := range m.Roles[i].Members {
			if on[x.Node] {
				n++
			}
		}
		if n > 0 {
			p.row(string(m.Roles[i].Role), fmt.Sprintf("%d of %d here", n, len(m.Roles[i].Members)), k.Paper)
		}
	}
	p.losing(m, "if all of it went dark", whatif.Fault{Zone: z.Name})
}

func (p *writer) use(n snapshot.NodeView) {
	if n.Offered.CPU > 0 {
		p.row("cpu", fmt.Sprintf("%g of %g cores kept free", round(n.Used.CPU), round(n.Offered.CPU)), p.k.Paper)
	}
	if n.Offered.Memory > 0 {
		p.row("memory", fmt.Sprintf("%s of %s kept free", n.Used.Memory, n.Offered.Memory), p.k.Paper)
	}
	if n.Found {
		p.row("size", "as it was found there; the file says none, or not all", p.k.Paper)
	}
}

func round(x float64) float64 { return math.Round(x*100) / 100 }

// losing says what could not be done, or only just, after a failure.
func (p *writer) losing(m *board.Model, head string, fault whatif.Fault) {
	if m.Snap.State == snapshot.Draft || m.Snap.State == snapshot.Retired || m.Snap.State == snapshot.Stopped {
		return
	}
	p.gap()
	p.text(head, p.k.Dim)
	loss := m.Loss(fault)
	for _, l := range loss.Roles {
		p.loss(l, true)
	}
	if len(loss.Roles) == 0 {
		p.text("Nothing that burns now would be missed.", p.k.Paper)
	}
}

// loss is a line about one role.
func (p *writer) loss(l whatif.RoleLoss, will bool) {
	words, weight := l.Words(will)
	p.text(words+".", [...]grid.Color{whatif.Fine: p.k.Paper, whatif.Tight: p.k.Warm, whatif.Stopped: p.k.Fail}[weight])
}

// proofs says of each proof of a role what came of it last.
func (p *writer) proofs(m *board.Model, role field.RoleName, now time.Time) {
	for _, proof := range m.Snap.Proofs {
		if proof.Role != role {
			continue
		}
		switch {
		case proof.Running:
			p.row("proof", proof.Name+": under way", p.k.Warm)
		case proof.At.IsZero():
			p.row("proof", proof.Name+": never done", p.k.Dim)
		case proof.OK:
			p.row("proof", fmt.Sprintf("%s: holds, %s ago", proof.Name, field.Span(now.Sub(proof.At))), p.k.Paper)
		default:
			p.row("proof", fmt.Sprintf("%s: does not hold: %s", proof.Name, proof.Why), p.k.Fail)
		}
	}
}

func (p *writer) role(m *board.Model, r *board.Role, now time.Time) {
	k := p.k
	p.title(string(r.Role), string(r.Kind))
	p.row("lit", fmt.Sprintf("%d of %d", r.Ready, r.Want), k.Lit)
	if r.Draft != r.Want {
		p.row("draft", fmt.Sprintf("wants %d", r.Draft), k.Plan)
	}
	p.row("stage", fmt.Sprint(r.Stage), k.Paper)
	for i, a := range r.Outside {
		p.row([]string{"outside", ""}[min(i, 1)], a, k.Paper)
	}
	if r.Link != nil {
		p.row("stands for", r.Link.String(), k.Paper)
	}
	for i, h := range r.HandedTo {
		p.row([]string{"handed to", ""}[min(i, 1)], h.String(), k.Paper)
	}
	if r.IsOutside() {
		p.text("It is not ours: it is watched, and never started or stopped.", k.Dim)
		if r.Authority != "" {
			p.row("authority", r.Authority, k.Paper)
		}
	}
	for _, g := range r.Gates {
		color, word := k.Warm, "closed"
		if g.Open {
			color, word = k.Paper, "open"
		}
		p.row("gate", fmt.Sprintf("%s, %s", g, word), color)
	}
	p.proofs(m, r.Role, now)
	if r.Founding {
		p.row("founding", "steps of it are still to be done", k.Warm)
	}
	if r.Floating != "" {
		has := "nobody"
		if r.Leader != "" {
			has = string(r.Leader)
		}
		p.row("address", r.Floating+", which "+has+" has", k.Gold)
	}
	if !r.Votes && !r.Led {
		p.row("change", r.Change, k.Warm)
		return
	}
	if r.Votes {
		p.row("votes", fmt.Sprintf("%d of %d, %d needed", r.VotesReady, r.Voters, r.VotesNeeded), k.Paper)
	}
	leader := "nobody"
	if r.Leader != "" {
		leader = string(r.Leader)
		if r.LeaderTerm > 0 {
			leader += fmt.Sprintf(", term %d", r.LeaderTerm)
		}
	}
	p.row("leader", leader, k.Gold)
	if r.Leased {
		p.row("lease", fmt.Sprintf("in %s; each write is confirmed by %s", r.Store, wording.Counted(r.Confirms, "other")), k.Paper)
	}
	if len(r.Rivals) > 0 {
		p.row("and", rivalsOf(r, r.Leader)+" says so too: they may accept different writes", k.Fail)
	}
	p.row("not known", r.Unsure, k.Warm)
	p.row("unread", r.Unread, k.Fail)
	if len(r.Roster) > 0 {
		names := make([]string, len(r.Roster))
		for i, e := range r.Roster {
			names[i] = e.Name
			if !e.Voter {
				names[i] += " (learner)"
			}
		}
		slices.Sort(names)
		p.row("roster", strings.Join(names, ", "), k.Paper)
	}
	p.row("not ours", strings.Join(r.Strangers[:min(len(r.Strangers), 8)], ", "), k.Fail)
	p.row("change", r.Change, k.Warm)
}

// rivalsOf names the others that say that they lead.
func rivalsOf(r *board.Role, but field.MemberName) string {
	var names []string
	for _, m := range append([]field.MemberName{r.Leader}, r.Rivals...) {
		if m != but {
			names = append(names, string(m))
		}
	}
	return strings.Join(names, ", ")
}

func (p *writer) node(m *board.Model, n snapshot.NodeView) {
	k := p.k
	zone := ""
	if n.Zone != "" {
		zone = "in " + string(n.Zone)
	}
	p.title(string(n.Node), zone)
	switch {
	case n.Awaited:
		p.row("missing", cmp.Or(n.Why, "its machine has not joined yet"), k.Plan)
	case n.Asked && n.Why != "":
		p.row("missing", fmt.Sprintf("it cannot be had: %s; it is asked for again", n.Why), k.Fail)
	case n.Asked:
		p.row("missing", fmt.Sprintf("it is asked for of the %s ground", n.Ground), k.Plan)
	default:
		p.row("address", n.Address, k.Paper)
	}
	if n.ID != "" {
		p.row("known as", n.ID, k.Paper)
	}
	if n.Unreachable {
		p.row("unknown", n.Why, k.Fail)
	}
	if n.Set != "" {
		p.row("set", fmt.Sprintf("%s, of which %d of %d are there", n.Set, n.OfSet.There, n.OfSet.Most), k.Paper)
	}
	if n.Others != nil {
		p.row("shared", fmt.Sprintf("with %s, which %s here", strings.Join(n.Others.Fields, ", "), n.Others.Take.Kept()), k.Paper)
	}
	p.use(n)
	p.gap()
	for i := range m.Roles {
		for _, member := range m.Roles[i].Members {
			if member.Node != n.Node {
				continue
			}
			lamp := k.LampOf(member.Phase, member.Leads)
			if p.left() {
				x := p.g.Text(p.x, p.y, string(lamp.Shape)+" ", k.In(lamp.Color))
				p.g.Clip(x, p.y, p.w-2, fmt.Sprintf("%s  %s", member.Member, member.Phase), k.Text())
				p.y++
			}
		}
	}
	for _, kept := range m.Snap.Kept {
		if kept.Node == n.Node {
			p.gap()
			p.text(fmt.Sprintf("The data of %s, %s, is kept here since %s went.", kept.Member, kept.Bytes, kept.Member), k.Dim)
		}
	}
	p.losing(m, "if it went dark", whatif.Fault{Node: n.Node})
}
