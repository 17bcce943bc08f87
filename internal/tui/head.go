package tui

import (
	"cmp"
	"fmt"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/tui/grid"
)

// drawVerdict writes the field's name, the draft's unsent changes, the state and the verdict, and the names of the views.
// It always takes the same lines, so that nothing below moves when the verdict grows.
func (a *app) drawVerdict(g *grid.Grid, f frame, supposed string) {
	k, snap := a.look, a.model.Snap
	name := snap.Field
	if name == "" && a.draft != nil {
		name = a.draft.Name
	}
	x := g.Clip(1, 0, a.w-2, name, k.In(k.Gold).Strong())
	if m := a.model; a.past == nil && m.Added+m.Removed+m.Changed > 0 && snap.State != snapshot.Draft {
		text := "draft"
		for _, c := range []struct {
			sign string
			n    int
		}{{"+", m.Added}, {"-", m.Removed}, {"~", m.Changed}} {
			if c.n > 0 {
				text += fmt.Sprintf(" %s%d", c.sign, c.n)
			}
		}
		x = g.Clip(x+3, 0, a.w-x-3, text, k.In(k.Act))
	}
	x = g.Clip(x+3, 0, a.w-x-3, string(snap.State), k.In(k.StateColor(snap.State)).Strong())
	clock := a.now.Format("15:04:05")
	if a.w < 60 {
		clock = ""
	}
	room := a.w - x - 3 - len(clock) - 2
	g.Text(a.w-1-len(clock), 0, clock, k.Quiet())
	rest, style := snap.Verdict, k.Text()
	if supposed != "" {
		rest, style = supposed, k.In(k.Warm)
	}
	if beside := grid.Wrap(rest, room); room >= leastBeside && len(beside) > 0 {
		g.Text(x+3, 0, beside[0], style)
		rest = strings.TrimPrefix(rest, beside[0])
	}
	for i, line := range head(grid.Wrap(rest, a.w-2), f.views-1) {
		g.Clip(1, 1+i, a.w-2, line, style)
	}
	end := 1
	for _, v := range a.viewNames() {
		style := k.Quiet()
		if v.view == a.view {
			style = k.In(k.Lit).Strong()
		}
		g.Text(v.x, f.views, v.key, k.In(k.Faint))
		end = g.Text(v.x+len(v.key)+1, f.views, v.name, style)
	}
	a.drawMode(g, end+3, f.views)
}

// drawMode writes what is unlike the usual: the past, or what keys are for.
func (a *app) drawMode(g *grid.Grid, x, y int) {
	text, short := a.modeText()
	if text == "" {
		return
	}
	if short != "" && grid.Width(text)+3 > a.w-x {
		text = short
	}
	g.Clip(x, y, a.w-x-1, " "+text+" ", grid.Style{Fg: a.look.Ink, Bg: a.look.Act, Bold: true})
}

// modeText is what is unlike the usual; the short text is for where there is no room for the other. Empty where all is as usual.
func (a *app) modeText() (text, short string) {
	switch {
	case a.past != nil:
		at, ago := a.past.at.Local().Format("15:04:05.0"), field.Span(a.now.Sub(a.past.at))
		text, short = fmt.Sprintf("the past: as it was at %s, %s ago; n returns to now", at, ago), fmt.Sprintf("the past: %s, %s ago; n: now", at, ago)
	case a.mode.says != nil:
		text, short = a.mode.says(a)
	case a.whatIf && a.view == boardView:
		text, short = "what if: move to choose what fails, esc ends it", "what if: choose what fails, esc ends it"
	case a.archive != "":
		text, short = "an archive: only looked at", "an archive"
	case a.snap.Rollout.Paused && a.snap.Rollout.Active:
		text = "paused: space goes on"
	}
	return text, short
}

// viewName is where a view's name stands.
type viewName struct {
	view      *view
	key, name string
	x, w      int
}

// viewNames lays out the names of the views. Where what is unlike the usual would not have room beside them, only the current one is named.
func (a *app) viewNames() []viewName {
	lay := func(brief bool) (names []viewName, end int) {
		x := 1
		for _, v := range views {
			n := viewName{view: v, key: v.key(a.keys).Help().Key, name: v.name, x: x}
			if brief && v != a.view {
				n.name = ""
			}
			n.w = len(n.key) + 1 + len(n.name)
			if x += n.w + 3; n.name == "" {
				x -= 2
			}
			names = append(names, n)
		}
		return names, x
	}
	names, end := lay(false)
	if text, short := a.modeText(); text != "" && end+grid.Width(cmp.Or(short, text))+3 > a.w {
		names, _ = lay(true)
	}
	return names
}

