package logline

import (
	"regexp"
	"strings"
)

// mostMore bounds how many lines go on with one.
const mostMore = 200

var (
	opens    = regexp.MustCompile(`^(?:panic: |fatal error: |goroutine \d+ \[|Traceback \(most recent call last\):|runtime: |SIG[A-Z]+: )`)
	within   = regexp.MustCompile(`^(?:[ \t]|Caused by: |Suppressed: |\.\.\. \d+ more|at [\w$.<>]+\()`)
	breaks   = regexp.MustCompile(`^[A-Za-z_][\w.]*(?:Error|Exception|Exit|Interrupt|Warning)\b`)
	goAround = regexp.MustCompile(`^(?:goroutine \d+ \[|created by |exit status |\[signal |[\w./*()\x{00b7}-]+\(.*\)$|\s*$)`)
)

// Grouper tells of the lines of one member, one after the other, which go on with the one before: those of stack traces. The zero value begins anew.
type Grouper struct {
	trace string // of what language a trace is open: go, python, or none
	begun bool   // there was a line
	bad   bool   // the one before has a time of its own, and tells of an error
	n     int
}

// Goes tells whether a line, as it was written, goes on with the one before. Whoever has a time of its own never does.
func (g *Grouper) Goes(raw string, l *Line) bool {
	goes := g.goes(raw, l)
	g.bad = !l.At.IsZero() && l.Level == Error
	if g.begun = true; !goes {
		g.n = 0
	} else if g.n++; g.n > mostMore {
		g.trace, g.n = "", 0
		return false
	}
	return goes
}

func (g *Grouper) goes(raw string, l *Line) bool {
	if !l.At.IsZero() || strings.HasPrefix(raw, "{") {
		g.trace = ""
		if strings.Contains(l.Text, "panic: ") {
			g.trace = "go"
		}
		return false
	}
	switch was := g.trace; {
	case g.bad && breaks.MatchString(raw):
		return true
	case was == "python" && breaks.MatchString(raw): // the last line of it
		g.trace = ""
		return g.begun
	case was == "go" && goAround.MatchString(raw):
		return g.begun
	case opens.MatchString(raw):
		g.trace = "go"
		if strings.HasPrefix(raw, "Traceback") {
			g.trace = "python"
		}
		return was == "go" && g.begun && strings.HasPrefix(raw, "goroutine ")
	case within.MatchString(raw) && strings.TrimSpace(raw) != "":
		return g.begun
	}
	g.trace = ""
	return false
}
