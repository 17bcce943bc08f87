package tui

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"

	tea "charm.land/bubbletea/v2"

	"charm.land/bubbles/v2/key"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
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
	if a.w >= 116 && f.area.H >= 12 && a.view != journalView {
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
	if a.view == journalView {
		a.journal.Sync(a.book, a.names)
		var then time.Time
		if a.past != nil {
			then = a.past.at
		}
		a.journal.Draw(g, a.look, f.area, then)
	} else if a.view == orderView {
		a.drawOrder(g, f)
	} else {
		a.drawBoard(g, f)
	}
	tide.Draw(g, a.look, a.drawnTide(), f.tide)
	over := a.mode == inReview || a.mode == inKeys || a.mode == inConfirm || a.mode == inClash ||
		a.mode == inDetail || a.mode == inFindings && f.side.W == 0
	if over {
		g.Fade(grid.Style{Fg: a.look.Faint, Bg: a.look.Ink})
	}
	a.drawKeyLine(g, a.h-1)
	a.drawOver(g, f)
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
	case a.mode == inFindings:
		panel.Findings(g, a.look, a.findings, a.choice.finding, a.choice.edit, a.outcome(), f.side)
	case a.mode == inSheet || a.mode == inPointing || a.mode == asking && a.prompt.back == inSheet:
		panel.DrawSheet(g, a.look, a.sheetView(), f.side)
	case a.mode == inProposal:
		panel.Proposal(g, a.look, a.proposed(), f.side)
	case a.mode == carrying:
		panel.Carry(g, a.look, a.model, a.cursor, a.carried.Member, f.side)
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
	switch n := a.choice.left; n {
	case 0:
		return "The board shows it. Nothing is found then."
	default:
		return fmt.Sprintf("The board shows it. %s left then.", counted(n, "finding"))
	}
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

func (a *app) drawOver(g *grid.Grid, f frame) {
	switch a.mode {
	case inReview:
		foot := "esc goes back, nothing has been done"
		switch {
		case a.deployable():
			foot = "d deploys this     esc goes back"
		case finding.Worst(a.findings):
			foot = "it cannot be deployed before the errors are mended     esc goes back"
		case a.review != nil && a.review.Quick:
			foot = "it is being worked out     esc goes back"
		}
		if a.review != nil && len(a.review.Pending) > 0 {
			foot = "r restarts what waits for it     " + foot
		}
		a.lines, a.shown = panel.Review(g, a.look, a.reviewBody(), foot, a.scroll)
	case inKeys:
		a.lines, a.shown = panel.Keys(g, a.look, a.keys.groups(), a.scroll)
	case inConfirm:
		foot := "y does it     esc goes back, nothing has been done"
		if a.ask.order.What == "" {
			foot = "esc goes back, nothing has been done"
		}
		a.lines, a.shown = panel.Ask(g, a.look, a.ask.title, a.ask.text, a.ask.lost, foot)
	case inClash:
		var text []string
		for _, c := range a.clash.conflicts {
			text = append(text, fmt.Sprintf("line %d, theirs:", c.Line))
			text = append(text, strings.Split(strings.TrimRight(c.Theirs, "\n"), "\n")...)
			text = append(text, "yours:")
			text = append(text, strings.Split(strings.TrimRight(c.Mine, "\n"), "\n")...)
			text = append(text, "")
		}
		a.lines, a.shown = panel.Ask(g, a.look, "Somebody else has changed the same lines of the file", text, false, "t keeps theirs     m takes yours     nothing has been written yet")
	case inSheet, inPointing:
		if f.side.W == 0 && a.mode == inSheet {
			panel.DrawSheet(g, a.look, a.sheetView(), board.Area{X: 0, Y: f.area.Y, W: a.w, H: f.area.H})
		}
	case inProposal:
		if f.side.W == 0 {
			a.lines, a.shown = panel.Ask(g, a.look, "A placement is proposed", a.proposed(), false, "enter takes it     esc moves nothing")
		}
	case inList:
		panel.List(g, a.look, a.list.title, a.list.items, a.list.at)
	case inFiles:
		a.drawFiles(g, board.Area{Y: f.area.Y, W: a.w, H: a.h - f.area.Y - 1})
	case asking:
		a.drawPrompt(g)
	case inDetail:
		a.layWhy()
		panel.DetailOver(g, a.look, a.model, a.cursor, a.moment(), a.can())
	case inFindings:
		if f.side.W == 0 && f.area.H > 0 {
			half := board.Area{X: 0, Y: f.area.Y, W: a.w, H: f.area.H}
			panel.Findings(g, a.look, a.findings, a.choice.finding, a.choice.edit, a.outcome(), half)
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
	case a.mode == carrying:
		text, short = fmt.Sprintf("carrying %s: enter drops it, esc leaves it", a.carried.Member), fmt.Sprintf("carrying %s: enter drops it", a.carried.Member)
	case a.mode == filtering:
		text = "choosing lines: enter takes the words, esc shows all"
	case a.mode == inFindings:
		text, short = "findings: enter makes an edit, c accepts it, esc goes back", "findings: enter mends, c accepts, esc: back"
	case a.mode == inSheet:
		text, short = "changing: enter changes a line, x takes it out, tab turns the page, esc goes back", "changing: enter, x takes out, tab turns, esc"
	case a.mode == inPointing:
		text = fmt.Sprintf("%s, %s: arrows point at a role, enter takes it, esc goes back", a.pointing.from, a.pointing.row.Label)
		short = fmt.Sprintf("%s, %s: point at a role, enter", a.pointing.from, a.pointing.row.Label)
	case a.mode == inFiles:
		text, short = fmt.Sprintf("what %s would be run with, and where it comes from", a.files.of), fmt.Sprintf("what %s would be run with", a.files.of)
		switch {
		case a.files.vs == 1:
			text = fmt.Sprintf("%s: what differs from how it runs", a.files.of)
		case a.files.vs == 2 && a.files.before != nil:
			text = fmt.Sprintf("%s: what differs from %s", a.files.of, a.files.before.Member)
		}
	case a.mode == inProposal:
		text = "proposed: enter takes it, esc moves nothing"
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
	view      view
	key, name string
	x, w      int
}

func (a *app) viewNames() []viewName {
	names := []viewName{{view: boardView, key: a.keys.Board.Help().Key, name: "Board"}, {view: journalView, key: a.keys.Journal.Help().Key, name: "Journal"},
		{view: orderView, key: a.keys.Order.Help().Key, name: "Order"}}
	x := 1
	for i := range names {
		names[i].x, names[i].w = x, len(names[i].key)+1+len(names[i].name)
		x += names[i].w + 3
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
	type shown struct{ key, word string }
	var all []shown
	add := func(b key.Binding, word string) { all = append(all, shown{b.Help().Key, word}) }
	arrows, upDown, sideways := "←↓↑→", "↓↑", "←→"
	if k.ASCII {
		arrows, upDown, sideways = "arrows", "down up", "left right"
	}
	at := a.model.Under(a.cursor)
	switch {
	case a.mode == carrying:
		all = append(all, shown{sideways, "to another node"})
		add(a.keys.Drop, "drop it here")
		add(a.keys.Close, "leave it")
	case a.mode == filtering:
		add(a.keys.Inspect, "take these words")
		add(a.keys.Close, "show all lines")
	case a.mode == inFindings:
		all = append(all, shown{upDown, "choose"})
		if a.choice.edit >= 0 {
			add(a.keys.Mend, "make this edit")
		}
		add(a.keys.Close, "back")
	case a.mode == inSheet:
		all = append(all, shown{upDown, "choose"})
		add(a.keys.Inspect, "change it")
		add(a.keys.Remove, "take it out")
		add(a.keys.Other, "turn the page")
		add(a.keys.Undo, "undo")
		add(a.keys.Close, "back")
	case a.mode == inPointing:
		all = append(all, shown{upDown, "point at a role"})
		add(a.keys.Inspect, "take it")
		add(a.keys.Close, "back")
	case a.mode == inFiles:
		add(a.keys.Other, "next file")
		all = append(all, shown{sideways, "another member"}, shown{"d", "what differs"})
		all = append(all, shown{upDown, "scroll"})
		add(a.keys.Close, "back")
	case a.mode == inProposal:
		add(a.keys.Mend, "take it")
		add(a.keys.Close, "move nothing")
	case a.mode == inList:
		all = append(all, shown{upDown, "choose"})
		add(a.keys.Inspect, "take it")
		add(a.keys.Close, "back")
	case a.mode == asking:
		add(a.keys.Inspect, "take it")
		add(a.keys.Close, "back")
	case a.mode == inConfirm:
		if a.ask.order.What != "" {
			add(a.keys.Yes, "do it")
		}
		add(a.keys.Close, "back")
	case a.mode == inClash:
		add(a.keys.Theirs, "keep theirs")
		add(a.keys.Mine, "take yours")
	case a.mode != walking:
		if a.mode == inReview && a.deployable() {
			add(a.keys.Deploy, "deploy this")
		}
		if a.mode == inReview && a.review != nil && len(a.review.Pending) > 0 {
			add(a.keys.Restart, "restart what waits")
		}
		if a.lines > a.shown && a.mode != inDetail {
			all = append(all, shown{upDown, "scroll"})
		}
		add(a.keys.Close, "back")
	case a.past != nil:
		add(a.keys.Now, "now")
		all = append(all, shown{"[ ]", "in time"}, shown{"{ }", "to events"}, shown{arrows, "move"})
		add(a.keys.Other, "other view")
	case a.view == journalView:
		all = append(all, shown{upDown, "line by line, back in time"})
		add(a.keys.Filter, "choose lines")
		if !a.journal.Follow {
			add(a.keys.Follow, "follow")
		}
		if a.journal.Text != "" {
			add(a.keys.Close, "all lines")
		}
		add(a.keys.Board, "board")
	default:
		all = append(all, shown{arrows, "move"})
		if _, dark := a.model.NextDark(a.cursor); dark && !a.snap.Rollout.Active {
			add(a.keys.Dark, "to what is dark")
		}
		if a.snap.Rollout.Active && a.snap.State == snapshot.Deploying {
			word := "pause"
			if a.snap.Rollout.Paused {
				word = "go on"
			}
			add(a.keys.Pause, word)
		}
		if a.review != nil && a.review.New() {
			add(a.keys.Review, "review and deploy")
		} else if a.review == nil && a.refused != "" {
			add(a.keys.Review, "why it is refused")
		}
		if len(a.edits.done) > 0 {
			add(a.keys.Undo, "undo")
		}
		if len(a.edits.undone) > 0 {
			add(a.keys.Redo, "redo")
		}
		if a.loaded != nil && at.Role != "" {
			if at.Member != "" {
				add(a.keys.Grab, "grab")
				add(a.keys.Remove, "remove")
			} else {
				add(a.keys.Add, "add")
			}
			all = append(all, shown{"+ -", "more or fewer"})
		}
		if a.loaded != nil {
			add(a.keys.Change, "change")
		}
		if len(a.findings) > 0 {
			add(a.keys.Findings, "findings")
		}
		add(a.keys.WhatIf, map[bool]string{true: "as it is", false: "what if"}[a.whatIf])
		if len(a.tide) > 0 {
			all = append(all, shown{"[ ]", "back in time"})
		}
	}
	if a.mode == walking {
		add(a.keys.Keys, "all keys")
		add(a.keys.Quit, "quit")
	}
	width := func(s shown) int { return grid.Width(s.key) + 1 + grid.Width(s.word) + 3 }
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
