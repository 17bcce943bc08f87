// Package grid is one frame of the screen as cells, turned into a string once. Drawing on it never fails: what lies
// outside is cut.
package grid

import (
	"fmt"
	"strings"

	"github.com/mattn/go-runewidth"

	fit "lanternfield/internal/core/plain"
)

// Color is 0xRRGGBB. None leaves the terminal's own.
type Color int32

// None is no colour.
const None Color = -1

// Style is how a cell looks.
type Style struct {
	Fg, Bg Color
	Bold   bool
}

// On gives the style on another background.
func (s Style) On(bg Color) Style { s.Bg = bg; return s }

// Strong gives the style in bold.
func (s Style) Strong() Style { s.Bold = true; return s }

// Mix gives the colour between two: all of a at 0, all of b at 1.
func Mix(a, b Color, part float64) Color {
	if a == None || b == None {
		return a
	}
	var out Color
	for shift := 0; shift <= 16; shift += 8 {
		x, y := float64(a>>shift&0xff), float64(b>>shift&0xff)
		out |= Color(x+(y-x)*part+0.5) << shift
	}
	return out
}

type cell struct {
	r     rune // 0 behind a wide rune
	style Style
}

// Grid is a frame of W by H cells.
type Grid struct {
	W, H  int
	cells []cell
}

// sgr keeps the escape sequence of each style that was ever drawn.
var sgr = map[Style]string{}

// New makes a frame filled with blanks of that style.
func New(w, h int, fill Style) *Grid {
	g := &Grid{W: max(w, 0), H: max(h, 0)}
	g.cells = make([]cell, g.W*g.H)
	for i := range g.cells {
		g.cells[i] = cell{' ', fill}
	}
	return g
}

// Set puts one rune. A background of None keeps the one that is there.
func (g *Grid) Set(x, y int, r rune, s Style) {
	if x < 0 || y < 0 || x >= g.W || y >= g.H {
		return
	}
	c := &g.cells[y*g.W+x]
	if fit.Acts(r) && r != 0 {
		r = ' '
	}
	if s.Bg == None {
		s.Bg = c.style.Bg
	}
	*c = cell{r, s}
}

// Text writes a text and gives the column after it. What acts on terminals is left out.
func (g *Grid) Text(x, y int, text string, s Style) int {
	for _, r := range text {
		if fit.Acts(r) {
			continue
		}
		w := runewidth.RuneWidth(r)
		if w == 0 {
			continue
		}
		if x+w > g.W && w == 2 {
			return g.W
		}
		g.Set(x, y, r, s)
		if w == 2 {
			g.Set(x+1, y, 0, s)
		}
		x += w
	}
	return x
}

// Clip writes a text within a width, with an ellipsis where it is cut, and gives the column after it.
func (g *Grid) Clip(x, y, width int, text string, s Style) int {
	return g.Text(x, y, Shorten(text, width), s)
}

// Fill fills a rectangle.
func (g *Grid) Fill(x, y, w, h int, r rune, s Style) {
	for j := y; j < y+h; j++ {
		for i := x; i < x+w; i++ {
			g.Set(i, j, r, s)
		}
	}
}

// Fade draws everything that is there in one style, so that what comes over it stands out.
func (g *Grid) Fade(s Style) {
	for i := range g.cells {
		g.cells[i].style = s
	}
}

// Shorten cuts a text to a width.
func Shorten(text string, width int) string {
	if width <= 0 {
		return ""
	}
	return runewidth.Truncate(text, width, "…")
}

// Width is how many cells a text takes.
func Width(text string) int { return runewidth.StringWidth(text) }

// Wrap breaks a text at blanks into lines of at most that width.
func Wrap(text string, width int) []string {
	var lines []string
	line := ""
	for _, word := range strings.Fields(text) {
		for Width(word) > width && width > 0 {
			if line != "" {
				lines, line = append(lines, line), ""
			}
			head := runewidth.Truncate(word, width, "")
			if head == "" {
				return append(lines, "…")
			}
			lines, word = append(lines, head), word[len(head):]
		}
		switch {
		case line == "":
			line = word
		case Width(line)+1+Width(word) <= width:
			line += " " + word
		default:
			lines, line = append(lines, line), word
		}
	}
	if line != "" {
		lines = append(lines, line)
	}
	return lines
}

// String turns the frame into lines with escape sequences, each ended with a reset.
func (g *Grid) String() string {
	var b strings.Builder
	b.Grow(g.W * g.H * 3)
	for y := range g.H {
		if y > 0 {
			b.WriteByte('\n')
		}
		var now Style
		for x := range g.W {
			c := g.cells[y*g.W+x]
			if c.r == 0 {
				continue
			}
			if x == 0 || c.style != now {
				b.WriteString(escape(c.style))
				now = c.style
			}
			b.WriteRune(c.r)
		}
		b.WriteString("\x1b[m")
	}
	return b.String()
}

// Plain gives the frame without styles, trailing blanks cut: for tests and terminals that know no styles.
func (g *Grid) Plain() string {
	lines := make([]string, g.H)
	for y := range g.H {
		var b strings.Builder
		for x := range g.W {
			if r := g.cells[y*g.W+x].r; r != 0 {
				b.WriteRune(r)
			}
		}
		lines[y] = strings.TrimRight(b.String(), " ")
	}
	return strings.Join(lines, "\n")
}

func escape(s Style) string {
	if e, ok := sgr[s]; ok {
		return e
	}
	e := "\x1b[0"
	if s.Bold {
		e += ";1"
	}
	for _, c := range []struct {
		code  int
		color Color
	}{{38, s.Fg}, {48, s.Bg}} {
		if c.color != None {
			e += fmt.Sprintf(";%d;2;%d;%d;%d", c.code, c.color>>16&0xff, c.color>>8&0xff, c.color&0xff)
		}
	}
	e += "m"
	sgr[s] = e
	return e
}
