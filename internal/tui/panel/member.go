package panel

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/core/state"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/whatif"
	"lanternfield/internal/tui/board"
)

// watches says what somebody who watches something outside watches.
func (p *writer) watches(role *board.Role) {
	if role.Link == nil {
		p.row("watches", strings.Join(role.Outside, ", "), p.k.Paper)
		return
	}
	color := p.k.Paper
	if role.Link.Why != "" {
		color = p.k.Warm
	}
	p.row("watches", role.Link.String(), color)
}

func (p *writer) member(model *board.Model, role *board.Role, m board.Member, now time.Time) {
	k := p.k
	where := "on " + string(m.Node)
	if m.Zone != "" {
		where += " in " + string(m.Zone)
	}
	p.title(string(m.Member), where)
	lamp := k.LampOf(m.Phase, m.Leads)
	if m.Unsent {
		p.row("state", "only in the draft, not deployed yet", k.Plan)
		if m.Pinned {
			p.row("pinned", "to "+string(m.Node)+", by hand", k.Act)
		}
		p.why(m)
		return
	}
	lit := string(lamp.Shape) + " " + string(m.Phase) + " for " + field.Span(now.Sub(m.Since))
	p.row("state", lit, lamp.Color)
	switch {
	case m.Removal:
		p.row("draft", "takes it away", k.Warm)
	case m.Leads && len(role.Rivals) > 0:
		p.row("leads", fmt.Sprintf("says so, and so do others: %s. They may accept different writes", rivalsOf(role, m.Member)), k.Fail)
	case m.Leads && role.Unsure != "" && role.Leader == m.Member:
		p.row("leads", "did when it was last asked; now that is not known: "+role.Unsure, k.Warm)
	case m.Floating != "":
		p.row("has", m.Floating+", which one member of "+string(m.Role)+" has at a time", k.Gold)
	case m.Leads && role.LeaderTerm > 0:
		p.row("leads", fmt.Sprintf("%s, term %d", m.Role, role.LeaderTerm), k.Gold)
	case m.Leads:
		p.row("leads", string(m.Role), k.Gold)
	case m.TakenOff:
		p.row("votes", "not on "+string(m.Role)+"'s list any more", k.Fail)
	case m.Seat == "learner":
		p.row("votes", "not yet: a learner", k.Warm)
	}
	if role.IsOutside() {
		p.watches(role)
	}
	p.row("writes", writes(role, m), k.Paper)
	p.row("version", m.Version, k.Paper)
	switch {
	case m.Gauge == nil || m.Leads:
	case m.Gauge.Lag:
		p.row("lag", m.Gauge.Words(now), k.Paper)
	case m.Phase != state.Ready:
		p.row("so far", m.Far(now), k.Paper)
	}
	p.row("proved", model.Snap.Proved(m.Role, now), k.Paper)
	if m.Pinned {
		p.row("pinned", "to "+string(m.Node)+", by hand", k.Act)
	}
	if m.Phase != state.Ready {
		p.row("waits for", m.WaitsFor, k.Warm)
		switch late := m.Late(); {
		case late != "":
			p.row(string(m.Pace.Word), strings.Join(m.Pace.Evidence, "; "), k.Fail)
		case m.Usual.Known():
			p.row("before", m.Usual.Words(), k.Dim)
		}
		p.row("because", m.Why, k.Fail)
	}
	if m.Phase == state.Ready && m.RestartDue {
		p.row("restart", "waits for "+m.WaitsFor, k.Warm)
	}
	if m.Unfit != "" && m.Phase == state.Ready {
		p.row("unchanged", "it runs as before: "+m.Unfit, k.Fail)
	}
	if m.Pending != "" {
		p.row("next start", "takes "+m.Pending, k.Warm)
	}
	if m.Phase == state.Failed && !m.RetryAt.IsZero() {
		p.row("next try", fmt.Sprintf("number %d in %s", m.Attempt+1, field.Span(m.RetryAt.Sub(now))), k.Warm)
	}
	p.row("address", m.Address, k.Paper)
	for _, name := range slices.Sorted(maps.Keys(m.Ports)) {
		p.row("  "+name, fmt.Sprint(m.Ports[name]), k.Paper)
	}
	if m.PID > 0 {
		p.row("process", fmt.Sprintf("%d, start %d", m.PID, m.Incarnation), k.Paper)
	}
	switch {
	case m.Memory > 0 && m.Ceiling > 0:
		p.row("memory", fmt.Sprintf("%s, %s at the most", m.Memory, m.Ceiling), k.Paper)
	case m.Memory > 0:
		p.row("memory", m.Memory.String(), k.Paper)
	}
	if m.Probe.OK && m.Probe.LatencyMS > 0 {
		p.row("probe", fmt.Sprintf("answers in %.1f ms", m.Probe.LatencyMS), k.Paper)
	} else if m.Probe.Error != "" && m.PID > 0 && !strings.Contains(m.WaitsFor, m.Probe.Error) {
		p.row("probe", m.Probe.Error, k.Fail)
	}
	if age := now.Sub(m.Probe.LastGood); m.PID > 0 && !m.Probe.LastGood.IsZero() && age > 2*time.Second && (m.Phase != state.Ready || age > 5*time.Second) {
		p.row("answered", field.Span(age.Round(time.Second))+" ago", k.Warm)
	}
	if m.LastExit != "" {
		p.row("last exit", fmt.Sprintf("%s, %s ago", m.LastExit, field.Span(now.Sub(m.LastExitAt))), k.Paper)
	}
	p.meaning(model, role, m)
	if p.h-p.y > 12 { // its last lines matter more
		p.why(m)
	}
	p.lines(m)
}

