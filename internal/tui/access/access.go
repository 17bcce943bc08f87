// Package access is the view of how clients get in, and of whether the roles were proved to do their work.
package access

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/theme"
)

// View stands on one of the proofs.
type View struct{ At int }

// Move goes to another proof.
func (v *View) Move(s *snapshot.Snapshot, by int) { v.At = max(0, min(v.At+by, len(s.Proofs)-1)) }

// Under is the proof that it stands on; nil where there is none.
func (v *View) Under(s *snapshot.Snapshot) *snapshot.ProofView {
	if v.At >= len(s.Proofs) {
		return nil
	}
	return &s.Proofs[v.At]
}

// line is a line to be drawn: pieces, each with its style.
type line struct {
	pieces []piece
	proof  int // that it begins; -1 for none
}

type piece struct {
	at    int // column; -1: right after the one before
	text  string
	style grid.Style
}

// Draw draws the view into an area.
func (v *View) Draw(g *grid.Grid, k theme.Theme, s *snapshot.Snapshot, now time.Time, a board.Area) {
	a.X, a.Y, a.W, a.H = a.X+1, a.Y+1, a.W-2, a.H-1
	lines := append(waysIn(k, s), v.proofs(k, s, now, a.W)...)
	first := 0
	for y, l := range lines { // what it stands on is to be seen, with what follows it
		if l.proof == v.At && y > a.H*2/3 {
			first = min(y-a.H/3, max(0, len(lines)-a.H))
		}
	}
	for y, l := range lines[first:] {
		if y >= a.H {
			break
		}
		x := a.X
		if l.proof == v.At && len(s.Proofs) > 0 {
			g.Fill(a.X, a.Y+y, a.W, 1, ' ', grid.Style{Fg: k.Paper, Bg: k.Raise})
		}
		for _, p := range l.pieces {
			if p.at >= 0 {
				x = a.X + p.at
			}
			x = g.Clip(x, a.Y+y, a.X+a.W-x, p.text, p.style)
		}
	}
}

// waysIn lists the addresses of what clients and people call, entries first.
func waysIn(k theme.Theme, s *snapshot.Snapshot) []line {
	roles := slices.Clone(s.Roles)
	slices.SortStableFunc(roles, func(a, b snapshot.RoleView) int {
		return cmp.Compare(map[bool]int{true: 0, false: 1}[a.Kind == field.Entry], map[bool]int{true: 0, false: 1}[b.Kind == field.Entry])
	})
	lines := []line{{proof: -1, pieces: []piece{{0, "ways in", k.Quiet()}}}}
	for _, r := range roles {
		at := map[string][]string{}
		for _, m := range s.Members {
			if m.Role == r.Role && m.Phase == state.Ready && !m.Leaving {
				for name, port := range m.Ports {
					at[name] = append(at[name], fmt.Sprintf("%s:%d", m.Address, port))
				}
			}
		}
		for i, name := range slices.Sorted(maps.Keys(at)) {
			head := ""
			if i == 0 {
				head = string(r.Role)
			}
			style := k.Text()
			if r.Kind == field.Entry {
				style = k.In(k.Gold)
			}
			lines = append(lines, line{proof: -1, pieces: []piece{{0, head, style}, {18, name, k.Quiet()}, {28, strings.Join(at[name], "  "), k.Text()}}})
		}
		for i, a := range r.Outside {
			lines = append(lines, line{proof: -1, pieces: []piece{{0, []string{string(r.Role), ""}[min(i, 1)], k.Text()}, {18, "outside", k.Quiet()}, {28, a, k.Text()}}})
		}
	}
	if len(lines) == 1 {
		lines = append(lines, line{proof: -1, pieces: []piece{{0, "Nobody is ready yet, so there is no way in. Addresses stand here as soon as members are lit.", k.Text()}}})
	}
	return append(lines, line{proof: -1})
}

// proofs lists the proofs, and of the one that it stands on the steps.
func (v *View) proofs(k theme.Theme, s *snapshot.Snapshot, now time.Time, width int) []line {
	lines := []line{{proof: -1, pieces: []piece{{0, "proofs", k.Quiet()}}}}
	if len(s.Proofs) == 0 {
		return append(lines, line{proof: -1, pieces: []piece{{0, "There are none: neither the kits nor the field file define any. Add them under proofs: in the field file.", k.Text()}}})
	}
	for i, p := range s.Proofs {
		lamp, word := k.LampOf(state.Planned, false), "never done"
		switch {
		case p.Running:
			lamp, word = k.LampOf(state.Starting, false), "under way"
		case p.Failed():
			lamp, word = k.LampOf(state.Failed, false), "does not hold"
		case p.OK:
			lamp, word = k.LampOf(state.Ready, false), "holds"
		}
		l := line{proof: i, pieces: []piece{{0, string(lamp.Shape), k.In(lamp.Color)}, {2, string(p.Role), k.Text()}, {18, p.Name, k.Text().Strong()}, {42, word, k.In(lamp.Color)}}}
		if !p.At.IsZero() {
			l.pieces = append(l.pieces, piece{57, fmt.Sprintf("%s ago, in %s, asked for by %s", field.Span(now.Sub(p.At)), field.Brief(time.Duration(p.TookMS*float64(time.Millisecond))), p.By), k.Quiet()})
		}
		lines = append(lines, l)
		if i == v.At {
			lines = append(lines, steps(k, p, width)...)
		}
	}
	return lines
}

// steps says what a proof shows, and what came of its steps.
func steps(k theme.Theme, p snapshot.ProofView, width int) []line {
	var lines []line
	add := func(pieces ...piece) { lines = append(lines, line{proof: -1, pieces: pieces}) }
	if p.About != "" {
		add(piece{4, p.About, k.Quiet()})
	}
	last := ""
	for _, s := range p.Steps {
		lamp := k.LampOf(state.Ready, false)
		switch {
		case s.Borne:
			lamp = k.LampOf(state.Planned, false)
		case !s.OK:
			lamp = k.LampOf(state.Failed, false)
			last = s.Why
		}
		more := field.Brief(s.Took)
		if s.From != "" {
			more += ", from the node of " + string(s.From)
		}
		if s.Tries > 1 {
			more += fmt.Sprintf(", at try %d", s.Tries)
		}
		add(piece{4, string(lamp.Shape), k.In(lamp.Color)}, piece{6, cmp.Or(string(s.Member), "nobody"), k.Text()}, piece{24, s.Say, k.Text()}, piece{-1, "  " + more, k.Quiet()})
		if !s.OK {
			style := k.In(k.Fail)
			if s.Borne {
				style = k.Quiet()
			}
			for _, part := range grid.Wrap(s.Why, max(20, width-24)) {
				add(piece{24, part, style})
			}
		}
	}
	if p.Failed() && last == "" {
		for _, part := range grid.Wrap(p.Why, max(20, width-6)) {
			add(piece{6, part, k.In(k.Fail)})
		}
	}
	add()
	return lines
}
