package journal

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/tui/theme"

	"lanternfield/internal/agentapi"

	core "lanternfield/internal/core/journal"
	"lanternfield/internal/core/state"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/logline"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
)

var noon = time.Date(2026, 1, 1, 12, 0, 0, 0, time.Local)

func at(ms int) time.Time { return noon.Add(time.Duration(ms) * time.Millisecond) }

func where(l *Line) {
	if l.Member != "" {
		l.Role, _, _ = cutRole(l.Member)
		l.Node, l.Zone = "gull-1", "north-quay"
	}
}

func cutRole(m field.MemberName) (field.RoleName, string, bool) {
	role, rest, ok := strings.Cut(string(m), "-")
	return field.RoleName(role), rest, ok
}

func names() core.Names {
	return core.Names{Roles: map[field.RoleName]bool{"wardens": true, "crews": true}, Nodes: map[field.NodeName]bool{"gull-1": true},
		Zones: map[field.ZoneName]bool{"north-quay": true}, Members: map[field.MemberName]bool{"wardens-1": true, "crews-1": true}}
}

func filled() *Book {
	b := NewBook()
	b.AddEvents([]control.Entry{{Seq: 1, At: at(0), Kind: "accepted", Text: "deploy asked for"},
		{Seq: 2, At: at(10), Kind: "member-started", Member: "wardens-1", Text: "wardens-1 started as process 7"},
		{Seq: 3, At: at(11), Kind: "heard", Text: "heard gull-1"},
		{Seq: 4, At: at(40), Kind: "member-exited", Level: state.LevelError, Member: "wardens-1", Text: "wardens-1 went dark"}}, where)
	b.AddLogs(map[field.MemberName]agentapi.Log{
		"wardens-1": {Next: 90, Lines: []logline.Line{{At: at(20), Text: "Listening"}, {At: at(30), Level: logline.Warning, Text: "the tide is low"}}},
		"crews-1":   {Next: 20, Lines: []logline.Line{{At: at(25), Level: logline.Error, About: true, Text: "lost touch with the store"}}}}, where)
	return b
}

func texts(b *Book, v *View) string {
	var all []string
	for _, i := range v.shown {
		all = append(all, b.Lines[i].Text)
	}
	return strings.Join(all, "|")
}

func TestEventsAndLinesAreMergedInTime(t *testing.T) {
	b, v := filled(), &View{Follow: true}
	v.Sync(b, names)
	if got := texts(b, v); got != "deploy asked for|started as process 7|Listening|lost touch with the store|the tide is low|went dark" {
		t.Errorf("got %s", got)
	}
	if b.Seq != 4 || b.Read["wardens-1"] != 90 {
		t.Errorf("read up to %d and %v", b.Seq, b.Read)
	}
	b.AddEvents([]control.Entry{{Seq: 4, At: at(40), Kind: "member-exited", Text: "again"}, {Seq: 5, At: at(5), Kind: "node-dark", Text: "late report"}}, where)
	v.Sync(b, names)
	if got := texts(b, v); !strings.HasPrefix(got, "deploy asked for|late report|started") || strings.Contains(got, "again") {
		t.Errorf("what comes late stands in its time, and nothing twice: %s", got)
	}
}

