package access

import (
	"cmp"
	"fmt"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/theme"
)

// proofs lists the proofs, and of the one that it stands on the steps.
func (v *View) proofs(k theme.Theme, s *snapshot.Snapshot, now time.Time, width int) []line {
	lines := []line{plain(piece{0, "proofs", k.Quiet()})}
	if planned := v.toProve(k); len(s.Proofs) == 0 && len(planned) > 0 {
		return append(append(lines, plain(piece{0, "They are done as soon as the field is deployed.", k.Text()})), planned...)
	}
	if len(s.Proofs) == 0 {
		return append(lines, plain(piece{0, "There are none: neither the kits nor the field file define any. Add them under proofs: in the field file.", k.Text()}))
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
		at := v.beforeProofs() + i
		l := line{thing: at, pieces: []piece{{0, string(lamp.Shape), k.In(lamp.Color)}, {2, string(p.Role), k.Text()}, {18, p.Name, k.Text().Strong()}, {42, word, k.In(lamp.Color)}}}
		if !p.At.IsZero() {
			l.pieces = append(l.pieces, piece{57, fmt.Sprintf("%s ago, in %s, asked for by %s", field.Span(now.Sub(p.At)), field.Brief(time.Duration(p.TookMS*float64(time.Millisecond))), p.By), k.Quiet()})
		}
		lines = append(lines, l)
		if at == v.At {
			lines = append(lines, steps(k, p, width)...)
		}
	}
	return lines
}

// steps says what a proof shows, and what came of its steps.
func steps(k theme.Theme, p snapshot.ProofView, width int) []line {
	var lines []line
	add := func(pieces ...piece) { lines = append(lines, plain(pieces...)) }
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
