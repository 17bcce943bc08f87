// Package start is the guided start: a few questions, and beside them the board of the field that they make.
package start

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/fieldfile"
	"lanternfield/internal/pattern"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/input"
	"lanternfield/internal/tui/theme"
)

// usualSize is how large a node is at first.
const usualSize = "2 cores, 4GiB"

// option is one of the answers of a question.
type option struct{ value, name, text string }

// question is one of the few. It has options, or a line of text.
type question struct {
	id      string
	label   string
	help    string
	options []option
	at      int
	line    input.Line
	touched bool
	need    *pattern.Need // the setting that it asks for

	good        string // what the line was when all answers could be used last
	goodTouched bool
}

func (q *question) value() string {
	if len(q.options) > 0 {
		return q.options[q.at].value
	}
	return strings.TrimSpace(q.line.String())
}

// shown is the answer for people.
func (q *question) shown() string {
	if len(q.options) > 0 {
		return q.options[q.at].name
	}
	return q.value()
}

// starter is the model of the guided start.
type starter struct {
	dir      string
	there    map[string]bool // the names of its files, as they were at the start
	patterns []pattern.Pattern
	all      []*question
	at       int // of those that are asked
	look     theme.Theme
	light    bool
	limited  bool
	ascii    bool
	w, h     int

	outcome *pattern.Outcome
	found   []finding.Finding
	bad     string // why there is no outcome
	model   *board.Model
	written string
	failed  string // why it could not be written

	answers int // counts the changes of answers
	worked  int // which of them outcome, found, model and bad are about
	enters  int // how often somebody has pressed enter before that was known
}

// Run asks the questions and writes the field file into the folder. It gives the file's name, or none when
// the person has left.
func Run(ctx context.Context, dir string, ascii bool) (string, error) {
	s := newStarter(dir, ascii)
	_, err := tea.NewProgram(s, tea.WithContext(ctx)).Run()
	if errors.Is(err, tea.ErrInterrupted) || errors.Is(err, tea.ErrProgramKilled) && ctx.Err() != nil {
		err = nil
	}
	return s.written, err
}

func newStarter(dir string, ascii bool) *starter {
	s := &starter{dir: dir, there: map[string]bool{}, ascii: ascii, look: theme.Dark(), patterns: pattern.All()}
	files, _ := os.ReadDir(dir)
	for _, f := range files {
		s.there[f.Name()] = true
	}
	s.look.ASCII = ascii
	which := &question{id: "pattern", label: "What kind of system is it?", help: "A pattern to begin with; everything can be changed afterwards."}
	for i, p := range s.patterns {
		text := p.About
		if p.Err != nil {
			first, _, _ := strings.Cut(p.Err.Error(), "\n")
			text = "cannot be used: " + first
		}
		which.options = append(which.options, option{fmt.Sprint(i), p.Name, text})
	}
	s.all = []*question{which,
		{id: "name", label: "What is it called?", help: field.NameRule + ". The file will be NAME.field.yaml."},
		{id: "where", label: "Where will it stand?", help: "Where every node is this machine, each has an address of its own there, and it can be tried at once.", options: []option{
			{"many", "several nodes in zones", "all on this machine"},
			{"one", "one node", "on this machine, to try it out on a laptop"},
			{"hosts", "hosts reached by SSH", "they are looked at before anything is done there"}}},
		{id: "hosts", label: "Which hosts, by their addresses, in which zones?", help: "A zone is what fails together. Such as  north 10.1.0.{1..3}, south 10.2.0.1 10.2.0.2", line: input.New("")},
		{id: "login", label: "As whom does one log in there?", help: "A user; leave it empty where your SSH configuration says it, or it is yourself. Keys are those of your SSH configuration and agent."},
		{id: "sudo", label: "How does one become root there?", help: "Members that run as users of their own need it. It can be changed in the file, under `ground`.", options: []option{
			{"", "the login is enough", "it is root, or members run as that user"},
			{field.SudoAlways, "by sudo", "which asks for no password"}}},
		{id: "zones", label: "Which zones, with how many nodes?", help: "A zone is what fails together: a room, a site, a power line. Such as  north 3, south 3, light 2", line: input.New("north 3, south 3, light 2")},
		{id: "size", label: "How large is each node?", help: "Such as  2 cores, 4GiB  or  2 cores, 4GiB, 40GiB ; leave it empty where it is not known.", line: input.New(usualSize)},
		{id: "load", label: "What load will it bear?", help: "Kits set themselves by it; each setting can be changed."},
		{id: "survive", label: "What must it survive?", help: "This sets how many members the roles have and what they are spread over."},
	}
	s.all = append(s.all, &question{id: "counts", label: "How many members of each role?"})
	for _, v := range pattern.Survives {
		s.question("survive").options = append(s.question("survive").options, option{string(v), v.String(), ""})
	}
	s.question("survive").at = len(pattern.Survives) - 1
	s.choosePattern()
	return s
}

func (s *starter) question(id string) *question {
	return s.all[slices.IndexFunc(s.all, func(q *question) bool { return q.id == id })]
}

func (s *starter) pattern() pattern.Pattern { return s.patterns[s.all[0].at] }

