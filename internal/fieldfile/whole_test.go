package fieldfile

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/setting"
)

func whole(t *testing.T, env string) (*File, error) {
	t.Helper()
	return Load("testdata/good/whole.field.yaml", env)
}

func TestWholeTopologyIsRead(t *testing.T) {
	file, err := whole(t, "")
	if err != nil {
		t.Fatal(err)
	}
	f := file.Field
	members := map[field.RoleName]int{}
	for _, r := range f.Roles {
		members[r.Name] = r.Members
	}
	for role, want := range map[field.RoleName]int{"wardens": 3, "relays": 2, "crews": 2, "watch": 3, "helpers": 2} {
		if members[role] != want {
			t.Errorf("%s has %d members, want %d", role, members[role], want)
		}
	}
	if f.Name != "saltmarsh-trial" || f.Role("wardens").Room.Memory != 128<<20 || f.Role("wardens").Taken().Disk != 2<<30 {
		t.Errorf("variables: %s, %+v", f.Name, f.Role("wardens"))
	}
	if got := f.Role("helpers").Program.Command[2]; got != "exec sleep ${SECONDS_TO_WAIT}" {
		t.Errorf("what is the shell's became %q", got)
	}
	if n := f.Node("gull-2"); n.Offered() != (field.Size{CPU: 1.5, Memory: 768 << 20, Disk: 10 << 30}) || n.Price != 0.04 {
		t.Errorf("gull-2 offers %+v", n.Offered())
	}
	if f.Node("tern-4").Out != "waits for a new disk" || len(f.Accepted) != 1 {
		t.Errorf("got %+v %+v", f.Node("tern-4"), f.Accepted)
	}
	p := plan.Make(f, plan.Live{})
	at := map[field.MemberName]field.NodeName{}
	for _, a := range p.Adds {
		at[a.Name] = a.Node
	}
	if len(p.Unplaced) > 0 || len(p.Adds) != 12 {
		t.Fatalf("%d placed, %+v", len(p.Adds), p.Unplaced)
	}
	for _, i := range []int{1, 2} {
		if at[field.RoleName("helpers").Member(i)] != at[field.RoleName("crews").Member(i)] && at["helpers-1"] == at["helpers-2"] {
			t.Errorf("helpers are not beside crews: %v", at)
		}
	}
}

// TestSettingsComeFromTheNearestLevel follows one setting up all levels.
func TestSettingsComeFromTheNearestLevel(t *testing.T) {
	file, err := whole(t, "")
	if err != nil {
		t.Fatal(err)
	}
	f := file.Field
	crews := f.Role("crews")
	value := func(member field.MemberName, node field.NodeName, name string) string {
		v, ok, err := setting.One(f, setting.Member{Name: member, Role: crews, Node: f.Node(node), Here: 1}, name)
		if !ok || err != nil {
			t.Fatalf("%s: %v %v", name, ok, err)
		}
		said := string(v.Value) + " by " + string(v.Level)
		for _, o := range v.Over {
			said += ", over " + string(o.Value)
		}
		return said
	}
	for _, test := range []struct {
		member     field.MemberName
		node       field.NodeName
		name, want string
	}{
		{"crews-2", "tern-1", "takes", "90ms by the member, over 80ms, over 60ms, over 20ms, over 50ms"},
		{"crews-1", "tern-1", "takes", "80ms by the node, over 60ms, over 20ms, over 50ms"},
		{"crews-1", "gull-1", "takes", "70ms by the zone, over 60ms, over 20ms, over 50ms"},
		{"crews-1", "tern-4", "takes", "60ms by the role, over 20ms, over 50ms"},
		{"crews-1", "gull-1", "start_delay", "1s by the field, over 0s"},
		{"crews-1", "gull-1", "fail", "none by the kit's default"},
	} {
		if got := value(test.member, test.node, test.name); got != test.want {
			t.Errorf("%s of %s on %s: got %q, want %q", test.name, test.member, test.node, got, test.want)
		}
	}
	v, _, err := setting.One(f, setting.Member{Name: "relays-1", Role: f.Role("relays"), Node: f.Node("gull-1"), Here: 1}, "keeps")
	if v.Value != "96MiB" || v.Level != setting.Hardware || err != nil { // an eighth of 768 MiB
		t.Errorf("keeps follows from the hardware: got %+v %v", v, err)
	}
}

