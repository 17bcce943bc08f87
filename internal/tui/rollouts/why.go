package rollouts

import (
	"fmt"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/pace"
	"lanternfield/internal/core/rollout"
	"lanternfield/internal/tui/grid"
)

// why says below the picture what the chosen member waits for, down to the root, or what it came through; then its last lines.
func (p *picture) why(y, h int) {
	k := p.k
	p.g.Fill(p.a.X, y, p.a.W, 1, k.Or('─', '-'), k.In(k.Faint))
	row := p.v.Row()
	if row == nil {
		return
	}
	x := p.g.Text(p.a.X+1, y, " "+string(row.Member)+" ", k.In(k.Act).Strong())
	where := string(row.Node)
	if row.Zone != "" {
		where += ", " + string(row.Zone)
	}
	p.g.Text(x, y, where+" ", k.Quiet())
	var text []string
	var style grid.Style
	if p.r.Active() && row.Done.IsZero() && p.seen.Snap != nil {
		text, style = rollout.Reasons(p.seen.Snap, row.Member), k.In(k.Warm)
	}
	if len(text) == 0 {
		text, style = p.story(row), k.Text()
	}
	bottom, at := y+h, y+1
	for i, t := range text {
		indent := min(i*2, 8)
		for j, l := range grid.Wrap(t, max(20, p.a.W-indent-3)) {
			if at >= bottom {
				return
			}
			if j > 0 {
				l = "  " + l
			}
			p.g.Clip(p.a.X+indent, at, p.a.W-indent, l, style)
			at++
		}
		style = k.Text()
	}
	if e := row.Expected; e != nil && e.Known && at < bottom && !e.End.Before(p.seen.Now) {
		p.g.Clip(p.a.X, at, p.a.W, "expected to be done in about "+pace.Rough(e.End.Sub(p.seen.Now)), k.Quiet())
		at++
	}
	lines := p.seen.Lately
	if room := bottom - at; len(lines) > room {
		lines = lines[len(lines)-max(0, room):]
	}
	for i, l := range lines {
		p.g.Clip(p.a.X, at+i, p.a.W, l, k.Quiet())
	}
}

// story tells what a member came through, and what it had waited for.
func (p *picture) story(row *rollout.Row) []string {
	text := fmt.Sprintf("%s: %s", row.Action, row.Story(p.r.At))
	if !row.Done.IsZero() {
		text += " after " + field.Brief(row.Done.Sub(p.r.Began))
	}
	lines := []string{text}
	if words := row.After.Words(); words != "" {
		lines = append(lines, fmt.Sprintf("its turn came when %s, after %s", words, field.Brief(row.After.At.Sub(p.r.Began))))
	}
	if now := row.Now(); now.Why != "" && row.Done.IsZero() {
		lines = append(lines, strings.TrimSpace(now.Why))
	}
	return lines
}