// TestTheCursorStandsInTime walks, lets lines come in, and seeks.
func TestTheCursorStandsInTime(t *testing.T) {
	b, v := filled(), &View{Follow: true}
	v.Sync(b, names)
	if !v.At().Equal(at(40)) {
		t.Errorf("following, it stands at %s", v.At())
	}
	if last := v.Move(-2); last || !v.At().Equal(at(25)) || v.Follow {
		t.Errorf("two up: %s, following %v", v.At(), v.Follow)
	}
	b.AddEvents([]control.Entry{{Seq: 9, At: at(90), Kind: "member-ready", Text: "newer"}, {Seq: 10, At: at(1), Kind: "member-ready", Text: "older"}}, where)
	v.Sync(b, names)
	if !v.At().Equal(at(25)) {
		t.Errorf("lines that came in moved it to %s", v.At())
	}
	if v.Seek(at(35)); !v.At().Equal(at(30)) {
		t.Errorf("sought 35, it stands at %s", v.At())
	}
	if v.Seek(at(-5)); !v.At().Equal(at(0)) {
		t.Errorf("sought what was before everything: %s", v.At())
	}
	if last := v.Move(1 << 20); !last || !v.Follow {
		t.Error("at the end it follows again")
	}
	if v.Move(-2); !v.Event(-1) || !v.At().Equal(at(10)) || v.Follow {
		t.Errorf("from the line of 30 ms, the event before is that of %s", v.At())
	}
	if !v.Event(1) || !v.At().Equal(at(40)) {
		t.Errorf("and the one after it that of %s", v.At())
	}
	b.AddEvents([]control.Entry{{Seq: 11, At: at(50), Kind: "member-ready", Text: "one"}, {Seq: 12, At: at(50), Kind: "member-ready", Text: "two"}, {Seq: 13, At: at(50), Kind: "member-ready", Text: "three"}}, where)
	v.Sync(b, names)
	v.Seek(at(50))
	for _, want := range []string{"two", "one", "went dark"} { // those of the same moment stay apart, whatever comes in
		v.Event(-1)
		b.AddEvents([]control.Entry{{Seq: b.Seq + 1, At: at(200 + int(b.Seq)), Kind: "member-ready", Text: "newer"}}, where)
		if v.Sync(b, names); v.Under().Text != want {
			t.Errorf("one event back is %q, not %q", v.Under().Text, want)
		}
	}
	empty := &View{Text: "nothing-like-it"}
	if empty.Sync(b, names); empty.Event(-1) || empty.Event(1) {
		t.Error("there is an event among no lines")
	}
	empty.Sync(b, names)
	empty.Move(1)
	empty.Seek(at(3))
	if !empty.Empty() || !empty.At().IsZero() {
		t.Error("no line is no place to stand on")
	}
}

func TestItIsDrawnAtEverySizeAndMarksWhatCameLater(t *testing.T) {
	b := filled()
	b.AddLogs(map[field.MemberName]agentapi.Log{"crews-1": {Lines: []logline.Line{{At: at(26), Text: strings.Repeat("日本", 500)}}}}, where)
	for w := 0; w < 170; w += 13 {
		for h := 0; h < 30; h += 4 {
			v := &View{Follow: true}
			v.Sync(b, names)
			g := grid.New(w, h, theme.Dark().Page())
			v.Draw(g, theme.Dark(), board.Area{W: w, H: h}, time.Time{})
		}
	}
	v := &View{}
	v.Sync(b, names)
	v.Seek(at(20))
	g := grid.New(100, 12, theme.Dark().Page())
	v.Draw(g, theme.Dark(), board.Area{W: 100, H: 12}, at(20))
	plain := g.Plain()
	for _, want := range []string{"▸12:00:00.020", "◐ wardens-1", "✖ wardens-1", "~12:00:00", "3 events, and 4 lines of members · 2 errors · 1 warning"} {
		if !strings.Contains(plain, want) {
			t.Errorf("%q is missing:\n%s", want, plain)
		}
	}
	lines := strings.Split(g.String(), "\n")
	faint := fmt.Sprintf("38;2;%d;%d;%d", theme.Dark().Faint>>16, theme.Dark().Faint>>8&0xff, theme.Dark().Faint&0xff)
	if strings.Contains(lines[4], faint) || !strings.Contains(lines[6], faint) {
		t.Errorf("what came later does not look so:\n%s", plain)
	}
}

func TestABookForgetsTheOldest(t *testing.T) {
	b := NewBook()
	for i := range mostLines*5/4 + 2 {
		b.AddEvents([]control.Entry{{Seq: uint64(i + 1), At: at(i), Kind: "member-ready", Text: "x"}}, where)
	}
	if len(b.Lines) > mostLines*5/4 || b.Gone == 0 || !b.Lines[0].At.After(at(0)) {
		t.Errorf("%d lines are kept, %d have gone", len(b.Lines), b.Gone)
	}
}

