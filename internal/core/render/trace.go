package render

import (
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/setting"
)

// Text is one of the texts that a member is run with: its command, its environment, a config file.
type Text struct {
	Name  string `json:"name"` // command, environment, or the path of a file below the member's folder
	Lines []Line `json:"lines"`
}

// Line is a line of it, or one argument of the command, with where what is in it comes from.
type Line struct {
	Text string   `json:"text"`
	From []string `json:"from,omitempty"` // e.g. "takes: the role, over 50ms by the kit's default"
}

// tracer notes where values come from while a template is executed. A value that is traced is wrapped in marks that say
// its number; they are taken off again.
type tracer struct {
	from []string
}

var traceMark = regexp.MustCompile("\x01(\\d+)\x02|\x03")

func (t *tracer) mark(from, value string) string {
	i := slices.Index(t.from, from)
	if i < 0 {
		i = len(t.from)
		t.from = append(t.from, from)
	}
	return "\x01" + strconv.Itoa(i) + "\x02" + value + "\x03"
}

// lines splits a marked text into lines with the origins of each.
func (t *tracer) lines(marked string) []Line {
	var out []Line
	var open []int
	for _, line := range strings.Split(marked, "\n") {
		from := slices.Clone(open)
		for _, m := range traceMark.FindAllStringSubmatch(line, -1) {
			if m[1] == "" {
				open = open[:max(0, len(open)-1)]
				continue
			}
			i, _ := strconv.Atoi(m[1])
			open = append(open, i)
			from = append(from, i)
		}
		l := Line{Text: traceMark.ReplaceAllString(line, "")}
		for _, i := range from {
			if !slices.Contains(l.From, t.from[i]) {
				l.From = append(l.From, t.from[i])
			}
		}
		out = append(out, l)
	}
	return out
}

// wordSetting says where a value comes from, and what it outranks.
func wordSetting(v setting.Value) string {
	text := fmt.Sprintf("%s: %s", v.Name, v.Level)
	if len(v.Over) > 0 {
		text += fmt.Sprintf(", over %s by %s", v.Over[0].Value, v.Over[0].Level)
	}
	return text
}

// Texts renders everything that a member is run with, each line with its origins. Secrets are named, not shown.
func (s *Scene) Texts(name field.MemberName) ([]Text, error) {
	spec, err := s.Spec(name)
	if err != nil {
		return nil, err
	}
	marked := s.view(name)
	marked.trace = &tracer{}
	m := &renderer{view: marked, at: []string{"program"}}
	role := s.Field.Role(marked.member.Role)
	named := func(text string) string { return Put(text, Named) }
	// one line, or several, of which the plain rendering decides what they say
	trace := func(template, plain string) []Line {
		var lines []Line
		if traced := m.text(template); strings.Contains(template, "{{") {
			lines = marked.trace.lines(traced)
		}
		want := strings.Split(plain, "\n")
		same := len(lines) == len(want)
		for i := range lines {
			same = same && lines[i].Text == want[i]
		}
		if !same { // the template decides on values, so that marked ones lead elsewhere: nothing is said of single lines
			lines = make([]Line, len(want))
			for i, w := range want {
				lines[i].Text = w
			}
		}
		for i := range lines {
			lines[i].Text = named(lines[i].Text)
		}
		return lines
	}
	marked.secrets, marked.files = true, true
	command := Text{Name: "command"}
	for i, part := range role.Program.Command {
		lines := trace(part, spec.Command[i])
		line := Line{Text: strings.Join(strings.Split(named(spec.Command[i]), "\n"), " ")}
		for _, l := range lines {
			line.From = append(line.From, l.From...)
		}
		command.Lines = append(command.Lines, line)
	}
	out := []Text{command}
	if len(spec.Env) > 0 {
		env := Text{Name: "environment"}
		for _, key := range sortedKeys(spec.Env) {
			for _, l := range trace(string(role.Program.Env[key]), spec.Env[key]) {
				l.Text = key + "=" + l.Text
				env.Lines = append(env.Lines, l)
			}
		}
		out = append(out, env)
	}
	for _, file := range spec.Files {
		out = append(out, Text{Name: file.Path, Lines: trace(role.Program.Files[file.Path].Template, file.Content)})
	}
	return append(out, rest(spec)), nil
}

