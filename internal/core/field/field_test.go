package field

import (
	"slices"
	"strings"
	"testing"
	"time"
)

func TestExpandRange(t *testing.T) {
	for _, test := range []struct {
		name string
		want []string
		err  string
	}{
		{"gull", []string{"gull"}, ""},
		{"gull-{1..3}", []string{"gull-1", "gull-2", "gull-3"}, ""},
		{"gull-{7..7}-b", []string{"gull-7-b"}, ""},
		{"gull-{3..1}", nil, "runs backwards"},
		{"gull-{1..1000000000}", nil, "makes 1000000000 nodes"},
		{"gull-{1..99999999999999999999}", nil, "out of bounds"},
		{"gull-{-1..1}", nil, "out of bounds"},
		{"a{1..2}b{1..2}", nil, "more than one range"},
	} {
		got, err := ExpandRange(test.name)
		if !slices.Equal(got, test.want) || (err == nil) != (test.err == "") || (err != nil && !strings.Contains(err.Error(), test.err)) {
			t.Errorf("%s: got %v, %v; want %v, %q", test.name, got, err, test.want, test.err)
		}
	}
}

func TestNearestFindsSlipsOfTheKeyboardOnly(t *testing.T) {
	words := []string{"members", "kind", "kit", "votes", "settings"}
	for word, want := range map[string]string{"memebers": "members", "Kind": "kind", "vote": "votes", "setings": "settings", "zzz": "", "topology": ""} {
		if got := Nearest(word, words); got != want {
			t.Errorf("%s: got %q, want %q", word, got, want)
		}
	}
}

func TestBytesAndSpans(t *testing.T) {
	for text, want := range map[string]string{"512MiB": "512 MiB", "4GiB": "4 GiB", "1.5GiB": "1.5 GiB", "1048576": "1 MiB", "0": "0 B", "999B": "999 B"} {
		if b, err := ParseBytes(text); err != nil || b.String() != want {
			t.Errorf("%s: got %v, %v; want %s", text, b, err, want)
		}
	}
	for _, text := range []string{"4GB", "-1", "many", "", "NaN", "1e30TiB"} {
		if b, err := ParseBytes(text); err == nil {
			t.Errorf("%q was read as %v", text, b)
		}
	}
	for d, want := range map[time.Duration]string{400 * time.Millisecond: "0.4 s", 23 * time.Second: "23 s", 102 * time.Second: "1 min 42 s",
		3*time.Hour + 5*time.Minute: "3 h 5 min", -time.Second: "0 s"} {
		if got := Span(d); got != want {
			t.Errorf("%v: got %q, want %q", d, got, want)
		}
	}
}

func roles(names ...string) *Field {
	f := &Field{Name: "x"}
	for _, n := range names {
		name, after, _ := strings.Cut(n, "<")
		r := Role{Name: RoleName(name), Members: 1, After: map[RoleName]Gate{}}
		for _, a := range strings.FieldsFunc(after, func(r rune) bool { return r == ',' }) {
			r.After[RoleName(a)] = GateAll
		}
		f.Roles = append(f.Roles, r)
	}
	return f
}

func TestStagesFollowWhatIsWaitedFor(t *testing.T) {
	for _, test := range []struct {
		roles []string
		want  string
	}{
		{[]string{"a", "b"}, "a b"},
		{[]string{"b<a", "a"}, "a | b"},
		{[]string{"c<a,b", "b<a", "a", "d<a"}, "a | b d | c"},
		{[]string{"a<nobody"}, "a"},
	} {
		var got []string
		for _, stage := range roles(test.roles...).Stages() {
			var names []string
			for _, r := range stage {
				names = append(names, string(r))
			}
			got = append(got, strings.Join(names, " "))
		}
		if s := strings.Join(got, " | "); s != test.want {
			t.Errorf("%v: got %q, want %q", test.roles, s, test.want)
		}
	}
}

func TestCycleIsGivenAsItsPath(t *testing.T) {
	f := roles("a<b", "b<c", "c<b", "d")
	got := f.Cycle()
	if len(got) != 3 || got[0] != got[2] || !slices.Contains(got, "b") || !slices.Contains(got, "c") {
		t.Errorf("got %v", got)
	}
	if got := roles("a<b", "b").Cycle(); got != nil {
		t.Errorf("no cycle: got %v", got)
	}
	if f.Stages(); len(f.Roles) != 4 { // a cycle must not hang it
		t.Error("roles were lost")
	}
}

func TestCallsWaitForAQuorumOfVoters(t *testing.T) {
	f := roles("store", "queue", "crews")
	f.Roles[0].Votes = true
	f.Roles[2].Calls = map[string]RoleName{"s": "store", "q": "queue"}
	f.Roles[2].After = map[RoleName]Gate{"queue": "2"}
	needs := f.Needs(&f.Roles[2])
	if needs["store"] != GateQuorum || needs["queue"] != "2" {
		t.Errorf("got %v", needs)
	}
}