// writes says whether the member takes writes; empty where its role is not of that kind, or it is not ready.
func writes(role *board.Role, m board.Member) string {
	switch {
	case m.Phase != state.Ready || !role.Led && !role.Votes:
		return ""
	case m.Writes:
		return "taken here"
	case role.Leader == "":
		return "not taken: nobody leads"
	case role.Votes, role.Leased && role.Survives < 0:
		return "not taken: too few of " + string(role.Role) + " are ready"
	}
	return "not here: " + string(role.Leader) + " leads"
}

// lines shows the last lines that the member wrote before its last exit, or, while it runs, those that it wrote lately.
func (p *writer) lines(m board.Member) {
	lines, head := m.LastLines, "its last lines before it ended"
	if m.Phase != state.Failed && len(m.Lately) > 0 {
		lines, head = m.Lately, "its last lines"
	}
	if room := p.h - p.y - 2; len(lines) > room {
		lines = lines[len(lines)-max(0, room):]
	}
	if len(lines) == 0 {
		return
	}
	p.gap()
	p.text(head, p.k.Dim)
	for _, line := range lines {
		if p.left() {
			p.g.Clip(p.x, p.y, p.w, line, p.k.In(p.k.Plan))
			p.y++
		}
	}
}

// why says why the member stands where it does.
func (p *writer) why(m board.Member) {
	if len(m.Reasons) == 0 {
		return
	}
	p.gap()
	p.text("why here", p.k.Dim)
	for _, l := range m.Reasons {
		p.text(l+".", p.k.Paper)
	}
}

// meaning says what follows if the member stays, or went, dark.
func (p *writer) meaning(model *board.Model, role *board.Role, m board.Member) {
	if role.Halted || role.Votes && role.Voters == 0 {
		return
	}
	p.gap()
	scene := model.Scene()
	switch {
	case role.Votes && m.Seat != "voter" && len(role.Roster) > 0:
		p.text("if it does not come up", p.k.Dim)
		p.text(fmt.Sprintf("It casts no vote yet: %s goes on with %d of %d.", role.Role, role.VotesReady, role.Voters), p.k.Paper)
	case m.Phase == state.Ready:
		p.text("if it went dark", p.k.Dim)
		for _, l := range model.Loss(whatif.Fault{Member: m.Member}).Roles {
			p.loss(l, true)
		}
	default:
		p.text("if it stays dark", p.k.Dim)
		if role.Leaderless() {
			p.text(fmt.Sprintf("%s holds %d of %d votes: enough, but nobody leads. Writes wait for an election.", role.Role, role.VotesReady, role.Voters), p.k.Warm)
		}
		for _, l := range scene.AsItIs() {
			if l.Role == role.Role && !role.Leaderless() || l.Stopped || l.Through != "" {
				p.loss(l, false)
			}
		}
	}
}
