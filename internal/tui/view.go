package tui

import (
	"cmp"
	"fmt"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/panel"
	"lanternfield/internal/tui/tide"
)

func (a *app) View() tea.View {
	g := a.draw()
	v := tea.NewView(g.String())
	v.AltScreen = true
	v.MouseMode = tea.MouseModeCellMotion
	v.WindowTitle = "Lantern Field"
	return v
}

// The smallest screen on which a board makes sense.
const leastW, leastH = 24, 6

// frame is how the screen is divided.
type frame struct {
	views  int // the line of the views' names; the verdict is above it
	area   board.Area
	side   board.Area // beside the board, for the detail or the findings; without width where there is no room
	notice int
	tide   tide.Area
}

// leastFindings is how many rows findings take where there is no room beside the board.
const leastFindings = 6

func (a *app) frame() frame {
	f := frame{views: 2}
	if a.w < 100 {
		f.views = min(3, a.h/6)
	}
	height := tide.Height(a.h)
	bottom := a.h - 1 - height
	f.notice = bottom - 1
	f.tide = tide.Area{Y: bottom, W: a.w, H: height}
	f.area = board.Area{Y: f.views + 1, W: a.w, H: f.notice - f.views - 1}
	if a.w >= 116 && f.area.H >= 12 && !a.view.wide {
		w := min(52, a.w*11/40)
		f.area.W -= w
		f.side = board.Area{X: f.area.W, Y: f.area.Y, W: w, H: f.area.H}
	}
	if a.mode == inFindings && f.side.W == 0 && f.area.H >= 12 { // below, so that the board can show what they lead to
		f.area.H -= leastFindings
		f.side = board.Area{Y: f.area.Y + f.area.H, W: a.w, H: leastFindings}
	}
	return f
}

func (a *app) boardArea() board.Area {
	was := a.view
	a.view = boardView
	f := a.frame()
	a.view = was
	return f.area
}

// draw draws the whole screen.
func (a *app) draw() *grid.Grid {
	page := a.look.Page()
	if a.past != nil && !a.look.Flat { // the past has a light of its own
		page.Bg = grid.Mix(a.look.Ink, a.look.Act, 0.09)
	}
	g := grid.New(a.w, a.h, page)
	if a.w < leastW || a.h < leastH {
		lit, want := a.snap.Lit()
		g.Clip(0, 0, a.w, fmt.Sprintf("%d/%d lit %s", lit, want, a.model.Snap.State), a.look.Text())
		g.Clip(0, 1, a.w, "make me larger", a.look.Quiet())
		return g
	}
	f := a.frame()
	a.drawVerdict(g, f, a.suppose())
	a.drawNotice(g, f.notice)
	a.view.draw(a, g, f)
	tide.Draw(g, a.look, a.drawnTide(), f.tide)
	if a.mode.over != nil && a.mode.over(a, f) {
		g.Fade(grid.Style{Fg: a.look.Faint, Bg: a.look.Ink})
	}
	a.drawKeyLine(g, a.h-1)
	if a.mode.draw != nil {
		a.mode.draw(a, g, f)
	}
	return g
}

// drawOrder draws the roles in their stages, and beside them what is said of the chosen one.
func (a *app) drawOrder(g *grid.Grid, f frame) {
	a.stages.Sync(a.model)
	a.stages.Draw(g, a.look, f.area, a.cursor.Role)
	if f.side.W > 0 && a.cursor.Role >= 0 {
		a.drawSide(g, f)
	}
}

func (a *app) drawBoard(g *grid.Grid, f frame) {
	a.model.Fit(board.Room(f.area.W), a.folds)
	if len(a.model.Roles) == 0 || len(a.model.Posts) == 0 {
		a.drawEmpty(g, f.area)
		return
	}
	board.Draw(g, a.look, a.model, f.area, a.cursor, a.mode == carrying)
	a.drawSide(g, f)
}

// drawSide draws what stands beside the board, or beside the order.
func (a *app) drawSide(g *grid.Grid, f frame) {
	switch {
	case f.side.W == 0:
	case a.mode.side != nil:
		a.mode.side(a, g, f)
	default:
		a.layWhy()
		panel.Detail(g, a.look, a.model, a.cursor, a.moment(), a.can(), f.side)
	}
}

// outcome says what the previewed edit leads to.
func (a *app) outcome() string {
	if a.previewed() == nil {
		return "The field is too large to show beforehand what it leads to; u undoes it."
	}
	p, there := a.previews.get(previewOf{a.previewed(), a.draft, a.review})
	switch {
	case !there:
		return "What it leads to is being worked out."
	case p.left == 0:
		return "The board shows it. Nothing is found then."
	}
	return fmt.Sprintf("The board shows it. %s left then.", counted(p.left, "finding"))
}