// TestOneStandsInTheHistogram goes from part to part in which there is something, opens a trace, and asks what an event follows from.
func TestOneStandsInTheHistogram(t *testing.T) {
	b := filled()
	b.AddEvents([]control.Entry{{Seq: 5, At: at(10_000), Kind: "member-started", Member: "wardens-1", Text: "wardens-1 started as process 8"}}, where)
	b.AddLogs(map[field.MemberName]agentapi.Log{"wardens-1": {Next: 95, Lines: []logline.Line{{At: at(41), Goes: true, Text: "at Dock.open(Dock.java:7)"}}}}, where)
	b.AddFound(map[field.MemberName][]logline.Line{"crews-1": {{At: at(-5000), Text: "of yesterday"}}}, where)
	b.AddFound(map[field.MemberName][]logline.Line{"crews-1": {{At: at(-5000), Text: "of yesterday"}}}, where)
	v := &View{Follow: true}
	draw := func() string {
		v.Sync(b, names)
		g := grid.New(100, 14, theme.Dark().Page())
		v.Draw(g, theme.Dark(), board.Area{W: 100, H: 14}, time.Time{})
		return g.Plain()
	}
	draw()
	if !v.Stride(-1) || v.At().After(at(100)) || v.At().Before(at(0)) || v.Follow {
		t.Errorf("a stride back leads to %s", v.At())
	}
	if !v.Stride(-1) || !v.At().Equal(at(-5000)) || v.Stride(-1) {
		t.Errorf("another leads to %s", v.At())
	}
	if !v.Stride(1) || !v.At().Equal(at(0)) {
		t.Errorf("one forth leads to %s", v.At())
	}
	if !v.Click(99-1, 1) || !v.At().Equal(at(10_000)) {
		t.Errorf("a click at its end leads to %s", v.At())
	}
	how, found := v.Cause(names, nil)
	if !found || v.Under().Text != "went dark" || how == "" {
		t.Errorf("it follows from %q: %s", v.Under().Text, how)
	}
	if !v.Return() || !v.At().Equal(at(10_000)) || v.Return() {
		t.Errorf("back, it stands at %s", v.At())
	}
	v.Seek(at(30))
	if got := v.Under(); len(got.More) != 1 || !strings.Contains(draw(), "+1") || strings.Contains(draw(), "Dock.java") {
		t.Errorf("a line with more: %+v", got)
	}
	if v.Open = true; !strings.Contains(draw(), "Dock.java") {
		t.Errorf("opened, it is not shown:\n%s", draw())
	}
	v.Move(1)
	if strings.Contains(draw(), "Dock.java") {
		t.Error("it stays open although the cursor has gone on")
	}
	v.Text = "crews"
	if text := draw(); !strings.Contains(text, "2 of 8 lines: role crews") || !strings.Contains(text, "crews 2") {
		t.Errorf("counts are missing:\n%s", text)
	}
	v.Text = "/(/"
	if text := draw(); !strings.Contains(text, "is no regular expression") {
		t.Errorf("what is wrong with a pattern is not said:\n%s", text)
	}
}

// TestALongLineIsOpened: what does not fit into the row is broken below it, before the lines that belong to it.
func TestALongLineIsOpened(t *testing.T) {
	b := filled()
	b.AddEvents([]control.Entry{{Seq: 20, At: at(60), Kind: "notice-begun", Level: state.LevelWarning, Member: "crews-1", Text: strings.Repeat("a long story ", 12) + "with an end"}}, where)
	v := &View{Follow: true}
	v.Sync(b, names)
	draw := func() string {
		g := grid.New(100, 16, theme.Dark().Page())
		v.Draw(g, theme.Dark(), board.Area{W: 100, H: 16}, time.Time{})
		return g.Plain()
	}
	if text := draw(); strings.Contains(text, "with an end") || !strings.Contains(text, "…") || !v.Opens() {
		t.Errorf("before it is opened (opens: %v):\n%s", v.Opens(), text)
	}
	v.Open = true
	if text := draw(); !strings.Contains(text, "with an end") || strings.Contains(text, "…") {
		t.Errorf("opened:\n%s", text)
	}
	if v.Move(-1); v.Open || v.Opens() {
		t.Error("a short line opens")
	}
	b.AddEvents([]control.Entry{{Seq: 21, At: at(70), Kind: "notice-begun", Text: strings.Repeat(" ", 500)}}, where)
	v.Sync(b, names)
	v.Move(10)
	v.Open = true
	draw()
}
