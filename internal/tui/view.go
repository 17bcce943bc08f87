package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

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

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
