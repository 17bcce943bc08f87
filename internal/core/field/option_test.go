package field

import (
	"strings"
	"testing"
)

func TestValuesAreCheckedAgainstTheirType(t *testing.T) {
	for _, test := range []struct {
		o     Option
		value Text
		want  string
	}{
		{Option{Type: TypeWhole, Least: "1", Most: "9"}, "5", ""},
		{Option{Type: TypeWhole}, "1.5", `"1.5" is not a whole number`},
		{Option{Type: TypeWhole, Least: "1"}, "0", "x is 0, and it must be at least 1"},
		{Option{Type: TypeNumber}, "1.5", ""},
		{Option{Type: TypeNumber}, "many", "is not a number"},
		{Option{Type: TypeTruth}, "yes", "is neither true nor false"},
		{Option{Type: TypeSize, Most: "1GiB"}, "2GiB", "x is 2GiB, and it may be at most 1GiB"},
		{Option{Type: TypeSize}, "2GB", "is not a size"},
		{Option{Type: TypeDuration, Least: "100ms"}, "50ms", "at least 100ms"},
		{Option{Type: TypeDuration}, "-1s", "is not a length of time"},
		{Option{OneOf: []Text{"fast", "slow"}}, "fsat", `x cannot be "fsat": it is one of fast, slow; did you mean "fast"?`},
		{Option{}, "anything", ""},
	} {
		test.o.Name = "x"
		err := test.o.Check(test.value)
		if (err == nil) != (test.want == "") || err != nil && !strings.Contains(err.Error(), test.want) {
			t.Errorf("%+v of %q: got %v, want %q", test.o, test.value, err, test.want)
		}
	}
	for _, test := range []struct {
		typ  OptionType
		n    float64
		want Text
	}{{TypeWhole, 3.9, "3"}, {TypeSize, 96 << 20, "96MiB"}, {TypeSize, 3 << 30, "3GiB"}, {TypeSize, 1<<30 + 1, "1073741825B"}, {TypeDuration, 15e8, "1.5s"}, {TypeNumber, 0.25, "0.25"}} {
		if got := test.typ.Word(test.n); got != test.want {
			t.Errorf("%s %v: got %s, want %s", test.typ, test.n, got, test.want)
		}
	}
}

func TestMembersFollowFromNodesZonesAndOthers(t *testing.T) {
	f := &Field{Nodes: []Node{{Name: "a", Zone: "1"}, {Name: "b", Zone: "1", Platform: "linux/arm64"}, {Name: "c", Zone: "2", Out: "true"}, {Name: "d", Zone: "3"}}, Roles: []Role{
		{Name: "every", Each: Each{Node: true}}, {Name: "intel", Each: Each{Node: true}, Platforms: []string{"linux/amd64"}}, {Name: "zoned", Each: Each{Zone: 2}},
		{Name: "helper", Each: Each{Beside: "zoned"}}, {Name: "endless", Each: Each{Beside: "endless"}}, {Name: "plain", Members: 7}}}
	Resolve(f)
	for role, want := range map[RoleName]int{"every": 3, "intel": 2, "zoned": 4, "helper": 4, "plain": 7} {
		if got := f.Role(role).Members; got != want {
			t.Errorf("%s has %d members, want %d", role, got, want)
		}
	}
	for each, want := range map[Each]string{{Node: true}: "one on every node", {Zone: 2}: "2 in every zone", {Beside: "x"}: "one beside each of x", {}: ""} {
		if each.String() != want {
			t.Errorf("got %q, want %q", each, want)
		}
	}
}

func TestWhereIsEvaluatedOnceForNodesThatAreAlike(t *testing.T) {
	m := NewMatcher()
	a, b, c := &Node{Name: "a", Zone: "1"}, &Node{Name: "b", Zone: "1"}, &Node{Name: "c", Zone: "2", Labels: map[string]string{"x": "1"}}
	if m.Class(a) != m.Class(b) || m.Class(a) == m.Class(c) {
		t.Error("classes are wrong")
	}
	for _, test := range []struct {
		where string
		n     *Node
		want  bool
	}{{"", a, true}, {`zone == "1"`, a, true}, {`zone == "1"`, b, true}, {`zone == "1"`, c, false}, {`name == "a"`, a, true}, {`name == "a"`, b, false}, {`labels.x == "1"`, c, true}, {`labels.name == ""`, b, true}} {
		if got, err := m.Fits(test.where, test.n); got != test.want || err != nil {
			t.Errorf("%s on %s: got %v %v", test.where, test.n.Name, got, err)
		}
	}
	if _, err := m.Fits(`zone ==`, a); err == nil {
		t.Error("half an expression was read")
	}
}