// leastBeside is how many cells the verdict must have beside the state to begin there.
const leastBeside = 24

// head keeps the first lines and says when that is not all.
func head(lines []string, n int) []string {
	if n > 0 && len(lines) > n {
		lines = lines[:n]
		lines[n-1] += " …"
	}
	return lines[:min(max(n, 0), len(lines))]
}

// drawNotice writes the newest answer, or what is wrong with the file, or how far the rollout is, or the first finding,
// or what to do next.
func (a *app) drawNotice(g *grid.Grid, y int) {
	k := a.look
	text, style := "", k.Text()
	differs := a.model.Added+a.model.Removed+a.model.Changed > 0
	switch {
	case a.message != "" && a.bad:
		text, style = a.message, k.In(k.Fail)
	case (a.past != nil || a.archive != "") && a.message != "":
		text = a.message
	case a.past != nil:
		text, style = "This is as it was then. [ ] go back and forth, { } from event to event.", k.Quiet()
	case a.archive != "":
		text, style = a.archive, k.Quiet()
	case a.trouble != "":
		text, style = a.trouble, k.In(k.Fail)
	case a.refused != "":
		text, style = a.refused, k.In(k.Fail)
		if grid.Width(text) > a.w-2 {
			text = grid.Shorten(text, a.w-18) + " (v: all of it)"
		}
	case len(a.snap.Questions) > 0:
		text, style = a.snap.Questions[0].Text+".", k.In(k.Warm)
		if room := a.w - 2 - len("  Y answers."); grid.Width(text) > room {
			text = grid.Shorten(text, room)
		}
		text += "  Y answers."
	case len(a.snap.Problems) > 0:
		text, style = a.snap.Problems[0], k.In(k.Fail)
	case a.snap.Rollout.Active && a.snap.State == snapshot.Deploying && a.snap.Rollout.What != "":
		text, style = a.progress(), k.In(k.Warm)
	case a.message != "":
		text = a.message
	case finding.Open(a.findings) > 0 && a.findings[0].Severity != finding.Hint:
		f := a.findings[0]
		switch f.Severity {
		case finding.Error:
			style = k.In(k.Fail)
		case finding.Risk:
			style = k.In(k.Warm)
		}
		text = fmt.Sprintf("%s: %s   (f shows what mends it)", counted(finding.Open(a.findings), "finding"), f.Text)
	case a.model.Snap.State == snapshot.Draft && a.review != nil && a.review.New():
		text, style = "Nothing runs yet. v shows what deploying would do, step by step, and deploys.", k.In(k.Act)
	case a.model.Snap.State == snapshot.Retired:
		text, style = "It has been taken down. Press v to deploy it anew.", k.In(k.Act)
	case differs && !a.snap.Rollout.Active:
		text, style = "The draft differs from what runs. v shows what deploying it would change.", k.In(k.Act)
	}
	if hints := finding.Open(a.findings); text == "" && hints > 0 {
		text = fmt.Sprintf("%s: %s   (f shows what mends it)", counted(hints, "hint"), a.findings[0].Text)
	}
	g.Clip(1, y, a.w-2, text, style)
}

// progress words how far the rollout is, and how long it may still take.
func (a *app) progress() string {
	r := a.snap.Rollout
	lit, want := a.snap.Lit()
	text := fmt.Sprintf("%s for %s: %d of %d lit", cmp.Or(map[string]string{"deploy": "Deploying", "stop": "Stopping", "start": "Starting",
		"restart": "Restarting", "retire": "Taking down"}[r.What], r.What), field.Span(max(0, a.now.Sub(r.Began))), lit, want)
	if r.By != "" && r.By != whoIsHere() {
		text += ", asked for by " + r.By
	}
	if r.LastTook > 0 {
		text += "; the last one took " + field.Span(r.LastTook)
	}
	if r.Paused {
		return text + ". Paused: space goes on."
	}
	return text + ". space pauses."
}
