package grid

import (
	"strings"
	"testing"

	fit "lanternfield/internal/core/plain"
)

var plain = Style{Fg: None, Bg: None}

func TestNothingIsDrawnOutside(t *testing.T) {
	g := New(5, 2, plain)
	g.Text(3, 0, "abcdef", plain)
	g.Text(-2, 1, "abcd", plain)
	g.Fill(4, 1, 10, 10, '#', plain)
	g.Set(0, -1, 'x', plain)
	if got := g.Plain(); got != "   ab\ncd  #" {
		t.Errorf("got %q", got)
	}
	if New(-1, -1, plain).String() != "" || New(0, 3, plain).Plain() != "\n\n" {
		t.Error("a frame without size is not empty")
	}
}

func TestTextKeepsTerminalsSafeAndColumnsStraight(t *testing.T) {
	g := New(12, 1, plain)
	end := g.Text(0, 0, "a\x1b[2Jb\tc\u009bd", plain)
	if got := g.Plain(); got != "a[2Jbcd" || end != 7 {
		t.Errorf("got %q up to %d", got, end)
	}
	g = New(6, 1, plain)
	if end := g.Text(0, 0, "日本語語", plain); end != 6 || g.Plain() != "日本語" {
		t.Errorf("wide runes: %q up to %d", g.Plain(), end)
	}
	g = New(5, 1, plain)
	if g.Text(0, 0, "日本語", plain); g.Plain() != "日本" {
		t.Errorf("a wide rune was cut in half: %q", g.Plain())
	}
}

func TestStringSetsEachStyleOnce(t *testing.T) {
	red := Style{Fg: 0xff0000, Bg: None}
	g := New(6, 1, plain)
	g.Text(0, 0, "aab", red)
	g.Text(3, 0, "cc", red.On(0x0000ff).Strong())
	want := "\x1b[0;38;2;255;0;0maab\x1b[0;1;38;2;255;0;0;48;2;0;0;255mcc\x1b[0m \x1b[m"
	if got := g.String(); got != want {
		t.Errorf("got %q, want %q", got, want)
	}
	g.Set(3, 0, 'd', red) // no background of its own: that of the cell stays
	if got := g.String(); !strings.Contains(got, "\x1b[0;38;2;255;0;0;48;2;0;0;255md") {
		t.Errorf("the background was lost: %q", got)
	}
	g.Fade(plain)
	if got := g.String(); got != "\x1b[0maabdc \x1b[m" {
		t.Errorf("faded: %q", got)
	}
}

func TestShortenAndWrap(t *testing.T) {
	for _, test := range []struct {
		text  string
		width int
		short string
		lines string
	}{
		{"one more loss stops writes", 10, "one more …", "one more|loss stops|writes"},
		{"unbreakable", 4, "unb…", "unbr|eaka|ble"},
		{"a  b", 10, "a  b", "a b"},
		{"", 5, "", ""},
		{"日本語", 4, "日…", "日本|語"},
	} {
		if got := Shorten(test.text, test.width); got != test.short {
			t.Errorf("Shorten(%q, %d): got %q, want %q", test.text, test.width, got, test.short)
		}
		lines := Wrap(test.text, test.width)
		if got := strings.Join(lines, "|"); got != test.lines {
			t.Errorf("Wrap(%q, %d): got %q, want %q", test.text, test.width, got, test.lines)
		}
		for _, l := range lines {
			if Width(l) > test.width {
				t.Errorf("Wrap(%q, %d): %q is too wide", test.text, test.width, l)
			}
		}
	}
	if Shorten("x", 0) != "" || Shorten("x", -3) != "" || len(Wrap("abc def", 0)) > 3 {
		t.Error("no width at all")
	}
}

// FuzzNothingThatActsIsDrawn draws anything, by text and rune by rune: what comes out is our own styles and nothing else that acts.
func FuzzNothingThatActsIsDrawn(f *testing.F) {
	f.Add("a\x1b]0;owned\x07\u202eb", 3)
	f.Fuzz(func(t *testing.T, text string, x int) {
		g := New(20, 3, Style{None, None, false})
		g.Text(x%20, 0, text, Style{Fg: 0x123456, Bg: None})
		g.Clip(0, 1, 10, text, Style{Fg: None, Bg: None})
		for i, r := range []rune(text) {
			g.Set(i, 2, r, Style{Fg: None, Bg: None})
		}
		for _, line := range Wrap(text, 8) {
			g.Text(0, 1, line, Style{Fg: None, Bg: None})
		}
		rest := g.String()
		for _, style := range sgr {
			rest = strings.ReplaceAll(rest, style, "")
		}
		rest = strings.ReplaceAll(rest, "\x1b[m", "")
		for _, r := range rest {
			if r != '\n' && fit.Acts(r) {
				t.Fatalf("%q drew %q", text, rest)
			}
		}
	})
}
