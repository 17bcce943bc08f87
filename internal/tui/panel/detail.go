// Package panel draws what stands beside or over the board: the detail of what is under the cursor, the review, and the
// keys.
package panel

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/look"
)

// writer writes lines downwards in a column and stops at its end.
type writer struct {
	g          *grid.Grid
	k          look.Look
	x, y, w, h int
}

func (p *writer) left() bool { return p.y < p.h }

func (p *writer) gap() { p.y++ }

func (p *writer) title(text, rest string) {
	x := p.g.Clip(p.x, p.y, p.w, text, p.k.In(p.k.Gold).Strong())
	p.g.Clip(x+2, p.y, p.w-(x-p.x)-2, rest, p.k.Quiet())
	p.y += 2
}

// row writes a name and a value, which may take several lines.
func (p *writer) row(name, value string, color grid.Color) {
	if value == "" {
		return
	}
	const column = 11
	for i, line := range grid.Wrap(value, p.w-column) {
		if !p.left() {
			return
		}
		if i == 0 {
			p.g.Text(p.x, p.y, name, p.k.Quiet())
		}
		p.g.Text(p.x+column, p.y, line, p.k.In(color))
		p.y++
	}
}

func (p *writer) text(text string, color grid.Color) {
	for _, line := range grid.Wrap(text, p.w) {
		if !p.left() {
			return
		}
		p.g.Text(p.x, p.y, line, p.k.In(color))
		p.y++
	}
}

// Detail speaks of what is under the cursor.
func Detail(g *grid.Grid, k look.Look, m *board.Model, c board.Cursor, now time.Time, a board.Area) {
	for y := a.Y; y < a.Y+a.H; y++ {
		g.Set(a.X, y, k.Or('│', '|'), k.In(k.Faint))
	}
	p := &writer{g: g, k: k, x: a.X + 2, y: a.Y, w: a.W - 3, h: a.Y + a.H}
	nodes := m.Nodes()
	switch {
	case c.Role < 0 && c.Node >= 0 && c.Node < len(nodes):
		p.node(m, nodes[c.Node])
	case c.Role >= 0 && c.Role < len(m.Roles) && c.Node < 0:
		p.role(&m.Roles[c.Role])
	case c.Role >= 0 && c.Role < len(m.Roles) && c.Node < len(nodes):
		role := &m.Roles[c.Role]
		here := role.At(nodes[c.Node].Node)
		if len(here) == 0 {
			p.title(string(nodes[c.Node].Node), "has no "+string(role.Role))
			p.text(fmt.Sprintf("Nothing of %s hangs on this post.", role.Role), k.Dim)
			return
		}
		p.member(role, here[min(c.Lantern, len(here)-1)], now)
	}
}

func (p *writer) member(role *board.Role, m board.Member, now time.Time) {
	k := p.k
	where := "on " + string(m.Node)
	if m.Zone != "" {
		where += " in " + string(m.Zone)
	}
	p.title(string(m.Member), where)
	lamp := k.LampOf(m.Phase, m.Leads)
	if m.Unsent {
		p.row("state", "only in the draft, not deployed yet", k.Plan)
		return
	}
	state := string(lamp.Shape) + " " + string(m.Phase) + " for " + field.Span(now.Sub(m.Since))
	p.row("state", state, lamp.Color)
	switch {
	case m.Removal:
		p.row("draft", "takes it away", k.Warm)
	case m.Leads && role.LeaderTerm > 0:
		p.row("leads", fmt.Sprintf("%s, term %d", m.Role, role.LeaderTerm), k.Gold)
	case m.Leads:
		p.row("leads", string(m.Role), k.Gold)
	case m.TakenOff:
		p.row("votes", "not on "+string(m.Role)+"'s list any more", k.Fail)
	case m.Seat == "learner":
		p.row("votes", "not yet: a learner", k.Warm)
	}
	if m.Phase != engine.Ready {
		p.row("waits for", m.WaitsFor, k.Warm)
		p.row("because", m.Why, k.Fail)
	}
	if m.Phase == engine.Failed && !m.RetryAt.IsZero() {
		p.row("next try", fmt.Sprintf("number %d in %s", m.Attempt+1, field.Span(m.RetryAt.Sub(now))), k.Warm)
	}
	p.row("address", m.Address, k.Paper)
	for _, name := range slices.Sorted(maps.Keys(m.Ports)) {
		p.row("  "+name, fmt.Sprint(m.Ports[name]), k.Paper)
	}
	if m.PID > 0 {
		p.row("process", fmt.Sprintf("%d, start %d", m.PID, m.Incarnation), k.Paper)
	}
	if m.Probe.OK && m.Probe.LatencyMS > 0 {
		p.row("probe", fmt.Sprintf("answers in %.1f ms", m.Probe.LatencyMS), k.Paper)
	} else if m.Probe.Error != "" && m.PID > 0 && !strings.Contains(m.WaitsFor, m.Probe.Error) {
		p.row("probe", m.Probe.Error, k.Fail)
	}
	if m.LastExit != "" {
		p.row("last exit", fmt.Sprintf("%s, %s ago", m.LastExit, field.Span(now.Sub(m.LastExitAt))), k.Paper)
	}
	if len(m.LastLines) > 0 && m.Phase == engine.Failed {
		p.gap()
		p.text("its last lines", k.Dim)
		for _, line := range m.LastLines {
			if p.left() {
				p.g.Clip(p.x, p.y, p.w, line, k.In(k.Plan))
				p.y++
			}
		}
	}
	p.meaning(role, m)
}