// choosePattern asks what the chosen pattern asks.
func (s *starter) choosePattern() {
	p := s.pattern()
	name, load := s.question("name"), s.question("load")
	was := load.value()
	load.options, load.at = []option{{"", "what the kits assume", ""}}, 0
	s.all = slices.DeleteFunc(s.all, func(q *question) bool { return strings.HasPrefix(q.id, "var ") || q.need != nil })
	counts := s.question("counts")
	counts.line, counts.touched = input.New(""), false
	if p.Err != nil {
		return
	}
	if !name.touched {
		name.line = input.New(s.freeName(p.File.Field.Name))
	}
	loads := map[string]bool{}
	for _, r := range p.File.Field.Roles {
		for _, o := range r.Options {
			for l := range o.Loads {
				loads[l] = true
			}
		}
	}
	for _, l := range slices.SortedFunc(maps.Keys(loads), func(a, b string) int { return rank(a) - rank(b) }) {
		load.options = append(load.options, option{l, l, ""})
		if l == was {
			load.at = len(load.options) - 1
		}
	}
	for _, n := range p.Needs() {
		s.all = append(s.all, &question{id: "setting", need: &n, label: fmt.Sprintf("%s of %s?", n.Name, n.Role), help: n.About + ". Its kit requires it, and there is no default."})
	}
	for _, v := range p.File.Variables {
		s.all = append(s.all, &question{id: "var " + v.Name, label: v.Name, help: v.About, line: input.New(string(v.Value))})
	}
}

func rank(load string) int { return slices.Index([]string{"light", "steady", "heavy"}, load) }

// freeName finds a name whose file is not there yet.
func (s *starter) freeName(name string) string {
	for i := 1; ; i++ {
		try := name
		if i > 1 {
			try = fmt.Sprintf("%s-%d", name, i)
		}
		if !s.there[filepath.Base(s.fileOf(try))] {
			return try
		}
	}
}

func (s *starter) fileOf(name string) string { return filepath.Join(s.dir, name+".field.yaml") }

// asked lists the questions that the answers so far leave.
func (s *starter) asked() []*question {
	var out []*question
	for _, q := range s.all {
		switch {
		case s.question("where").value() == "one" && (q.id == "zones" || q.id == "survive"):
		case s.question("where").value() == "hosts" && q.id == "zones":
		case s.question("where").value() != "hosts" && (q.id == "hosts" || q.id == "login" || q.id == "sudo"):
		case q.id == "load" && len(q.options) < 2:
		default:
			out = append(out, q)
		}
	}
	return out
}

// Init asks what the terminal is like.
func (s *starter) Init() tea.Cmd { return tea.Batch(tea.RequestBackgroundColor, s.work()) }

// Update takes what comes.
func (s *starter) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		s.w, s.h = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		s.light = !msg.IsDark()
		s.applyTheme()
	case tea.ColorProfileMsg:
		s.limited = msg.Profile < colorprofile.TrueColor
		s.applyTheme()
	case tea.PasteMsg:
		if q := s.now(); q != nil && len(q.options) == 0 {
			q.line.Insert(msg.Content)
			q.touched = true
			return s, s.work()
		}
	case made:
		return s, s.take(msg)
	case wroteMsg:
		return s, s.wrote(msg)
	case tea.KeyPressMsg:
		return s, s.press(msg)
	}
	return s, nil
}

func (s *starter) applyTheme() {
	s.look = theme.Dark()
	if s.light {
		s.look = theme.Light()
	}
	if s.limited {
		s.look = s.look.Limited()
	}
	s.look.ASCII = s.ascii
}

// now is the question that is being answered; nil at the end, where the file is about to be written.
func (s *starter) now() *question {
	if asked := s.asked(); s.at < len(asked) {
		return asked[s.at]
	}
	return nil
}

func (s *starter) press(msg tea.KeyPressMsg) tea.Cmd {
	q := s.now()
	switch msg.String() {
	case "ctrl+c":
		return tea.Quit
	case "esc":
		if s.at == 0 {
			return tea.Quit
		}
		return s.back()
	case "enter", "tab":
		return s.onward()
	case "shift+tab":
		return s.back()
	case "up", "down":
		by := map[string]int{"up": -1, "down": 1}[msg.String()]
		switch {
		case q != nil && len(q.options) > 0:
			q.at = min(max(q.at+by, 0), len(q.options)-1)
			switch q.id {
			case "pattern":
				s.choosePattern()
			case "where": // of hosts nobody has to say what they can tell themselves
				if size := s.question("size"); !size.touched {
					size.line = input.New(map[bool]string{true: "", false: usualSize}[q.value() == "hosts"])
				}
			}
			return s.work()
		case by < 0:
			s.at = max(0, s.at-1)
		case q != nil:
			return s.onward()
		}
	default:
		if q != nil && len(q.options) == 0 && q.line.Press(msg) {
			q.touched = true
			return s.work()
		}
	}
	return nil
}

// wroteMsg says what came of writing the file.
type wroteMsg struct {
	name string
	err  error
}

// write writes the file, never over one that is there.
func (s *starter) write() tea.Cmd {
	if s.bad != "" || s.outcome == nil {
		return nil
	}
	name, data := s.fileOf(s.question("name").value()), s.outcome.Data
	return func() tea.Msg { return wroteMsg{name, fieldfile.Create(name, data)} }
}

func (s *starter) wrote(msg wroteMsg) tea.Cmd {
	if msg.err != nil {
		s.failed = msg.err.Error()
		return nil
	}
	s.written = msg.name
	return tea.Quit
}
