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
	More  []string  `json:"more,omitempty"` // lines that go on with it, such as a stack trace
	Goes  bool      `json:"goes,omitempty"` // it goes on with what the member wrote before, which was read earlier
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
	l.leadingTime(place)
	if l.fromPairs(place) {
		return l
	}
	l.Level = cmp.Or(l.Level, levelIn(l.Text))
	return l
}

// Clean takes out what acts on a terminal: escape sequences whole, and everything else that acts.
func Clean(s string) string {
	if plainText(s) {
		return strings.TrimRight(s, " ")
	}
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

// plainText tells whether a text is of letters, digits and the like alone.
func plainText(s string) bool {
	for i := range len(s) {
		if s[i] < ' ' || s[i] > '~' {
			return false
		}
	}
	return true
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
	if at, ok := cmp.Or(all["ts"], all["time"], all["timestamp"], all["t"]).(float64); ok && since1970(at) != (time.Time{}) {
		l.At = since1970(at)
	} else if at, _, ok := leading(word("ts", "time", "timestamp", "@timestamp"), place); ok {
		l.At = at
	}
	return l, true
}

// since1970 reads a number as seconds, milliseconds, microseconds or nanoseconds; zero where it is none of these.
func since1970(n float64) time.Time {
	for _, unit := range []float64{1, 1e3, 1e6, 1e9} {
		if seconds := n / unit; seconds > 1e9 && seconds < 1e11 {
			whole, part := math.Modf(seconds)
			return time.Unix(int64(whole), int64(part*1e9)).UTC()
		}
	}
	return time.Time{}
}

var pair = regexp.MustCompile(`(?:^| )(time|ts|t|level|lvl|msg)=("(?:[^"\\]|\\.)*"|\S+)`)

// fromPairs reads a line of key=value pairs with a level and a message.
func (l *Line) fromPairs(place *time.Location) bool {
	if !strings.Contains(l.Text, "msg=") || !strings.Contains(l.Text, "level=") && !strings.Contains(l.Text, "lvl=") {
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
		case "level", "lvl":
			l.Level = levelOf(value)
		default:
			if at, _, ok := leading(value, place); ok {
				l.At = at
			}
		}
		rest = strings.Replace(rest, m[0], "", 1)
	}
	if text == "" {
		return false
	}
	l.Text = strings.TrimSpace(Clean(text) + " " + strings.TrimSpace(rest)) // quoting may have hidden what acts
	return true
}

// firstWord is a level in capitals with which the text begins.
var firstWord = regexp.MustCompile(`^(?:\[[^\]]{0,30}\] ?(?:- ?)?)?(PANIC|FATAL|SEVERE|ERROR|WARN(?:ING)?|INFO|DEBUG|TRACE) `)

// levelWords are those by which programs say how bad something is.
var levelWords = map[string]bool{"panic": true, "fatal": true, "crit": true, "critical": true, "err": true, "error": true, "warn": true, "warning": true, "inf": true, "info": true,
	"notice": true, "log": true, "debug": true, "dbg": true}

// levelNear is how near its beginning a text must name its level, in bytes.
const levelNear = 60

// levelIn finds the level that a line of plain text names near its beginning: as a word in brackets, or with a colon, two blanks or nothing after it. What begins a stack
// trace is an error.
func levelIn(text string) Level {
	if text != "" && strings.IndexByte("pfgTrS", text[0]) >= 0 && opens.MatchString(text) {
		return Error
	}
	near := text[:min(len(text), levelNear)]
	for i := 0; i < len(near); {
		if !letter(near[i]) {
			i++
			continue
		}
		end := i
		for end < len(near) && letter(near[end]) {
			end++
		}
		if end-i <= len("critical") && (i == 0 || strings.IndexByte(" \t[", near[i-1]) >= 0) && end <= levelNear {
			if word := strings.ToLower(near[i:end]); levelWords[word] && closes(near[end:]) {
				return levelOf(word)
			}
		}
		i = end
	}
	if m := firstWord.FindStringSubmatch(near); m != nil {
		return levelOf(m[1])
	}
	return ""
}

// closes tells whether what comes after a word shows that it was a level.
func closes(after string) bool {
	if after == "" || after[0] == ']' || after[0] == ':' {
		return true
	}
	return strings.HasPrefix(after, "  ") || strings.TrimSpace(after) == ""
}

func letter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }

func levelOf(word string) Level {
	word = strings.ToLower(word)
	switch {
	case word == "":
		return ""
	case strings.HasPrefix(word, "warn"):
		return Warning
	case strings.HasPrefix(word, "err"), strings.HasPrefix(word, "fatal"), strings.HasPrefix(word, "panic"), strings.HasPrefix(word, "crit"), strings.HasPrefix(word, "dpanic"), word == "severe":
		return Error
	}
	return Info
}
