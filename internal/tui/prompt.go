package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/input"
	"lanternfield/internal/tui/panel"
)

// prompt asks for one line of text.
type prompt struct {
	label string
	help  string
	line  input.Line
	back  *layer // where esc leads
	take  func(text string) tea.Cmd
	bad   string // why the text was not taken
}

// askText asks for a line; take is given what was typed.
func (a *app) askText(label, help, text string, take func(string) tea.Cmd) {
	back := a.mode
	if back == asking {
		back = a.prompt.back
	}
	a.prompt = &prompt{label: label, help: help, line: input.New(text), back: back, take: take}
	a.mode = asking
}

func (a *app) pressAsking(msg tea.KeyPressMsg, is keyIs) tea.Cmd {
	p := a.prompt
	p.bad, a.bad = "", false
	switch {
	case msg.String() == "enter":
		a.mode = p.back
		cmd := p.take(strings.TrimSpace(p.line.String()))
		if a.mode == p.back && a.bad && a.message != "" && cmd == nil { // it was refused at once: it can be corrected
			p.bad = a.message
			a.mode = asking
		}
		return cmd
	case is(a.keys.Close):
		a.mode = p.back
	default:
		p.line.Press(msg)
	}
	return nil
}

// drawPrompt draws the question at the foot of the screen, where the eyes are after a key was pressed.
func (a *app) drawPrompt(g *grid.Grid) {
	k, p := a.look, a.prompt
	w := min(g.W-2, 96)
	help := grid.Wrap(p.help, w-4)
	if p.bad != "" {
		help = grid.Wrap(p.bad, w-4)
	}
	if p.help == "" && p.bad == "" {
		help = nil
	}
	help = help[:min(len(help), 4)]
	h := 4 + len(help)
	x, y := (g.W-w)/2, max(0, g.H-h-2)
	g.Fill(x, y, w, h, ' ', grid.Style{Fg: k.Paper, Bg: k.Raise})
	g.Clip(x+2, y, w-4, p.label, k.In(k.Gold).Strong())
	p.line.Draw(g, k, x+2, y+1, w-4)
	style := k.Quiet()
	if p.bad != "" {
		style = k.In(k.Fail)
	}
	for i, l := range help {
		g.Clip(x+2, y+2+i, w-4, l, style)
	}
	g.Clip(x+2, y+h-1, w-4, "enter takes it     esc goes back", k.Quiet())
}

// asking has a line of text typed.
var asking = &layer{name: "asking"}

func init() {
	*asking = layer{name: "asking", press: func(a *app, msg tea.KeyPressMsg, is keyIs) tea.Cmd { return a.pressAsking(msg, is) },
		keys: func(a *app) []hint { return []hint{hintOf(a.keys.Inspect, "take it"), hintOf(a.keys.Close, "back")} },
		side: func(a *app, g *grid.Grid, f frame) {
			if a.prompt.back == inSheet {
				inSheet.side(a, g, f)
				return
			}
			a.layWhy()
			panel.Detail(g, a.look, a.model, a.cursor, a.moment(), a.can(), f.side)
		},
		draw: func(a *app, g *grid.Grid, f frame) {
			if a.prompt.back == inReview {
				inReview.draw(a, g, f)
			}
			a.drawPrompt(g)
		},
		paste: func(a *app, text string) { a.prompt.line.Insert(text) }}
}
