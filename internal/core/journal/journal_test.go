package journal

import (
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/logline"
)

var noon = time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)

func names() Names {
	return Names{Roles: map[field.RoleName]bool{"wardens": true, "crews": true}, Nodes: map[field.NodeName]bool{"gull-1": true, "tern-1": true},
		Zones: map[field.ZoneName]bool{"north-quay": true}, Members: map[field.MemberName]bool{"wardens-1": true, "crews-1": true}}
}

// TestWhatAFilterWants reads filters, says how they are understood, and holds them to a handful of lines.
func TestWhatAFilterWants(t *testing.T) {
	all := map[string]Of{
		"event":  {Event: true, Level: logline.Error, Member: "wardens-1", Role: "wardens", Node: "gull-1", Zone: "north-quay", Text: "went dark: process 7 ended"},
		"line":   {Member: "wardens-1", Role: "wardens", Node: "gull-1", Zone: "north-quay", Text: "Listening on 7411"},
		"warned": {Level: logline.Warning, Member: "crews-1", Role: "crews", Node: "tern-1", Zone: "south-quay", Text: "Lost touch", More: []string{"at Dock.open(Dock.java:7)"}},
	}
	for _, test := range []struct{ text, means, fits string }{
		{"", "", "event line warned"},
		{"wardens", "role wardens", "event line"},
		{"gull-1 tern-1", "node gull-1, node tern-1", "event line warned"},
		{"wardens crews-1", "role wardens, member crews-1", ""},
		{"-wardens", "not role wardens", "warned"},
		{"warnings", "warnings and errors", "event warned"},
		{"errors -events", "errors, not events", ""},
		{"lines", "only lines of members", "line warned"},
		{"dock.java", `with "dock.java"`, "warned"},
		{`"process 7"`, `with "process 7"`, "event"},
		{`/process \d+ ended|on \d{4}/`, `like /process \d+ ended|on \d{4}/`, "event line"},
		{`/dock\.(open|shut)/ crews`, `like /dock\.(open|shut)/, role crews`, "warned"},
		{`-/./`, "not like /./", ""},
		{`a\/b /x\/y/`, `with "a\/b", like /x\/y/`, ""},
		{"/(/", "/(/ is no regular expression: error parsing regexp: missing closing ): `(?i)(`", "event line warned"},
	} {
		f := Parse(test.text, names())
		var fits []string
		for _, name := range []string{"event", "line", "warned"} {
			x := all[name]
			if f.Fits(&x) {
				fits = append(fits, name)
			}
		}
		if got := strings.Join(fits, " "); got != test.fits || f.String() != test.means {
			t.Errorf("%q means %q and fits %q", test.text, f, got)
		}
	}
	f := Parse(`crews touch "a b" /x/ warnings -gone`, names())
	if lines := f.OfLines(); len(lines.Words) != 5 || strings.Join(f.Literals(), " ") != "touch" {
		t.Errorf("of lines it asks %v, and they must have %q", lines, f.Literals())
	}
	if !f.Whose(all["warned"]) || f.Whose(all["line"]) {
		t.Error("whose lines it asks for is not found")
	}
}

// TestWhatIsCounted counts into a histogram, at and beyond its ends.
func TestWhatIsCounted(t *testing.T) {
	h := NewHistogram(noon, noon.Add(10*time.Minute), 5)
	for i, level := range []logline.Level{"", "", logline.Warning, logline.Error, ""} {
		h.Add(noon.Add(time.Duration(i)*time.Minute), level)
	}
	h.Add(noon.Add(10*time.Minute), "")
	h.Add(noon.Add(-time.Second), "")
	h.Add(noon.Add(time.Hour), "")
	if h.Bars[0].N != 2 || h.Bars[1] != (Bar{N: 2, Errors: 1, Warns: 1}) || h.Bars[2].N != 1 || h.Bars[4].N != 1 || h.Most() != 2 {
		t.Errorf("%+v", h.Bars)
	}
	if h.Part(noon.Add(-time.Hour)) != 0 || h.Part(noon.Add(time.Hour)) != 4 || h.Begin(1) != noon.Add(2*time.Minute) {
		t.Error("moments are in other parts")
	}
	if h := NewHistogram(noon, noon, 0); len(h.Bars) != 1 || h.Part(noon) != 0 {
		t.Error("a span of nothing has one part")
	}
	var c Counts
	for range 3 {
		c.Add(&Of{Role: "crews"})
	}
	c.Add(&Of{Role: "wardens", Event: true, Level: logline.Error})
	if c.All != 4 || c.Events != 1 || c.Errors != 1 || strings.Join(c.Largest(5), " ") != "crews wardens" || len(c.Largest(1)) != 1 {
		t.Errorf("%+v", c)
	}
}

// TestAnEventFollowsFromAnother goes from a notice back to what began it all.
func TestAnEventFollowsFromAnother(t *testing.T) {
	at := func(seconds int) time.Time { return noon.Add(time.Duration(seconds) * time.Second) }
	events := []Event{
		{At: at(0), Kind: "accepted"},
		{At: at(1), Kind: "member-ordered", Member: "wardens-1", Role: "wardens", Node: "gull-1"},
		{At: at(2), Kind: "member-started", Member: "wardens-1", Role: "wardens", Node: "gull-1"},
		{At: at(3), Kind: "member-ready", Member: "wardens-1", Role: "wardens", Node: "gull-1"},
		{At: at(4), Kind: "member-ordered", Member: "crews-1", Role: "crews", Node: "tern-1"},
		{At: at(5), Kind: "member-started", Member: "crews-1", Role: "crews", Node: "tern-1"},
		{At: at(600), Kind: "node-dark", Node: "gull-1"},
		{At: at(601), Kind: "member-unready", Member: "crews-1", Role: "crews", Node: "tern-1"},
		{At: at(602), Kind: "leader-seen", Member: "wardens-2", Role: "wardens", Node: "tern-1"},
		{At: at(616), Kind: "notice-begun", Member: "", Role: ""},
		{At: at(700), Kind: "node-back", Node: "gull-1"},
		{At: at(701), Kind: "member-exited", Member: "crews-1", Role: "crews", Node: "tern-1"},
	}
	calls := map[field.RoleName][]field.RoleName{"crews": {"wardens"}}
	for i, want := range []int{-1, 0, 1, 2, 3, 4, -1, 6, 6, 7, 6, 7} {
		got, how := Cause(events, i, calls)
		if got != want || (how == "") != (want < 0) {
			t.Errorf("event %d (%s) follows from %d (%s), and not from %d", i, events[i].Kind, got, how, want)
		}
	}
}

// TestALeaderFollowsFromWhoEnded: while nobody leads, the others are not ready for that; what it began with is the end of who led.
func TestALeaderFollowsFromWhoEnded(t *testing.T) {
	of := func(seconds int, kind string, member field.MemberName) Event {
		return Event{At: noon.Add(time.Duration(seconds) * time.Second), Kind: kind, Member: member, Role: "wardens"}
	}
	events := []Event{of(0, "member-exited", "wardens-1"), of(2, "member-unready", "wardens-2"), of(3, "member-unready", "wardens-3"), of(4, "leader-lost", ""), of(5, "leader-seen", "wardens-2")}
	for i, want := range []int{-1, 0, 0, 0, 0} {
		if got, how := Cause(events, i, nil); got != want {
			t.Errorf("%s of %s follows from %d (%s), and not from %d", events[i].Kind, events[i].Member, got, how, want)
		}
	}
	if got, _ := Cause(events[1:], 3, nil); got != 2 {
		t.Errorf("where nobody ended, a leader follows from %d", got)
	}
}
