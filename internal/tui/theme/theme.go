// Package theme is how things look: colours for dark and light terminals, and the shape of every state, in Unicode and in
// ASCII. A state is always told by its shape too.
package theme

import (
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/tui/grid"
)

// Theme is one set of colours and shapes.
type Theme struct {
	Ink, Shade, Raise grid.Color // background, a darker place, a raised one
	Paper, Dim, Faint grid.Color // text, quieter, hardly there
	Lit, Glow         grid.Color
	Gold, GoldGlow    grid.Color
	Warm, WarmGlow    grid.Color
	Plan, PlanGlow    grid.Color
	Fail, FailGlow    grid.Color
	Act               grid.Color
	Ground            grid.Color
	ASCII             bool
	Flat              bool // too few colours for shades
}

// Dark is for dark terminals.
func Dark() Theme {
	return Theme{Ink: 0x0d1020, Shade: 0x15192c, Raise: 0x1d2340, Paper: 0xd9d3c3, Dim: 0x6c7288, Faint: 0x343b57,
		Lit: 0xffb347, Glow: 0x4a3413, Gold: 0xffe08a, GoldGlow: 0x5c4a1c, Warm: 0xc9853a, WarmGlow: 0x33240f,
		Plan: 0x7a86a8, PlanGlow: 0x1a2038, Fail: 0xff6b5e, FailGlow: 0x4a1719, Act: 0x5cc8c0, Ground: 0x2a3a38}
}

// Light is for light terminals.
func Light() Theme {
	return Theme{Ink: 0xf6f2e7, Shade: 0xebe5d4, Raise: 0xe2dbc6, Paper: 0x2b2a33, Dim: 0x6f6c78, Faint: 0xc3bcab,
		Lit: 0x9a5b00, Glow: 0xffdc9c, Gold: 0x7a5200, GoldGlow: 0xffcf5e, Warm: 0x9c6420, WarmGlow: 0xf3dfc0,
		Plan: 0x56618a, PlanGlow: 0xdfe2ee, Fail: 0xb3261e, FailGlow: 0xf8cfca, Act: 0x00736b, Ground: 0xb9c4a8}
}

// Limited is the look for terminals of 256 colours. Their palette has no dark amber, and the nearest colour that it has
// is an olive green; so the glows are chosen from it by hand.
func (l Theme) Limited() Theme {
	l.Flat = true
	if l.Ink == Light().Ink {
		l.Glow, l.GoldGlow, l.WarmGlow, l.PlanGlow, l.FailGlow = 0xffd7af, 0xffd75f, 0xffffd7, 0xe4e4e4, 0xffd7d7
		l.Raise, l.Shade, l.Faint, l.Ground = 0xdadada, 0xe4e4e4, 0xbcbcbc, 0xafd7af
		return l
	}
	l.Glow, l.GoldGlow, l.WarmGlow, l.PlanGlow, l.FailGlow = 0x875f00, 0x875f00, 0x3a3a3a, 0x262626, 0x5f0000
	l.Lit, l.Warm = 0xffd787, 0xd7875f
	l.Ink, l.Raise, l.Shade, l.Faint, l.Dim, l.Ground = 0x121212, 0x303030, 0x1c1c1c, 0x444444, 0x8a8a8a, 0x005f5f
	return l
}

// Text is plain text.
func (l Theme) Text() grid.Style { return grid.Style{Fg: l.Paper, Bg: grid.None} }

// Quiet is text that explains.
func (l Theme) Quiet() grid.Style { return grid.Style{Fg: l.Dim, Bg: grid.None} }

// In is text in a colour.
func (l Theme) In(c grid.Color) grid.Style { return grid.Style{Fg: c, Bg: grid.None} }

// Page is an empty screen.
func (l Theme) Page() grid.Style { return grid.Style{Fg: l.Paper, Bg: l.Ink} }

// Lamp is how a lantern burns: its shape, its colour and the glow behind it.
type Lamp struct {
	Shape rune
	Color grid.Color
	Glow  grid.Color
	Word  string // what the light means
}

// LampOf gives the lantern of a phase.
func (l Theme) LampOf(p state.Phase, leads bool) Lamp {
	lamp := Lamp{Word: string(p)}
	set := func(shape, plain rune, c, glow grid.Color) Lamp {
		lamp.Shape, lamp.Color, lamp.Glow = shape, c, glow
		if l.ASCII {
			lamp.Shape = plain
		}
		return lamp
	}
	switch p {
	case state.Ready:
		if leads {
			return set('◉', '@', l.Gold, l.GoldGlow)
		}
		return set('●', '*', l.Lit, l.Glow)
	case state.Placing, state.Starting, state.Joining:
		return set('◐', 'o', l.Warm, l.WarmGlow)
	case state.Draining, state.Stopping:
		return set('◒', 'v', l.Warm, l.WarmGlow)
	case state.Unready, state.Failed:
		return set('✖', 'x', l.Fail, l.FailGlow)
	case state.Stopped, state.Gone:
		return set('◌', '-', l.Plan, l.PlanGlow)
	case state.Unknown:
		return set('?', '?', l.Fail, l.PlanGlow)
	}
	return set('○', '.', l.Plan, l.PlanGlow)
}

// StateColor is the colour that supports the word for a field's state.
func (l Theme) StateColor(s snapshot.Condition) grid.Color {
	switch s {
	case snapshot.Converged:
		return l.Lit
	case snapshot.Deploying, snapshot.Converging:
		return l.Warm
	case snapshot.Degraded, snapshot.Down:
		return l.Fail
	}
	return l.Plan
}

// Or gives the Unicode rune, or the ASCII one where only that can be drawn.
func (l Theme) Or(unicode, ascii rune) rune {
	if l.ASCII {
		return ascii
	}
	return unicode
}
