package logline

import (
	"strings"
	"testing"
	"time"
	"unicode"
)

func TestParse(t *testing.T) {
	east := time.FixedZone("east", 3600)
	noon := time.Date(2026, 1, 2, 12, 0, 0, 0, time.UTC)
	for _, test := range []struct {
		raw   string
		at    time.Time
		level Level
		text  string
	}{
		{"warden wardens-1 listens", time.Time{}, "", "warden wardens-1 listens"},
		{"2026-01-02T12:00:00.000Z [WARN]  raft: no heartbeat", noon, Warning, "[WARN]  raft: no heartbeat"},
		{"[4711] 2026/01/02 13:00:00.000000 [INF] Server is ready", noon, Info, "[INF] Server is ready"},
		{"2026-01-02 12:00:00.000 UTC [99] FATAL:  the tide is out", noon, Error, "[99] FATAL:  the tide is out"},
		{"2026-01-02 13:00:00,000 it rains", noon, "", "it rains"},
		{`{"level":"error","ts":"2026-01-02T12:00:00.000Z","msg":"slow","error":"moon"}`, noon, Error, "slow: moon"},
		{`{"level":"info","ts":1767355200.0,"msg":"slow"}`, noon, Info, "slow"},
		{`{"level":"info"}`, time.Time{}, "", `{"level":"info"}`},
		{`time=2026-01-02T12:00:00.000Z level=WARN msg="lost touch" node=gull-1`, noon, Warning, "lost touch node=gull-1"},
		{`2026-01-02T12:00:00Z level=warn msg="the tide turns" boat=7`, noon, Warning, "the tide turns boat=7"},
		{"Traceback (most recent call last):", time.Time{}, Error, "Traceback (most recent call last):"},
		{"SIGABRT: abort", time.Time{}, Error, "SIGABRT: abort"},
		{"Traceback is what it is called", time.Time{}, "", "Traceback is what it is called"},
		{"\x1b[31merror:\x1b[0m gone\x1b]0;title\x07\r", time.Time{}, Error, "error: gone"},
		{"2026-99-99T12:00:00Z what", time.Time{}, "", "2026-99-99T12:00:00Z what"},
		{"", time.Time{}, "", ""},
	} {
		got := Parse(test.raw, east)
		if !got.At.Equal(test.at) || got.Level != test.level || got.Text != test.text {
			t.Errorf("%q: got %+v", test.raw, got)
		}
	}
}

// TestNothingThatActsOnATerminalIsLeft tries every control character and long lines of them.
func TestNothingThatActsOnATerminalIsLeft(t *testing.T) {
	var all strings.Builder
	for r := range rune(0x300) {
		all.WriteRune(r)
		all.WriteString("\x1b[2J\x1b]52;c;cm0=\x07\x1bP+q\x1b\\\u009b31m\u202e")
	}
	for _, raw := range []string{all.String(), "\x1b[", "\x1b]0;" + strings.Repeat("x", 100000), strings.Repeat("\x1b[5mé", 100000),
		`{"msg":"` + `\u001b[2J` + `x"}`, "\xff\xfe\x9b2J"} {
		text := Parse(raw, time.UTC).Text
		if len(text) > mostText+4 {
			t.Errorf("%.20q: %d bytes are left", raw, len(text))
		}
		for _, r := range text {
			if unicode.IsControl(r) || r == '\u202e' {
				t.Fatalf("%.20q: %q is left in %.80q", raw, r, text)
			}
		}
	}
}
