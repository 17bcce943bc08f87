package render

import (
	"fmt"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
)

func TestEveryLineSaysWhereItComesFrom(t *testing.T) {
	f := &field.Field{Load: "heavy", Nodes: []field.Node{{Name: "a", Size: field.Size{CPU: 2, Memory: 8 << 30}}}, Roles: []field.Role{
		{Name: "store", Members: 1, Program: &field.Program{Ports: map[string]field.Port{"main": {Port: 70, Scheme: "http"}}}},
		{Name: "crews", Kit: "crew", Members: 1, Calls: map[string]field.RoleName{"s": "store"}, Settings: map[string]field.Text{"pace": "2s"},
			Options: []field.Option{{Name: "pace", Default: "1s"}, {Name: "heap", Default: "1MiB", Type: field.TypeSize, From: "memory / 4"}, {Name: "mode", Default: "slow", Loads: map[string]field.Text{"heavy": "fast"}}},
			Program: &field.Program{Command: []string{"crew", "--pace={{.Setting \"pace\"}}", "--port={{.Port \"main\"}}"}, Ports: map[string]field.Port{"main": {From: 10, To: 19}},
				Env: map[string]field.Text{"HEAP": `{{.Setting "heap"}}`, "KEY": `{{.Secret "key"}}`},
				Files: map[string]field.File{
					"crew.conf":  {Template: "plain\nmode = {{.Setting \"mode\"}}, pace = {{.Setting \"pace\"}}\n{{range .Calls \"s\"}}store = {{.URL \"main\"}}{{end}}"},
					"other.conf": {Template: "{{if eq (.Setting \"mode\") \"fast\"}}fast{{else}}slow{{end}}"}}}},
	}}
	s := &Scene{Field: f, Members: map[field.MemberName]Member{
		"store-1": {Name: "store-1", Role: "store", Node: "a", Address: "10.0.0.1", Ports: map[string]int{"main": 70}},
		"crews-1": {Name: "crews-1", Role: "crews", Node: "a", Address: "10.0.0.1", Ports: map[string]int{"main": 10}}},
		Joined: map[field.RoleName][]field.MemberName{"store": {"store-1"}, "crews": {"crews-1"}}}
	texts, err := s.Texts("crews-1")
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, text := range texts {
		for _, l := range text.Lines {
			got = append(got, fmt.Sprintf("%s | %s | %s", text.Name, l.Text, strings.Join(l.From, "; ")))
		}
	}
	want := []string{
		"command | crew | ",
		"command | --pace=2s | pace: the role, over 1s by the kit's default",
		"command | --port=10 | port main of crews-1, the first free of 10 to 19",
		"environment | HEAP=2GiB | heap: the node's hardware, over 1MiB by the kit's default",
		"environment | KEY=(secret key) | ",
		"crew.conf | plain | ",
		"crew.conf | mode = fast, pace = 2s | mode: the load profile, over slow by the kit's default; pace: the role, over 1s by the kit's default",
		"crew.conf | store = http://10.0.0.1:70 | s: the members of store",
		"other.conf | fast | ", // it decides on a value, so that nothing is said of its lines
		"how it is run | address: 10.0.0.1 | ",
		"how it is run | ports.main.number: 10 | ",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

func TestTextsAreComparedLineByLine(t *testing.T) {
	lines := func(text string) []Line {
		var out []Line
		for _, l := range strings.Fields(text) {
			out = append(out, Line{Text: l})
		}
		return out
	}
	for _, test := range []struct{ a, b, want string }{
		{"a b c", "a b c", " a b c"},
		{"a b c", "a x c", " a-b+x c"},
		{"", "a", "+a"},
		{"a", "", "-a"},
		{"a b c d", "b d e", "-a b-c d+e"},
	} {
		got := ""
		for _, d := range Compare(lines(test.a), lines(test.b)) {
			got += string(d.Mark) + d.Text
		}
		if got != test.want {
			t.Errorf("%s against %s: got %q, want %q", test.a, test.b, got, test.want)
		}
	}
	a, b := []Text{{"x", lines("1")}, {"gone", lines("2")}}, []Text{{"x", lines("1")}, {"new", lines("3")}}
	got := ""
	for _, c := range Beside(a, b) {
		got += c.Name
		for _, l := range c.Lines {
			got += string(l.Mark) + l.Text
		}
	}
	if got != "x 1new+3gone-2" {
		t.Errorf("got %q", got)
	}
}

func TestATemplateThatWouldNeverEndIsRefused(t *testing.T) {
	doubling := `{{define "t0"}}x{{end}}`
	for i := 1; i <= 40; i++ {
		doubling += fmt.Sprintf(`{{define "t%d"}}{{template "t%d"}}{{template "t%d"}}{{end}}`, i, i-1, i-1)
	}
	for text, want := range map[string]string{
		doubling + `{{template "t40"}}`:                          "it takes too many steps",
		`{{define "a"}}x{{template "a"}}{{end}}{{template "a"}}`: "templates call each other without end: a calls a",
		`{{define "a"}}{{if true}}{{template "b"}}{{end}}{{end}}{{define "b"}}{{range .}}{{template "a"}}{{end}}{{end}}`: "a calls b calls a",
		`{{define "a"}}{{with 1}}{{else}}{{template "a"}}{{end}}{{end}}`:                                                 "a calls a",
		`{{define "a"}}fine{{end}}{{template "a"}}{{template "a"}}`:                                                      "",
		`{{range 9000000}}x{{end}}`:                   "it takes too many steps",
		`{{range 90000}}{{printf "%1000d" .}}{{end}}`: "it grows beyond 8 MiB",
	} {
		got, err := execute(text, &View{})
		if want == "" && (err != nil || got != "finefine") || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%s: got %.20q, %v; want %q", text, got, err, want)
		}
	}
}
