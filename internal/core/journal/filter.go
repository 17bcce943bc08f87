// Package journal is what happened in a field, and what its members wrote: which of it is wanted, how much of it there is over time, and what an event
// follows from.
package journal

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/logline"
)

// Of is what a filter looks at: an event, or something that a member wrote.
type Of struct {
	Event  bool
	Level  logline.Level
	Member field.MemberName
	Role   field.RoleName
	Node   field.NodeName
	Zone   field.ZoneName
	Text   string
	Lower  string   // the same in small letters, with what goes on with it; made where it is empty
	More   []string // lines that go on with it
}

// Filter says what is wanted. Each word must fit: the name of a role, node, zone or member, or a level, fits what is of that; every other word must stand
// in the text. Several names of one kind fit what is of any of them.
type Filter struct {
	Words []Word `json:"words,omitempty"`
	Wrong string `json:"wrong,omitempty"` // why a word cannot be understood
}

// Word is one word of a filter, as it was understood.
type Word struct {
	Kind string `json:"kind"` // member, role, node, zone, level, events, lines, text or pattern
	Text string `json:"text"`
	Not  bool   `json:"not,omitempty"` // what fits is not wanted

	pattern *regexp.Regexp
}

// Names is what words are understood by.
type Names struct {
	Roles   map[field.RoleName]bool
	Nodes   map[field.NodeName]bool
	Zones   map[field.ZoneName]bool
	Members map[field.MemberName]bool
}

// Parse understands the words of a filter. Text in double quotes is one word and stands for itself, text between slashes is a regular expression; a minus
// before a word takes out what fits it.
func Parse(text string, names Names) Filter {
	var f Filter
	for rest := strings.TrimSpace(text); rest != ""; rest = strings.TrimSpace(rest) {
		var w Word
		if after, not := strings.CutPrefix(rest, "-"); not && after != "" && after[0] != ' ' {
			w.Not, rest = true, after
		}
		switch rest[0] {
		case '"':
			w.Kind = "text"
			w.Text, rest, _ = strings.Cut(rest[1:], `"`)
			w.Text = strings.ToLower(w.Text)
		case '/':
			w.Kind = "pattern"
			w.Text, rest = untilSlash(rest[1:])
			var err error
			if w.pattern, err = regexp.Compile("(?i)" + w.Text); err != nil {
				f.Wrong = fmt.Sprintf("/%s/ is no regular expression: %v", w.Text, err)
				continue
			}
		default:
			w.Text, rest, _ = strings.Cut(rest, " ")
			w.understand(names)
		}
		if w.Text != "" {
			f.Words = append(f.Words, w)
		}
	}
	return f
}

// untilSlash cuts a text at the first slash that no backslash stands before.
func untilSlash(text string) (before, after string) {
	for i := range len(text) {
		if text[i] == '/' && (i == 0 || text[i-1] != '\\') {
			return text[:i], text[i+1:]
		}
	}
	return text, ""
}

func (w *Word) understand(names Names) {
	switch text := w.Text; {
	case names.Members[field.MemberName(text)]:
		w.Kind = "member"
	case names.Roles[field.RoleName(text)]:
		w.Kind = "role"
	case names.Nodes[field.NodeName(text)]:
		w.Kind = "node"
	case names.Zones[field.ZoneName(text)]:
		w.Kind = "zone"
	case text == "event", text == "events":
		w.Kind, w.Text = "events", "only"
	case text == "line", text == "lines":
		w.Kind, w.Text = "lines", "only"
	case text == "warning", text == "warnings":
		w.Kind, w.Text = "level", "warning"
	case text == "error", text == "errors":
		w.Kind, w.Text = "level", "error"
	default:
		w.Kind, w.Text = "text", strings.ToLower(text)
	}
}

// Ready makes a filter that has come from elsewhere fit for use.
func (f Filter) Ready() (Filter, error) {
	f.Words = slices.Clone(f.Words)
	for i := range f.Words {
		if w := &f.Words[i]; w.Kind == "pattern" && w.pattern == nil {
			var err error
			if w.pattern, err = regexp.Compile("(?i)" + w.Text); err != nil {
				return f, fmt.Errorf("/%s/ is no regular expression: %w", w.Text, err)
			}
		}
	}
	return f, nil
}

// String says how the filter was understood.
func (f Filter) String() string {
	parts := make([]string, len(f.Words))
	for i, w := range f.Words {
		switch {
		case w.Kind == "text":
			parts[i] = `with "` + w.Text + `"`
		case w.Kind == "pattern":
			parts[i] = "like /" + w.Text + "/"
		case w.Kind == "level" && w.Text == "warning":
			parts[i] = "warnings and errors"
		case w.Kind == "level":
			parts[i] = "errors"
		case w.Kind == "events":
			parts[i] = "only events"
		case w.Kind == "lines":
			parts[i] = "only lines of members"
		default:
			parts[i] = w.Kind + " " + w.Text
		}
		if w.Not {
			parts[i] = "not " + strings.TrimPrefix(parts[i], "only ")
		}
	}
	if f.Wrong != "" {
		parts = append(parts, f.Wrong)
	}
	return strings.Join(parts, ", ")
}

// Fits tells whether something is wanted.
func (f Filter) Fits(x *Of) bool {
	fits := map[string]bool{} // by kind: whether a name of it fits; names of one kind are alternatives
	for _, w := range f.Words {
		switch ok := w.fits(x); {
		case w.Not:
			if ok {
				return false
			}
		case w.Kind == "member" || w.Kind == "role" || w.Kind == "node" || w.Kind == "zone":
			fits[w.Kind] = fits[w.Kind] || ok
		case !ok:
			return false
		}
	}
	for _, ok := range fits {
		if !ok {
			return false
		}
	}
	return true
}

func (w Word) fits(x *Of) bool {
	switch w.Kind {
	case "member":
		return string(x.Member) == w.Text
	case "role":
		return string(x.Role) == w.Text
	case "node":
		return string(x.Node) == w.Text
	case "zone":
		return string(x.Zone) == w.Text
	case "events":
		return x.Event
	case "lines":
		return !x.Event
	case "level":
		return x.Level == logline.Error || x.Level == logline.Warning && w.Text == "warning"
	case "pattern":
		return w.pattern != nil && (w.pattern.MatchString(x.Text) || slices.ContainsFunc(x.More, w.pattern.MatchString))
	}
	return strings.Contains(x.Whole(), w.Text) || strings.Contains(string(x.Member), w.Text)
}

// Whole is all of its text in small letters.
func (x *Of) Whole() string {
	x.Lower = cmp.Or(x.Lower, strings.ToLower(strings.Join(append([]string{x.Text}, x.More...), "\n")))
	return x.Lower
}

// OfLines is what a filter asks of lines of one member: without the words that say whose lines they are.
func (f Filter) OfLines() Filter {
	var out Filter
	for _, w := range f.Words {
		if w.Kind == "text" || w.Kind == "pattern" || w.Kind == "level" {
			out.Words = append(out.Words, w)
		}
	}
	return out
}

// Whose tells whether lines of a member can be wanted, by what it is of.
func (f Filter) Whose(x Of) bool {
	var names Filter
	for _, w := range f.Words {
		if w.Kind != "text" && w.Kind != "pattern" && w.Kind != "level" {
			names.Words = append(names.Words, w)
		}
	}
	return names.Fits(&x)
}