// meaning says what follows if the member stays, or went, dark.
func (p *writer) meaning(role *board.Role, m board.Member) {
	if !role.Votes || role.Voters == 0 || role.Halted {
		return
	}
	p.gap()
	if m.Seat != "voter" && len(role.Roster) > 0 {
		p.text("if it does not come up", p.k.Dim)
		p.text(fmt.Sprintf("It casts no vote yet: %s goes on with %d of %d.", role.Role, role.VotesReady, role.Voters), p.k.Paper)
		return
	}
	left := role.VotesReady
	head := "if it stays dark"
	if m.Phase == engine.Ready {
		head = "if it went dark"
		left--
	}
	p.text(head, p.k.Dim)
	text := fmt.Sprintf("%s holds %d of %d votes: ", role.Role, left, role.Voters)
	switch more := left - role.VotesNeeded; {
	case role.Leaderless():
		p.text(text+"enough, but nobody leads. Writes wait for an election.", p.k.Warm)
	case more < 0:
		p.text(text+"writes stop.", p.k.Fail)
	case more == 0:
		p.text(text+"writes go on; one more loss stops them.", p.k.Warm)
	default:
		p.text(fmt.Sprintf("%swrites go on, and %d more may be lost.", text, more), p.k.Paper)
	}
}

func (p *writer) role(r *board.Role) {
	k := p.k
	p.title(string(r.Role), string(r.Kind))
	p.row("lit", fmt.Sprintf("%d of %d", r.Ready, r.Want), k.Lit)
	if r.Draft != r.Want {
		p.row("draft", fmt.Sprintf("wants %d", r.Draft), k.Plan)
	}
	p.row("stage", fmt.Sprint(r.Stage), k.Paper)
	for _, g := range r.Gates {
		color, word := k.Warm, "closed"
		if g.Open {
			color, word = k.Paper, "open"
		}
		p.row("gate", fmt.Sprintf("%s: %s, %d of %d, %s", g.On, g.Gate, g.Have, g.Need, word), color)
	}
	if !r.Votes {
		return
	}
	p.row("votes", fmt.Sprintf("%d of %d, %d needed", r.VotesReady, r.Voters, r.VotesNeeded), k.Paper)
	leader := "nobody"
	if r.Leader != "" {
		leader = string(r.Leader)
		if r.LeaderTerm > 0 {
			leader += fmt.Sprintf(", term %d", r.LeaderTerm)
		}
	}
	p.row("leader", leader, k.Gold)
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
	p.row("not ours", strings.Join(r.Strangers, ", "), k.Fail)
	p.row("change", r.Change, k.Warm)
}

func (p *writer) node(m *board.Model, n engine.NodeView) {
	k := p.k
	zone := ""
	if n.Zone != "" {
		zone = "in " + string(n.Zone)
	}
	p.title(string(n.Node), zone)
	p.row("address", n.Address, k.Paper)
	if n.Dark {
		p.row("unknown", n.Why, k.Fail)
	}
	if n.Offered.CPU > 0 {
		p.row("cpu", fmt.Sprintf("%g of %g cores kept free", n.Used.CPU, n.Offered.CPU), k.Paper)
	}
	if n.Offered.Memory > 0 {
		p.row("memory", fmt.Sprintf("%s of %s kept free", n.Used.Memory, n.Offered.Memory), k.Paper)
	}
	p.gap()
	for i := range m.Roles {
		for _, member := range m.Roles[i].At(n.Node) {
			lamp := k.LampOf(member.Phase, member.Leads)
			if p.left() {
				x := p.g.Text(p.x, p.y, string(lamp.Shape)+" ", k.In(lamp.Color))
				p.g.Clip(x, p.y, p.w-2, fmt.Sprintf("%s  %s", member.Member, member.Phase), k.Text())
				p.y++
			}
		}
	}
}
