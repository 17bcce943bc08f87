package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"charm.land/bubbles/v2/key"

	"lanternfield/internal/tui/grid"
)

// prompt asks for one line of text.
type prompt struct {
	label string
	help  string
	text  []rune
	at    int
	back  mode // where esc leads
	take  func(text string) tea.Cmd
	bad   string // why the text was not taken
}

// askText asks for a line; take is given what was typed.
func (a *app) askText(label, help, text string, take func(string) tea.Cmd) {
	back := a.mode
	if back == asking {
		back = a.prompt.back
	}
	a.prompt = &prompt{label: label, help: help, text: []rune(text), at: len([]rune(text)), back: back, take: take}
	a.mode = asking
}

// mostTyped bounds a line.
const mostTyped = 400

func (a *app) pressAsking(msg tea.KeyPressMsg, is func(key.Binding) bool) tea.Cmd {
	p := a.prompt
	p.bad = ""
	switch msg.String() {
	case "enter":
		a.mode = p.back
		cmd := p.take(strings.TrimSpace(string(p.text)))
		if a.mode == p.back && a.bad && a.message != "" && cmd == nil { // it was refused at once: it can be corrected
			p.bad = a.message
			a.mode = asking
		}
		return cmd
	case "backspace":
		if p.at > 0 {
			p.text = append(p.text[:p.at-1:p.at-1], p.text[p.at:]...)
			p.at--
		}
	case "delete":
		if p.at < len(p.text) {
			p.text = append(p.text[:p.at:p.at], p.text[p.at+1:]...)
		}
	case "left":
		p.at = max(0, p.at-1)
	case "right":
		p.at = min(len(p.text), p.at+1)
	case "home", "ctrl+a":
		p.at = 0
	case "end", "ctrl+e":
		p.at = len(p.text)
	case "ctrl+u":
		p.text, p.at = p.text[p.at:], 0
	default:
		switch {
		case is(a.keys.Close):
			a.mode = p.back
		case msg.Text != "":
			p.insert(typed(msg.Text))
		}
	}
	return nil
}

func (p *prompt) insert(text string) {
	r := []rune(text)
	if len(p.text)+len(r) > mostTyped {
		return
	}
	p.text = append(p.text[:p.at:p.at], append(r, p.text[p.at:]...)...)
	p.at += len(r)
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
	room := w - 5
	from := max(0, p.at-room+1)
	line := p.text[from:min(len(p.text), from+room)]
	g.Text(x+2, y+1, string(line), k.Text().Strong())
	under := ' '
	if p.at < len(p.text) {
		under = p.text[p.at]
	}
	g.Set(x+2+p.at-from, y+1, under, grid.Style{Fg: k.Ink, Bg: k.Act, Bold: true})
	style := k.Quiet()
	if p.bad != "" {
		style = k.In(k.Fail)
	}
	for i, l := range help {
		g.Clip(x+2, y+2+i, w-4, l, style)
	}
	g.Clip(x+2, y+h-1, w-4, "enter takes it     esc goes back", k.Quiet())
}