// TextsOf gives what a spec says, without origins: what a process was started with, whatever the draft says by now.
func TextsOf(spec *order.Spec) []Text {
	named := func(text string) string { return Put(text, Named) }
	lines := func(text string) (out []Line) {
		for _, l := range strings.Split(named(text), "\n") {
			out = append(out, Line{Text: l})
		}
		return out
	}
	command := Text{Name: "command"}
	for _, part := range spec.Command {
		command.Lines = append(command.Lines, Line{Text: strings.Join(strings.Split(named(part), "\n"), " ")})
	}
	out := []Text{command}
	if len(spec.Env) > 0 {
		env := Text{Name: "environment"}
		for _, key := range sortedKeys(spec.Env) {
			for _, l := range lines(spec.Env[key]) {
				env.Lines = append(env.Lines, Line{Text: key + "=" + l.Text})
			}
		}
		out = append(out, env)
	}
	for _, file := range spec.Files {
		out = append(out, Text{Name: file.Path, Lines: lines(file.Content)})
	}
	return append(out, rest(spec))
}

// WithOrigins adds to texts the origins of the lines that other texts have too, at the same place.
func WithOrigins(texts, traced []Text) []Text {
	for i := range texts {
		j := slices.IndexFunc(traced, func(t Text) bool { return t.Name == texts[i].Name })
		if j < 0 || len(traced[j].Lines) != len(texts[i].Lines) {
			continue
		}
		for k := range texts[i].Lines {
			if texts[i].Lines[k].Text == traced[j].Lines[k].Text {
				texts[i].Lines[k].From = traced[j].Lines[k].From
			}
		}
	}
	return texts
}

func sortedKeys(m map[string]string) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}

// Difference is a line of one text beside the line of another: where the two are alike, both are the same.
type Difference struct {
	Mark byte // ' ' for a line of both, '-' of the first alone, '+' of the second alone
	Line
}

// Compare lays two texts side by side, by the longest lines that they have in common.
func Compare(a, b []Line) []Difference {
	common := make([][]int, len(a)+1)
	for i := range common {
		common[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if a[i].Text == b[j].Text {
				common[i][j] = common[i+1][j+1] + 1
			} else {
				common[i][j] = max(common[i+1][j], common[i][j+1])
			}
		}
	}
	var out []Difference
	i, j := 0, 0
	for i < len(a) || j < len(b) {
		switch {
		case i < len(a) && j < len(b) && a[i].Text == b[j].Text:
			out = append(out, Difference{' ', b[j]})
			i, j = i+1, j+1
		case j == len(b) || i < len(a) && common[i+1][j] >= common[i][j+1]:
			out = append(out, Difference{'-', a[i]})
			i++
		default:
			out = append(out, Difference{'+', b[j]})
			j++
		}
	}
	return out
}

// Compared is one text of two members, or of a member before and after.
type Compared struct {
	Name  string
	Lines []Difference
}

// Beside compares texts by their names; one that only one side has is wholly different.
func Beside(a, b []Text) []Compared {
	var out []Compared
	find := func(texts []Text, name string) []Line {
		for _, t := range texts {
			if t.Name == name {
				return t.Lines
			}
		}
		return nil
	}
	for _, t := range b {
		out = append(out, Compared{t.Name, Compare(find(a, t.Name), t.Lines)})
	}
	for _, t := range a {
		if !slices.ContainsFunc(b, func(x Text) bool { return x.Name == t.Name }) {
			out = append(out, Compared{t.Name, Compare(t.Lines, nil)})
		}
	}
	return out
}