func TestAnEnvironmentChoosesVariables(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "it.field.yaml")
	data, _ := os.ReadFile("testdata/good/whole.field.yaml")
	put := func(name, text string) {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	put("it.field.yaml", string(data))
	put("it.staging.choices.yaml", "stage: staging\ncrews: 5\n")
	f, err := Load(file, "staging")
	if err != nil || f.Field.Name != "saltmarsh-staging" || f.Field.Role("crews").Members != 5 || f.Field.Role("helpers").Members != 5 {
		t.Fatalf("got %v, %v", f, err)
	}
	put("it.field.yaml", strings.Replace(string(data), "saltmarsh-${stage}", "saltmarsh", 1))
	if f, err := Load(file, "staging"); err != nil || f.Field.Name != "saltmarsh-staging" {
		t.Errorf("an environment is a field of its own: %v", err)
	}
	for _, test := range []struct{ choices, text, want string }{
		{"crews: 12\n", "", "crews is 12, and it may be at most 9"},
		{"crews: many\n", "", `"many" is not a whole number`},
		{"stage: live\n", "", `stage cannot be "live": it is one of trial, staging`},
		{"crew: 3\n", "", `did you mean "crews"?`},
		{"", "half: ${both}", "variables refer to each other in a circle: "},
		{"", "half: {about: none}", "the variable half has no value"},
		{"", "half: ${hlaf}", `there is no variable "hlaf"`},
	} {
		text := string(data)
		if test.text != "" {
			text = strings.Replace(text, "half: 128MiB", test.text, 1)
		}
		put("it.field.yaml", text)
		put("it.staging.choices.yaml", test.choices+"stage: staging\n")
		if strings.HasPrefix(test.choices, "stage") {
			put("it.staging.choices.yaml", test.choices)
		}
		if _, err := Load(file, "staging"); err == nil || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%s%s: got %v, want %q", test.choices, test.text, err, test.want)
		}
	}
	if _, err := Load(file, "production"); err == nil || !strings.Contains(err.Error(), "it.production.choices.yaml: there is no such file") {
		t.Errorf("got %v", err)
	}
}

func TestTopologyThatContradictsItself(t *testing.T) {
	data, _ := os.ReadFile("testdata/good/whole.field.yaml")
	for _, test := range []struct{ from, to, want string }{
		{"apart: [relays]", "apart: [relays], beside: [relays]", "wardens must be beside relays and apart from it at once"},
		{"apart: [relays]", "apart: [wardens]", "wardens names itself under apart"},
		{"apart: [relays]", "apart: [relais]", `did you mean "relays"?`},
		{"apart: [relays]", "beside: [helpers]", ""},
		{"{beside: crews}", "{beside: helpers}", "helpers names itself under members"},
		{"{beside: crews}", "{per-zone: 0}", "it must be at least 1"},
		{"members: each-node", "members: every-node", "write a number, each-node, {per-zone: N}, or {beside: ROLE}"},
		{"takes: 60ms", "takes: soon", `"soon" is not a length of time`},
		{"takes: 60ms", "take: 60ms", `did you mean "takes"?`},
		{"start_delay: 1s", "start_dealy: 1s", `did you mean "start_delay"?`},
		{"crews-2: {", "relays-2: {", "can be no member of crews"},
		{"  north-quay:\n    about", "  north-key:\n    about", "zones names \"north-key\""},
		{"memory: 256MiB}", "memory: 2GiB}", "all of the memory of gull-1 is reserved"},
		{"accepted:", "place: {crews: [tern-4]}\naccepted:", "place pins crews to tern-4, which is taken out (waits for a new disk)"},
		{"accepted:", "place: {watch: [gull-1]}\naccepted:", "so there is nothing to pin"},
		{"role: wardens, reason", "role: warden, reason", "accepted names a role"},
	} {
		text := strings.Replace(string(data), test.from, test.to, 1)
		if text == string(data) {
			t.Fatalf("%s: nothing was changed", test.from)
		}
		_, err := Parse("x.field.yaml", []byte(text), nil)
		if test.want == "" && err != nil || test.want != "" && (err == nil || !strings.Contains(err.Error(), test.want)) {
			t.Errorf("%s: got %v, want %q", test.to, err, test.want)
		}
	}
}

// TestThePageAboutTheFileIsTrue reads the example of docs/fieldfile.md.
func TestThePageAboutTheFileIsTrue(t *testing.T) {
	page, err := os.ReadFile("../../docs/fieldfile.md")
	if err != nil {
		t.Fatal(err)
	}
	_, text, _ := strings.Cut(string(page), "```yaml\n")
	text, _, _ = strings.Cut(text, "```")
	f, err := Parse("fieldfile.md", []byte(text), nil)
	if err != nil || len(f.Field.Roles) != 5 {
		t.Errorf("got %v", err)
	}
}

// TestManyNodesAreStillLookedAtOneByOneWhenSomethingIsWrong puts one mistake among many nodes that are alike.
func TestManyNodesAreStillLookedAtOneByOneWhenSomethingIsWrong(t *testing.T) {
	text := "format: 1\nfield: many\nnodes:\n"
	for i := range 300 {
		text += fmt.Sprintf("  - {name: n-%d, zone: north, size: {cpu: 2}}\n", i)
	}
	text += "roles: {x: {program: {command: [x]}}}\n"
	file, err := Parse("many.field.yaml", []byte(text), nil)
	if err != nil || len(file.Field.Nodes) != 300 || file.Field.Nodes[299].Name != "n-299" || file.Field.Nodes[7].Size.CPU != 2 {
		t.Fatalf("got %v", err)
	}
	for from, want := range map[string]string{
		"n-250, zone: north": "many.field.yaml:254:25: nodes.250.zone cannot be",
		"name: n-251,":       "many.field.yaml:255:12: nodes.251.name cannot be",
		"n-252, zone":        "nodes.252",
		"{name: n-253, ":     "nodes.253 lacks name",
	} {
		to := map[string]string{"n-250, zone: north": "n-250, zone: North", "name: n-251,": "name: N_251,", "n-252, zone": "n-252, zoen", "{name: n-253, ": "{"}[from]
		if _, err := Parse("many.field.yaml", []byte(strings.Replace(text, from, to, 1)), nil); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: got %v, want %q", to, err, want)
		}
	}
}
