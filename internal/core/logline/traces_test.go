package logline

import (
	"strings"
	"testing"
	"time"
)

// grouped puts each line that goes on into one line with the one before.
func grouped(text string) []string {
	var g Grouper
	var out []string
	for _, raw := range strings.Split(strings.Trim(text, "\n"), "\n") {
		l := Parse(raw, time.UTC)
		if n := len(out); g.Goes(raw, &l) && n > 0 {
			out[n-1] += "|" + strings.TrimSpace(l.Text)
		} else {
			out = append(out, l.Text)
		}
	}
	return out
}

// TestStackTracesAreKeptTogether reads what programs of several languages write when they fail.
func TestStackTracesAreKeptTogether(t *testing.T) {
	for what, test := range map[string]struct{ text, want string }{
		"java": {"2026-01-02 12:00:00,000 ERROR the tide is out\njava.io.IOException: no water\n\tat harbour.Dock.open(Dock.java:7)\n\t... 3 more\nCaused by: java.net.SocketException: x\n\tat a.b(C.java:1)\n2026-01-02 12:00:01,000 INFO next",
			"ERROR the tide is out|java.io.IOException: no water|at harbour.Dock.open(Dock.java:7)|... 3 more|Caused by: java.net.SocketException: x|at a.b(C.java:1)\nINFO next"},
		"go": {"started\npanic: no water\n\ngoroutine 1 [running]:\nmain.open(0x1, {0x2, 0x3})\n\t/src/dock.go:7 +0x1d\nmain.main()\n\t/src/main.go:3 +0x20\nexit status 2\nstarted",
			"started\npanic: no water||goroutine 1 [running]:|main.open(0x1, {0x2, 0x3})|/src/dock.go:7 +0x1d|main.main()|/src/main.go:3 +0x20|exit status 2\nstarted"},
		"python": {"Traceback (most recent call last):\n  File \"dock.py\", line 7, in open\n    water()\nIOError: no water\nnext",
			"Traceback (most recent call last):|File \"dock.py\", line 7, in open|water()|IOError: no water\nnext"},
		"indented":  {"config:\n  a: 1\n  b: 2\nready", "config:|a: 1|b: 2\nready"},
		"own times": {"2026-01-02T12:00:00Z one\n2026-01-02T12:00:01Z   two", "one\ntwo"},
		"objects":   {`{"msg":"one"}` + "\n" + `{"msg":"two"}`, "one\ntwo"},
	} {
		if got := strings.Join(grouped(test.text), "\n"); got != test.want {
			t.Errorf("%s: got\n%s\nand not\n%s", what, got, test.want)
		}
	}
	if got := grouped("x\n" + strings.Repeat(" y\n", 1000)); len(got) < 4 || len(got) > 8 {
		t.Errorf("a program that indents all has %d lines", len(got))
	}
}

// TestCommonTimesAreRead reads the time of one moment in the forms in which programs write it.
func TestCommonTimesAreRead(t *testing.T) {
	year := time.Now().UTC().Year()
	noon := time.Date(2026, 1, 2, 12, 0, 0, 0, time.UTC)
	for _, raw := range []string{"<34>1 2026-01-02T12:00:00.000Z gull-1 it", "1234:M 02 Jan 2026 12:00:00.000 * it", "[Fri Jan 02 12:00:00.000000 2026] it", `10.0.0.1 - - [02/Jan/2026:13:00:00 +0100] "GET / it"`,
		"1767355200.000 it", "1767355200000 it", "[2026-01-02T12:00:00,000] it", `{"t":1767355200000,"msg":"it"}`, `t=2026-01-02T12:00:00Z lvl=warn msg=it`, `{"@timestamp":"2026-01-02T12:00:00Z","message":"it"}`} {
		l := Parse(raw, time.UTC)
		if !l.At.Equal(noon) || !strings.Contains(l.Text, "it") {
			t.Errorf("%q is of %s and says %q", raw, l.At, l.Text)
		}
	}
	jan := time.Date(year, 1, 2, 12, 0, 0, 0, time.UTC)
	if jan.After(time.Now().Add(24 * time.Hour)) {
		jan = jan.AddDate(-1, 0, 0)
	}
	for raw, level := range map[string]Level{"Jan  2 12:00:00 gull-1 it[7]: it": "", "W0102 12:00:00.000000    7 dock.go:7] it": Warning} {
		if l := Parse(raw, time.UTC); !l.At.Equal(jan) || l.Level != level {
			t.Errorf("%q is of %s, %s", raw, l.At, l.Level)
		}
	}
	l := Parse("2999-01-02T12:00:00Z it", time.UTC)
	if l.Dated(noon, noon); !l.About || !l.At.Equal(noon) {
		t.Errorf("what is dated ahead is of %s", l.At)
	}
}
