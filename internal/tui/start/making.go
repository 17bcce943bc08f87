package start

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/pattern"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/input"
)

// made is what came of the answers.
type made struct {
	of      int // which answers they were
	outcome *pattern.Outcome
	offers  []pattern.Offer // counts that would survive more
	found   []finding.Finding
	model   *board.Model
	err     error
}

// work has the field made out of the answers, for the board and at last for the file, beside the screen.
func (s *starter) work() tea.Cmd {
	s.failed = ""
	s.answers++
	of, make := s.answers, s.maker()
	return func() tea.Msg {
		m := made{of: of}
		if m.outcome, m.offers, m.err = make(); m.err == nil {
			f := m.outcome.Field
			m.found = slices.DeleteFunc(finding.All(f), func(x finding.Finding) bool { return x.Accepted != "" })
			m.model = board.Build(snapshot.OfDraft(f, time.Now()), f, plan.Preview(f, plan.Live{}))
		}
		return m
	}
}

// take takes in what came of the newest answers, and goes on where somebody has pressed enter meanwhile.
func (s *starter) take(m made) tea.Cmd {
	if m.of != s.answers {
		return nil
	}
	s.worked, s.bad = m.of, ""
	if m.err != nil {
		s.bad, _, _ = strings.Cut(m.err.Error(), "\n")
		s.enters = 0
		return nil // the board keeps showing the last one that could be made
	}
	s.outcome, s.found, s.model = m.outcome, m.found, m.model
	s.question("counts").suggest(m)
	for _, q := range s.all {
		q.good, q.goodTouched = q.value(), q.touched
	}
	var cmd tea.Cmd
	for ; s.enters > 0; s.enters-- {
		cmd = tea.Batch(cmd, s.onward())
	}
	return cmd
}

// onward goes to the next question, or writes the file after the last. It waits until it is known that the answers can be used.
func (s *starter) onward() tea.Cmd {
	switch {
	case s.worked != s.answers:
		s.enters++
	case s.now() == nil:
		return s.write()
	case s.bad == "", s.now().id == "where" && s.question("hosts").value() == "": // which are asked for next
		q := s.now()
		s.at++
		if q.id == "counts" && q.touched && q.value() == "" { // they are left to follow from the rest
			q.touched = false
			return s.work()
		}
	}
	return nil
}

// back goes to the question before. An answer that cannot be used is not left behind: it is again what it was when it could.
func (s *starter) back() tea.Cmd {
	q := s.now()
	s.at = max(0, s.at-1)
	if q == nil || s.bad == "" || len(q.options) > 0 || q.value() == q.good {
		return nil
	}
	q.line, q.touched = input.New(q.good), q.goodTouched
	return s.work()
}

// maker gives what makes the field out of the answers as they are now.
func (s *starter) maker() func() (*pattern.Outcome, []pattern.Offer, error) {
	p, one := s.pattern(), s.question("where").value() == "one"
	zones, size := s.question("zones").value(), s.question("size").value()
	onHosts, hosts := s.question("where").value() == "hosts", s.question("hosts").value()
	a := pattern.Answers{Name: s.question("name").value(), Load: s.question("load").value(), Survive: pattern.Survive(s.question("survive").value()), Variables: map[string]string{}}
	if onHosts {
		a.Ground = field.Ground{Kind: field.GroundSSH, User: s.question("login").value(), Sudo: s.question("sudo").value()}
	}
	file := s.fileOf(a.Name)
	for _, q := range s.all {
		if name, ok := strings.CutPrefix(q.id, "var "); ok {
			a.Variables[name] = q.value()
		}
		if n := q.need; n != nil {
			if a.Settings == nil {
				a.Settings = map[field.RoleName]map[string]string{}
			}
			if a.Settings[n.Role] == nil {
				a.Settings[n.Role] = map[string]string{}
			}
			a.Settings[n.Role][n.Name] = q.value()
		}
	}
	counts := s.question("counts")
	said, touched := counts.value(), counts.touched
	return func() (*pattern.Outcome, []pattern.Offer, error) {
		if p.Err != nil {
			return nil, nil, p.Err
		}
		if _, err := os.Stat(file); err == nil {
			return nil, nil, fmt.Errorf("there is a %s.field.yaml here already; take another name", a.Name)
		}
		var err error
		if one {
			a.Zones, a.Survive = []pattern.Zone{{Nodes: 1}}, pattern.Nothing
		} else if onHosts {
			a.Zones, err = pattern.ParseHosts(hosts)
		} else {
			a.Zones, err = pattern.ParseZones(zones)
		}
		if err != nil {
			return nil, nil, err
		}
		if a.Size, err = pattern.ParseSize(size); err != nil {
			return nil, nil, err
		}
		if touched {
			if a.Counts, err = pattern.ParseCounts(said, p.File.Field); err != nil {
				return nil, nil, err
			}
		}
		o, err := p.Make(a)
		if err != nil || one {
			return o, nil, err
		}
		return o, p.Offers(a, o), nil
	}
}

// suggest puts the counts that follow from the other answers into the question for them, until somebody has written others; and says which
// would survive more.
func (q *question) suggest(m made) {
	if !q.touched {
		q.line = input.New(pattern.CountsOf(m.outcome.Field).Words(m.outcome.Field))
	}
	q.help = "They follow from what is to be survived, until you write others."
	for _, o := range m.offers {
		q.help += fmt.Sprintf(" To survive %s: %s.", o.Survives, o.Counts)
	}
}
