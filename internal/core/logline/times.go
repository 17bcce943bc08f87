package logline

import (
	"regexp"
	"strconv"
	"strings"
	"time"
)

// form is a way in which programs write the time at the beginning of a line. The first group is the time.
type form struct {
	pattern *regexp.Regexp
	layouts []string
	level   int // the group with a letter for the level; 0 for none
}

var iso = []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999Z0700", "2006/01/02 15:04:05.999999999", "2006-01-02 15:04:05.999999999 MST", "2006-01-02 15:04:05.999999999", "2006-01-02T15:04:05.999999999"}

// forms are those that are known, the common ones first.
var forms = []form{
	{pattern: regexp.MustCompile(`^(?:\[\d+\] |<\d+>1 |\[)?(\d{4}[-/]\d\d[-/]\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d| UTC| GMT)?)\]?[:\s]*`), layouts: iso},
	{pattern: regexp.MustCompile(`^(?:\d+:[A-Z] )?(\d\d? [A-Z][a-z]{2} \d{4} \d\d:\d\d:\d\d(?:\.\d+)?) `), layouts: []string{"2 Jan 2006 15:04:05.999999999"}},
	{pattern: regexp.MustCompile(`^(?:<\d+>)?([A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d(?:\.\d+)?) `), layouts: []string{"Jan _2 15:04:05.999999999"}},
	{pattern: regexp.MustCompile(`^([IWEF])(\d{4} \d\d:\d\d:\d\d\.\d+) +\d+ `), layouts: []string{"0102 15:04:05.999999999"}, level: 1},
	{pattern: regexp.MustCompile(`^(?:\S+ \S+ \S+ )?\[(\d\d/[A-Z][a-z]{2}/\d{4}:\d\d:\d\d:\d\d [+-]\d{4})\] `), layouts: []string{"02/Jan/2006:15:04:05 -0700"}},
	{pattern: regexp.MustCompile(`^\[?([A-Z][a-z]{2} [A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d(?:\.\d+)? \d{4})\]? `), layouts: []string{"Mon Jan _2 15:04:05.999999999 2006"}},
	{pattern: regexp.MustCompile(`^\[?(\d{10}(?:\.\d+)?|\d{13}|\d{16})\]?[:\s]+`)},
}

var letters = map[string]Level{"I": Info, "W": Warning, "E": Error, "F": Error}

// leading reads a time at the beginning of a text and gives what comes after. Times without a year are of the last twelve months.
func leading(text string, place *time.Location) (time.Time, string, bool) {
	at, rest, _, ok := leadingAll(text, place)
	return at, rest, ok
}

func leadingAll(text string, place *time.Location) (time.Time, string, Level, bool) {
	if text == "" || text[0] > 'Z' && text[0] != '[' || strings.IndexByte(" \t", text[0]) >= 0 {
		return time.Time{}, text, "", false
	}
	for _, f := range forms {
		m := f.pattern.FindStringSubmatch(text)
		if m == nil {
			continue
		}
		stamp, level := m[1], Level("")
		if f.level > 0 {
			stamp, level = m[f.level+1], letters[m[f.level]]
		}
		if f.layouts == nil {
			if n, err := strconv.ParseFloat(stamp, 64); err == nil {
				return since1970(n), text[len(m[0]):], "", true
			}
		}
		for _, layout := range f.layouts {
			at, err := time.ParseInLocation(layout, strings.Replace(stamp, ",", ".", 1), place)
			if err != nil {
				continue
			}
			if at.Year() == 0 {
				at = thisYear(at, time.Now().In(place))
			}
			return at.UTC(), text[len(m[0]):], level, true
		}
	}
	return time.Time{}, text, "", false
}

// thisYear gives a time its year: the newest in which it does not lie more than a day ahead.
func thisYear(at, now time.Time) time.Time {
	at = at.AddDate(now.Year(), 0, 0)
	if at.Sub(now) > 24*time.Hour {
		at = at.AddDate(-1, 0, 0)
	}
	return at
}

func (l *Line) leadingTime(place *time.Location) {
	if at, rest, level, ok := leadingAll(l.Text, place); ok && rest != "" {
		l.At, l.Text, l.Level = at, strings.TrimSpace(rest), level
	}
}

// ahead is how far clocks may differ: what is dated further ahead is dated wrongly.
const ahead = time.Minute

// Dated gives the line a time where it has none of its own that can be: seen is when it was there at the latest.
func (l *Line) Dated(seen, now time.Time) {
	if l.At.IsZero() || l.At.Sub(now) > ahead {
		l.At, l.About = seen, true
	}
}