// drawEmpty says what to do next in a field that has nothing yet.
func (a *app) drawEmpty(g *grid.Grid, area board.Area) {
	k := a.look
	lines := []string{"This field has no roles or nodes yet.", "Write them into " + a.file + "; the board follows each time it is saved."}
	if a.draft == nil {
		lines = []string{"There is no draft to show yet.", "Mend " + a.file + " as the line below says; the board follows each time it is saved."}
		if a.trouble == "" {
			lines = []string{"Reading " + a.file + " …"}
		}
	}
	y := area.Y + max(0, area.H/2-2)
	for i, text := range lines {
		for _, line := range grid.Wrap(text, area.W-4) {
			style := k.Quiet()
			if i == 0 {
				style = k.Text().Strong()
			}
			g.Text(max(1, (area.W-grid.Width(line))/2), y, line, style)
			y++
		}
	}
}

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
	k := a.look
	text, short := "", "" // the short one where there is no room for the other
	switch {
	case a.past != nil:
		at, ago := a.past.at.Local().Format("15:04:05.0"), field.Span(a.now.Sub(a.past.at))
		text, short = fmt.Sprintf("the past: as it was at %s, %s ago; n returns to now", at, ago), fmt.Sprintf("the past: %s, %s ago; n: now", at, ago)
	case a.mode.says != nil:
		text, short = a.mode.says(a)
	case a.whatIf && a.view == boardView:
		text, short = "what if: move to choose what fails, esc ends it", "what if: choose what fails, esc ends it"
	case a.snap.Rollout.Paused && a.snap.Rollout.Active:
		text = "paused: space goes on"
	default:
		return
	}
	if short != "" && grid.Width(text)+3 > a.w-x {
		text = short
	}
	g.Clip(x, y, a.w-x-1, " "+text+" ", grid.Style{Fg: k.Ink, Bg: k.Act, Bold: true})
}

// viewName is where a view's name stands.
type viewName struct {
	view      *view
	key, name string
	x, w      int
}

func (a *app) viewNames() []viewName {
	var names []viewName
	x := 1
	for _, v := range views {
		n := viewName{view: v, key: v.key(a.keys).Help().Key, name: v.name, x: x}
		n.w = len(n.key) + 1 + len(n.name)
		x += n.w + 3
		names = append(names, n)
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
	case a.past != nil:
		text, style = "This is as it was then. [ ] go back and forth, { } from event to event.", k.Quiet()
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

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// can lists what can be done to what is under the cursor.
func (a *app) can() panel.Foot {
	if a.whatIf {
		return a.hurting()
	}
	if a.past != nil || a.mode != walking && a.mode != inDetail {
		return panel.Foot{}
	}
	var all []panel.Can
	add := func(b key.Binding, word string) { all = append(all, panel.Can{Key: b.Help().Key, Word: word}) }
	at := a.model.Under(a.cursor)
	_, m := a.model.Member(at.Member)
	var live []*board.Member
	if m == nil {
		_, live = a.targets()
	}
	stopped := 0
	for _, x := range live {
		if x.Phase == state.Stopped {
			stopped++
		}
	}
	switch {
	case m != nil && m.Unsent:
		add(a.keys.Grab, "put it on another node")
		add(a.keys.Pin, "pin it here, or unpin it")
		add(a.keys.Remove, "take it out of the draft")
		add(a.keys.Change, "change its role, its node")
		add(a.keys.Files, "read its config files")
	case m != nil:
		if m.Phase == state.Stopped {
			add(a.keys.Halt, "start it again")
		} else {
			add(a.keys.Restart, "restart it here")
			add(a.keys.Halt, "stop it; place and data are kept")
		}
		add(a.keys.Lines, "read its lines")
		add(a.keys.Files, "read its config files")
		if !m.Leaving && !m.Removal {
			add(a.keys.Grab, "move it to another node")
			add(a.keys.Remove, "take it out of the draft")
		}
	case at.Role != "" && at.Node != "":
		add(a.keys.Add, fmt.Sprintf("add one of %s here", at.Role))
		add(a.keys.Change, "change the role, the node")
	case at.Role != "":
		add(a.keys.Change, "change anything of it")
		add(a.keys.More, "one more of them, anywhere")
		add(a.keys.Fewer, "one fewer")
		switch {
		case len(live) > 0 && stopped == len(live):
			add(a.keys.Halt, "start them again")
			add(a.keys.Lines, "read their lines")
		case len(live) > 0:
			add(a.keys.Restart, "restart them one by one")
			add(a.keys.Halt, "stop them all")
			add(a.keys.Lines, "read their lines")
		}
	case at.Zone != "" || at.Node != "":
		add(a.keys.Change, "change anything of it")
		add(a.keys.Fold, "fold this zone, or open it")
		if len(live) > 0 {
			if stopped == len(live) {
				add(a.keys.Halt, "start again what is stopped here")
			} else {
				add(a.keys.Halt, "stop all that runs here")
			}
			add(a.keys.Lines, "read the lines from here")
		}
	}
	return panel.Foot{Head: "you can", Lines: all}
}

// drawKeyLine writes the keys that do something here and now.
func (a *app) drawKeyLine(g *grid.Grid, y int) {
	k := a.look
	all := a.hints()
	width := func(s hint) int { return grid.Width(s.key) + 1 + grid.Width(s.word) + 3 }
	rest := 0
	for _, s := range all[max(0, len(all)-2):] {
		rest += width(s)
	}
	x := 1
	for i, s := range all { // the last two always have room
		if i < len(all)-2 && x+width(s)+rest > a.w {
			continue
		}
		x = g.Text(x, y, s.key, k.In(k.Act).Strong())
		x = g.Text(x+1, y, s.word, k.Quiet()) + 3
	}
}
