package panel

import (
	"lanternfield/internal/tui/theme"

	"lanternfield/internal/tui/grid"
)

// writer writes lines downwards in a column and stops at its end.
type writer struct {
	g          *grid.Grid
	k          theme.Theme
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
