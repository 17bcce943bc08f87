package rollout

import (
	"fmt"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/pace"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wording"
)

// Title names it: "deploy 3", "restart".
func (r *Record) Title() string {
	if r.Number > 0 {
		return fmt.Sprintf("%s %d", r.What, r.Number)
	}
	return r.What
}

// Standing says how it goes, or went: "1 min 42 s so far, about 2 min more (1 to 3 min)"; "took 1 min 42 s, 12 s faster than last time".
func (r *Record) Standing() string {
	took := r.End().Sub(r.Began)
	if r.Active() {
		text := field.Brief(took) + " so far"
		if words := r.Expected.Words(); words != "" {
			text += ", " + words
		}
		return text
	}
	switch r.Outcome {
	case state.Failing:
		return fmt.Sprintf("stopped half-way after %s: %s", field.Span(took), r.Failed)
	case state.Replaced:
		return fmt.Sprintf("replaced by the next after %s", field.Span(took))
	}
	return "took " + field.Brief(took) + r.Faster()
}

// Faster compares it with the time before: ", 12 s faster than last time". Empty where there was none, or where they hardly differ.
func (r *Record) Faster() string {
	if r.Before == nil || r.Outcome != state.Completed {
		return ""
	}
	return pace.Compared(r.Ended.Sub(r.Began), r.Before.Took)
}

// Counts says how many are done: "14 of 60 done".
func (r *Record) Counts() string {
	done, all := 0, 0
	for i := range r.Rows {
		if r.Rows[i].Action != Flaps {
			all++
			if !r.Rows[i].Done.IsZero() {
				done++
			}
		}
	}
	return fmt.Sprintf("%d of %d done", done, all)
}

// phaseWords are the phases as they stand in the story of a member.
var phaseWords = map[state.Phase]string{state.Planned: "waited"}

// Story tells what a member came through: "waited 1.2 s, placing 0.1 s, starting 0.4 s, ready".
func (row *Row) Story(now time.Time) string {
	var parts []string
	for i, s := range row.Segments {
		word := string(s.Phase)
		if w := phaseWords[s.Phase]; w != "" {
			word = w
		}
		if s.Due {
			word += ", waiting for its turn"
		}
		last := i == len(row.Segments)-1
		if last && !row.Done.IsZero() {
			parts = append(parts, word)
			continue
		}
		if s.Phase == state.Planned && last {
			word = "waits"
		}
		parts = append(parts, fmt.Sprintf("%s %s", word, field.Brief(s.Until(now).Sub(s.From))))
	}
	return strings.Join(parts, ", ")
}

// Words says what was waited for.
func (c *Cause) Words() string {
	switch {
	case c == nil:
		return ""
	case c.Kind == ANode:
		return fmt.Sprintf("%s was there", c.Node)
	case c.Kind == AGate && c.Member != "":
		return fmt.Sprintf("%s opened the gate on %s", c.Member, c.Role)
	case c.Kind == AGate:
		return fmt.Sprintf("the gate on %s opened", c.Role)
	}
	return fmt.Sprintf("%s was done", c.Member)
}

// Decided says what decides, or decided, how long it takes: "store-2 → news-1 (the gate on store)".
func (r *Record) Decided() string {
	var parts []string
	for _, l := range r.Chain {
		parts = append(parts, string(l.Member))
	}
	if len(parts) > 5 {
		parts = append(append([]string{}, parts[:2]...), append([]string{fmt.Sprintf("%d more", len(parts)-4)}, parts[len(parts)-2:]...)...)
	}
	return strings.Join(parts, " → ")
}

// Words says how a gate stood in the way: "news waits for store: quorum (1 of 2 ready)".
func (g *Gate) Words(began time.Time) string {
	if !g.Open() {
		return fmt.Sprintf("%s waits for %s", g.Role, g.Gate)
	}
	text := fmt.Sprintf("%s waited %s for %s: %s", g.Role, field.Brief(g.Opened.Sub(g.Since)), g.Gate.On, g.Gate.Gate)
	if g.By != "" {
		text += fmt.Sprintf(", which %s opened", g.By)
	}
	return text
}

// Text tells all of it, line by line.
func (r *Record) Text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s", r.Title())
	if r.By != "" {
		fmt.Fprintf(&b, ", asked for by %s", r.By)
	}
	fmt.Fprintf(&b, ": %s, %s\n", r.Counts(), r.Standing())
	wide := 0
	for i := range r.Rows {
		wide = max(wide, len(r.Rows[i].Member))
	}
	for i := range r.Rows {
		row := &r.Rows[i]
		fmt.Fprintf(&b, "  %-*s  %-8s  %s", wide, row.Member, row.Action, row.Story(r.At))
		if !row.Done.IsZero() {
			fmt.Fprintf(&b, " after %s", field.Brief(row.Done.Sub(r.Began)))
		}
		if now := row.Now(); now.Why != "" && row.Done.IsZero() {
			fmt.Fprintf(&b, ": %s", now.Why)
		}
		b.WriteString("\n")
	}
	for i := range r.Gates {
		fmt.Fprintf(&b, "  %s\n", r.Gates[i].Words(r.Began))
	}
	if r.Still > 0 {
		fmt.Fprintf(&b, "  %s left alone\n", wording.Counted(r.Still, "member"))
	}
	if len(r.Chain) > 1 {
		word := "decided by"
		if r.Active() {
			word = "decides"
		}
		fmt.Fprintf(&b, "  %s: %s\n", word, r.Decided())
	}
	return b.String()
}
