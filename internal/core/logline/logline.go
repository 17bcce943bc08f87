// Package logline takes a line that a program wrote apart: when, how bad, and what it says, fit for a screen.
package logline

import (
	"cmp"
	"encoding/json"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"

	"lanternfield/internal/core/plain"

	"github.com/charmbracelet/x/ansi"
)

// Line is one line of a program's output.
type Line struct {
	At    time.Time `json:"at,omitzero"`
	About bool      `json:"about,omitempty"` // the line has no time of its own; At is when it was there at the latest
	Level Level     `json:"level,omitempty"`
	Text  string    `json:"text"`
}

// Level is how bad a line is, as far as the program says.
type Level string

// The levels.
const (
	Info    Level = "info"
	Warning Level = "warning"
	Error   Level = "error"
)

// mostText bounds what is kept of a line, in bytes.
const mostText = 2000

// Parse takes a line apart. Times without a zone are taken to be in that place.
func Parse(raw string, place *time.Location) Line {
	cut := len(raw) > 4*mostText
	if cut {
		raw = raw[:4*mostText]
	}
	if l, ok := fromJSON(raw, place); ok && !cut {
		l.Text = Clean(l.Text)
		return l
	}
	text := Clean(raw)
	if len(text) > mostText {
		text, cut = strings.ToValidUTF8(text[:mostText], ""), true
	}
	if cut {
		text += "…"
	}
	l := Line{Text: text}
	if l.fromPairs(place) {
		return l
	}
	l.leadingTime(place)
	l.Level = levelIn(l.Text)
	return l
}

// Clean takes out what acts on a terminal: escape sequences whole, and everything else that acts.
func Clean(s string) string {
	return strings.TrimRight(strings.Map(func(r rune) rune {
		switch {
		case r == '\t':
			return ' '
		case r == '\ufffd', plain.Acts(r):
			return -1
		}
		return r
	}, ansi.Strip(s)), " ")
}

// fromJSON reads a line that is a JSON object with a message.
func fromJSON(raw string, place *time.Location) (Line, bool) {
	raw = strings.TrimSpace(raw)
	if !strings.HasPrefix(raw, "{") {
		return Line{}, false
	}
	var all map[string]any
	if json.Unmarshal([]byte(raw), &all) != nil {
		return Line{}, false
	}
	word := func(keys ...string) string {
		for _, k := range keys {
			if s, ok := all[k].(string); ok && s != "" {
				return s
			}
		}
		return ""
	}
	text := word("msg", "message")
	if text == "" {
		return Line{}, false
	}
	if why := word("error", "err"); why != "" {
		text += ": " + why
	}
	l := Line{Text: text, Level: levelOf(word("level", "severity", "lvl"))}
	if at, ok := cmp.Or(all["ts"], all["time"], all["timestamp"]).(float64); ok && at > 1e9 && at < 1e11 {
		whole, part := math.Modf(at)
		l.At = time.Unix(int64(whole), int64(part*1e9)).UTC()
	} else if at, _, ok := leading(word("ts", "time", "timestamp", "@timestamp"), place); ok {
		l.At = at
	}
	return l, true
}

var pair = regexp.MustCompile(`(?:^| )(time|ts|level|msg)=("(?:[^"\\]|\\.)*"|\S+)`)

// fromPairs reads a line of key=value pairs with a level and a message.
func (l *Line) fromPairs(place *time.Location) bool {
	if !strings.Contains(l.Text, "msg=") || !strings.Contains(l.Text, "level=") {
		return false
	}
	rest := l.Text
	text := ""
	for _, m := range pair.FindAllStringSubmatch(l.Text, -1) {
		value := m[2]
		if plain, err := strconv.Unquote(value); err == nil {
			value = plain
		}
		switch m[1] {
		case "msg":
			text = value
		case "level":
			l.Level = levelOf(value)
		default:
			l.At, _, _ = leading(value, place)
		}
		rest = strings.Replace(rest, m[0], "", 1)
	}
	if text == "" {
		return false
	}
	l.Text = strings.TrimSpace(Clean(text) + " " + strings.TrimSpace(rest)) // quoting may have hidden what acts
	return true
}

var layouts = []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999Z0700", "2006/01/02 15:04:05.999999999", "2006-01-02 15:04:05.999999999 MST", "2006-01-02 15:04:05.999999999"}

var stamp = regexp.MustCompile(`^(?:\[\d+\] )?(\d{4}[-/]\d\d[-/]\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d| UTC| GMT)?)[:\s]*`)

// leading reads a time at the beginning of a text and gives what comes after.
func leading(text string, place *time.Location) (time.Time, string, bool) {
	m := stamp.FindStringSubmatch(text)
	if m == nil {
		return time.Time{}, text, false
	}
	for _, layout := range layouts {
		if at, err := time.ParseInLocation(layout, strings.Replace(m[1], ",", ".", 1), place); err == nil {
			return at.UTC(), text[len(m[0]):], true
		}
	}
	return time.Time{}, text, false
}

func (l *Line) leadingTime(place *time.Location) {
	if at, rest, ok := leading(l.Text, place); ok && rest != "" {
		l.At, l.Text = at, strings.TrimSpace(rest)
	}
}

var levelWord = regexp.MustCompile(`(?i)(?:^|[\s\[])(panic|fatal|crit(?:ical)?|err(?:or)?|warn(?:ing)?|inf(?:o)?|notice|log|debug|dbg)(?:[\]:]|:?\s\s|\s*$)`)

// levelIn finds the level that a line of plain text names near its beginning.
func levelIn(text string) Level {
	if m := levelWord.FindStringSubmatch(text[:min(len(text), 60)]); m != nil {
		return levelOf(m[1])
	}
	return ""
}

func levelOf(word string) Level {
	word = strings.ToLower(word)
	switch {
	case word == "":
		return ""
	case strings.HasPrefix(word, "warn"):
		return Warning
	case strings.HasPrefix(word, "err"), strings.HasPrefix(word, "fatal"), strings.HasPrefix(word, "panic"), strings.HasPrefix(word, "crit"), strings.HasPrefix(word, "dpanic"):
		return Error
	}
	return Info
}
