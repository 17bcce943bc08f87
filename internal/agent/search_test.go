package agent

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/agent/runtime"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/journal"
)

// agentWith makes an agent that holds one member, of which only the log is there.
func agentWith(m *member) *Agent {
	return &Agent{members: map[field.MemberName]*held{m.name: {member: m}}}
}

// searchAll goes on until all is searched, and gives what was found as texts, oldest first, and in how many steps.
func searchAll(t *testing.T, a *Agent, s agentapi.Search) (texts []string, steps int) {
	t.Helper()
	s.Members = []field.MemberName{"it-1"}
	for {
		found, err := a.search(context.Background(), s)
		if err != nil {
			t.Fatal(err)
		}
		var now []string
		for _, l := range found.Lines["it-1"] {
			now = append(now, strings.Join(append([]string{l.Text}, l.More...), "|"))
		}
		texts = append(now, texts...)
		if steps++; len(found.Left) == 0 {
			return texts, steps
		}
		if s.Before != nil && found.Left["it-1"] >= s.Before["it-1"] {
			t.Fatalf("it comes no further than %d", found.Left["it-1"])
		}
		s.Before = found.Left
	}
}

// TestASearchGoesBackThroughAll searches a log of several pieces and what was cut off it: every line that fits is found once, whatever is asked for at once.
func TestASearchGoesBackThroughAll(t *testing.T) {
	m, write := logOf(t)
	begin := time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)
	line := func(i int) string {
		text := fmt.Sprintf("%s INFO it goes on, number %d %s\n", begin.Add(time.Duration(i)*time.Second).Format(time.RFC3339), i, strings.Repeat("x", 200))
		if i%1000 == 7 {
			text = strings.Replace(text, "INFO it goes on", "ERROR Adrift", 1) + "\tat Dock.open(Dock.java:7)\n"
		}
		return text
	}
	var old strings.Builder
	for i := range 4000 {
		old.WriteString(line(i))
	}
	if err := os.WriteFile(m.logFile()+".1", []byte(old.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	for i := 4000; i < 20000; i++ {
		write(line(i))
	}
	write("the last one is not finished")
	a := agentWith(m)
	word := func(text string) journal.Filter { return journal.Parse(text, journal.Names{}) }
	got, _ := searchAll(t, a, agentapi.Search{Filter: word("adrift")})
	if len(got) != 20 || !strings.HasPrefix(got[0], "ERROR Adrift, number 7 ") || !strings.HasPrefix(got[19], "ERROR Adrift, number 19007 ") || !strings.HasSuffix(got[3], "| at Dock.open(Dock.java:7)") {
		t.Errorf("found %d: %.40q … %.40q", len(got), got[0], got[len(got)-1])
	}
	if got, _ := searchAll(t, a, agentapi.Search{Filter: word("errors dock.java")}); len(got) != 20 {
		t.Errorf("by level and trace, found %d", len(got))
	}
	if got, _ := searchAll(t, a, agentapi.Search{Filter: word(`/number (1|19999) /`)}); len(got) != 2 {
		t.Errorf("by pattern, found %q", got)
	}
	if got, steps := searchAll(t, a, agentapi.Search{Filter: word("number"), Within: time.Nanosecond}); len(got) != 20000 || steps < 4 {
		t.Errorf("in %d steps, found %d", steps, len(got))
	}
	if got, _ := searchAll(t, a, agentapi.Search{Filter: word("number"), Since: begin.Add(10000 * time.Second), Until: begin.Add(10010 * time.Second)}); len(got) != 10 {
		t.Errorf("of ten seconds, found %d", len(got))
	}
	if got, _ := searchAll(t, a, agentapi.Search{Filter: word("finished")}); len(got) != 1 {
		t.Errorf("what has no end yet: %q", got)
	}
	first, err := a.search(context.Background(), agentapi.Search{Members: []field.MemberName{"it-1", "it-2"}, Filter: word("number"), Most: 3})
	if n := len(first.Lines["it-1"]); err != nil || n != 3 || !strings.Contains(first.Lines["it-1"][2].Text, "number 19999 ") || first.Rest == 0 {
		t.Errorf("the newest three: %d of them, %v", n, err)
	}
	bad := agentapi.Search{Filter: journal.Filter{Words: []journal.Word{{Kind: "pattern", Text: "("}}}}
	if _, err := a.search(context.Background(), bad); err == nil {
		t.Error("what is no regular expression is taken")
	}
}

// TestASearchPassesNoLineOver has more short lines in one piece than are given of a member at once.
func TestASearchPassesNoLineOver(t *testing.T) {
	m, write := logOf(t)
	write(strings.Repeat("row\n", 4*searchMost))
	a := agentWith(m)
	if got, _ := searchAll(t, a, agentapi.Search{Filter: journal.Parse("row", journal.Names{})}); len(got) != 4*searchMost {
		t.Errorf("of %d lines, %d were found", 4*searchMost, len(got))
	}
	if found, err := a.search(context.Background(), agentapi.Search{Members: []field.MemberName{"it-1"}, Most: 7}); err != nil || len(found.Lines["it-1"]) != 7 {
		t.Errorf("of the newest seven there are %d: %v", len(found.Lines["it-1"]), err)
	}
}

// TestASearchStandsWhatMembersWrite searches binary, a line of ten megabytes, and what acts on terminals.
func TestASearchStandsWhatMembersWrite(t *testing.T) {
	m, write := logOf(t)
	write("found before\n" + strings.Repeat("y", 10<<20) + "\n")
	write("\x00\xff\xfe\x1b[2J\x1b]0;found before\x07\r\n" + "\x1b[31mfound before\x1b[0m\n" + `{"ts":"2999-01-01T00:00:00Z","msg":"found before too"}` + "\n")
	got, _ := searchAll(t, agentWith(m), agentapi.Search{Filter: journal.Parse("found before", journal.Names{})})
	if strings.Join(got, "/") != "found before/found before/found before too" {
		t.Errorf("found %.100q", got)
	}
	if _, err := os.Stat(filepath.Dir(m.logFile())); err != nil {
		t.Fatal(err)
	}
}

// TestATraceIsPutTogetherAcrossReadings follows a log while a program writes a trace line by line.
func TestATraceIsPutTogetherAcrossReadings(t *testing.T) {
	m, write := logOf(t)
	write("2026-11-27T09:00:00Z ERROR it broke\n\tat a(b)\n")
	l, text := readOf(t, m, -1, 0)
	if text != "ERROR it broke" || len(l.Lines[0].More) != 1 {
		t.Fatalf("%q %+v", text, l.Lines)
	}
	write("\tat c(d)\nnext\n")
	l, text = readOf(t, m, l.Next, 0)
	if text != " at c(d)|next" || !l.Lines[0].Goes || l.Lines[1].Goes || l.From == 0 {
		t.Errorf("%q %+v", text, l.Lines)
	}
}

// BenchmarkSearch searches the logs of five members, 20 MiB each as most of it that is kept: for a word that stands in few lines, and for a level, for which every line
// is taken apart.
func BenchmarkSearch(b *testing.B) {
	dir := b.TempDir()
	a := &Agent{members: map[field.MemberName]*held{}}
	var names []field.MemberName
	var text strings.Builder
	begin := time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)
	for i := 0; text.Len() < 16<<20; i++ {
		fmt.Fprintf(&text, "%s INFO it goes on, number %d %s\n", begin.Add(time.Duration(i)*time.Millisecond).Format(time.RFC3339Nano), i, strings.Repeat("x", 150))
		if i%20000 == 7 {
			text.WriteString("2026-11-27T09:00:00Z ERROR Adrift\n")
		}
	}
	for i := range 5 {
		name := field.MemberName(fmt.Sprintf("it-%d", i+1))
		m := newMember(layout{dir: dir}, runtime.NewProcesses(dir, false), nil, name)
		if err := os.MkdirAll(filepath.Dir(m.logFile()), 0o755); err != nil {
			b.Fatal(err)
		}
		for file, size := range map[string]int{m.logFile(): 16 << 20, m.logFile() + ".1": 4 << 20} {
			if err := os.WriteFile(file, []byte(text.String()[:size]), 0o600); err != nil {
				b.Fatal(err)
			}
		}
		a.members[name], names = &held{member: m}, append(names, name)
	}
	for what, filter := range map[string]string{"a word": "adrift", "a level": "errors", "a pattern": `/adr.?ift/`, "a pattern without a word": `/[a-d]dr[h-j]f[^x]/`} {
		b.Run(what, func(b *testing.B) {
			b.SetBytes(5 * 20 << 20)
			for b.Loop() {
				s := agentapi.Search{Members: names, Filter: journal.Parse(filter, journal.Names{}), Within: 5 * time.Second}
				for {
					found, err := a.search(context.Background(), s)
					if err != nil {
						b.Fatal(err)
					}
					if s.Before = found.Left; len(s.Before) == 0 {
						break
					}
					s.Members = slices.Collect(maps.Keys(s.Before))
				}
			}
		})
		b.Run("the first of "+what, func(b *testing.B) {
			for b.Loop() {
				if found, err := a.search(context.Background(), agentapi.Search{Members: names, Filter: journal.Parse(filter, journal.Names{}), Within: 200 * time.Millisecond}); err != nil || len(found.Lines) == 0 {
					b.Fatal(err)
				}
			}
		})
	}
}
