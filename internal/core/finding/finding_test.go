package finding

import (
	"strings"
	"testing"

	"lanternfield/internal/core/field"
)

func draftOf(nodes string, roles ...field.Role) *field.Field {
	f := &field.Field{Name: "x", Roles: roles, Place: map[field.RoleName][]field.NodeName{}}
	for _, n := range strings.Fields(nodes) {
		name, zone, _ := strings.Cut(n, "@")
		f.Nodes = append(f.Nodes, field.Node{Name: field.NodeName(name), Zone: field.ZoneName(zone)})
	}
	for i := range f.Roles {
		if f.Roles[i].Program == nil {
			f.Roles[i].Program = &field.Program{Command: []string{"x"}}
		}
	}
	field.FillDefaults(f)
	return f
}

var listens = &field.Probe{Call: field.Call{TCP: &field.TCPCall{Port: "p"}}}

func TestEachRuleFindsItsOwn(t *testing.T) {
	three := "a@1 b@2 c@3"
	for _, test := range []struct {
		what     string
		severity Severity
		text     string
		draft    *field.Field
	}{
		{"even number of voters", Risk, "wardens has 4 voters, which survive 1 loss, no more than 3 would",
			draftOf("a@1 b@2 c@3 d@4", field.Role{Name: "wardens", Members: 4, Votes: true})},
		{"even number of voters", Risk, "wardens has 2 voters, which survive 0 losses, no more than 1 would",
			draftOf(three, field.Role{Name: "wardens", Members: 2, Votes: true})},
		{"a majority of voters in one zone", Risk, "2 of the 3 voters of wardens sit in zone 1: if that zone fails, 1 are left of the 2 needed and writes stop",
			draftOf("a@1 b@1 c@2", field.Role{Name: "wardens", Members: 3, Votes: true})},
		{"spread impossible", Risk, "crews has 4 members to be spread over nodes, and only 3 nodes may hold them: some node holds two",
			draftOf(three, field.Role{Name: "crews", Members: 4, Spread: field.SpreadNode})},
		{"spread impossible", Risk, "crews is to be spread over zones, but all nodes that may hold it are in one: if that zone fails, all of it fails",
			draftOf(three, field.Role{Name: "crews", Members: 2, Where: `zone == "1"`})},
		{"over capacity", Error, `crews-1 fits nowhere: excluded by where (zone == "9"): a, b, c`,
			draftOf(three, field.Role{Name: "crews", Members: 1, Where: `zone == "9"`})},
		{"over capacity", Error, `crews-1 to crews-3, 3 members, fit nowhere: excluded by where (zone == "9"): a, b, c`,
			draftOf(three, field.Role{Name: "crews", Members: 3, Spread: field.SpreadNone, Where: `zone == "9"`})},
		{"port clash", Error, "crews-2 fits nowhere: port taken: a (80 is crews-1's)",
			draftOf("a@1", field.Role{Name: "crews", Members: 2, Spread: field.SpreadNone, Program: &field.Program{Command: []string{"x"}, Ready: listens, Ports: map[string]field.Port{"p": {Port: 80}}}})},
		{"port clash", Error, "the ports p and q of crews are both 80; no member could listen on both",
			draftOf("a@1", field.Role{Name: "crews", Members: 1, Program: &field.Program{Command: []string{"x"}, Ready: listens, Ports: map[string]field.Port{"p": {Port: 80}, "q": {Port: 80}}}})},
		{"cycle", Error, "roles wait for each other: a waits for b waits for a; none of them could ever start",
			draftOf(three, field.Role{Name: "a", Members: 1, After: map[field.RoleName]field.Gate{"b": "all"}}, field.Role{Name: "b", Members: 1, Calls: map[string]field.RoleName{"x": "a"}})},
		{"single entry", Risk, "pier is the only way in, and it has one member: while that is away, no client gets through",
			draftOf(three, field.Role{Name: "pier", Kind: field.Entry, Members: 1})},
		{"leader without votes", Hint, "one of crews leads and its members do not vote: when the leader is lost, writes stop until another leads, however many are left",
			draftOf(three, field.Role{Name: "crews", Members: 2, Program: &field.Program{Command: []string{"x"}, Leader: &field.LeaderProbe{Call: field.Call{Exec: []string{"true"}}, IsMe: "true"}}})},
		{"template", Error, `command.1 of crews cannot be made for crews-1: there is no template name ".Membre"; did you mean ".Member"?`,
			draftOf(three, field.Role{Name: "crews", Members: 1, Program: &field.Program{Command: []string{"x", "{{.Membre}}"}}})},
		{"step without done_when", Hint, "leave, step 1, of crews has no done_when: if its answer is lost, whether it has happened cannot be found out, and a person has to look",
			draftOf(three, field.Role{Name: "crews", Members: 1, Program: &field.Program{Command: []string{"x"}, Leave: []field.Step{{Call: field.Call{Exec: []string{"true"}}}}}})},
		{"readable secret", Risk, "it.conf of crews holds a secret, and with mode 0640 others than its owner may read it",
			draftOf(three, field.Role{Name: "crews", Members: 1, Program: &field.Program{Command: []string{"x"}, Files: map[string]field.File{
				"it.conf": {Template: `{{.Secret "a"}}`, Mode: "0640"}, "its.conf": {Template: `{{.Secret "a"}}`}, "open.conf": {Template: "x", Mode: "0644"}}}})},
		{"file out of reach", Risk, "its.conf of crews is written once and is the program's from then on, but ferry may make and replace files in its data folder only",
			draftOf(three, field.Role{Name: "crews", Members: 1, Program: &field.Program{Command: []string{"x"}, User: "ferry", Files: map[string]field.File{
				"its.conf": {Template: "x", Once: true}, "data/own.conf": {Template: "x", Once: true}}}})},
		{"template", Error, `hand_over.0.exec.0 of crews cannot be made for crews-1: there is no template name ".Heir"; did you mean ".Dir"?`,
			draftOf(three, field.Role{Name: "crews", Members: 1, Program: &field.Program{Command: []string{"x"},
				HandOver: []field.Step{{Call: field.Call{Exec: []string{"{{.Heir.ID}}"}}}}}})},
	} {
		found := All(test.draft)
		if len(found) != 1 || found[0].What != test.what || found[0].Severity != test.severity || found[0].Text != test.text || found[0].Mend == "" {
			t.Errorf("%s: got %+v, want %s: %s", test.what, found, test.severity, test.text)
		}
	}
}

// TestEveryOfferedEditMends makes each edit that is offered: the finding must be gone, and the draft must not get worse.
func TestEveryOfferedEditMends(t *testing.T) {
	pinned := draftOf("a@1 b@2 c@3", field.Role{Name: "wardens", Members: 3, Votes: true})
	pinned.Place["wardens"] = []field.NodeName{"a", "a"}
	offered := 0
	for _, draft := range []*field.Field{
		pinned,
		draftOf("a@1 b@2 c@3 d@4 e@5", field.Role{Name: "wardens", Members: 4, Votes: true}),
		draftOf("a@1 a2@1 b@2 b2@2 c@3", field.Role{Name: "wardens", Members: 3, Votes: true, Spread: field.SpreadNone}),
		draftOf("a@1 b@2 c@3", field.Role{Name: "crews", Members: 4, Spread: field.SpreadNode}),
		draftOf("a@1 b@2 c@3", field.Role{Name: "crews", Members: 2, Where: `zone == "1"`}),
		draftOf("a@1 b@2 c@3", field.Role{Name: "crews", Members: 1, Where: `zone == "9"`}),
		draftOf("a@1", field.Role{Name: "crews", Members: 2, Spread: field.SpreadNone, Program: &field.Program{Command: []string{"x"}, Ports: map[string]field.Port{"p": {Port: 80}}}}),
		draftOf("a@1 b@2 c@3", field.Role{Name: "pier", Kind: field.Entry, Members: 1}),
	} {
		before := All(draft)
		for _, f := range before {
			for _, e := range f.Edits {
				offered++
				if e.Change == nil {
					continue // that is values of a file; see package fieldfile
				}
				after := All(e.Change.On(draft))
				for _, left := range after {
					if left.What == f.What && left.Role == f.Role && left.Severity == f.Severity {
						t.Errorf("%s: %s leaves: %s", f.Text, e.Text, left.Text)
					}
				}
				if HasErrors(after) && !HasErrors(before) {
					t.Errorf("%s: %s leads to %+v", f.Text, e.Text, after)
				}
			}
		}
		if len(before) == 0 || len(before[0].Edits) == 0 {
			t.Errorf("nothing is found, or no edit is offered: %+v", before)
		}
	}
	if offered < 9 {
		t.Errorf("only %d edits were offered", offered)
	}
}

func TestASoundDraftHasNoFindings(t *testing.T) {
	f := draftOf("a@1 b@2 c@3", field.Role{Name: "wardens", Kind: field.Master, Members: 3, Votes: true, Program: &field.Program{Command: []string{"x"}, Ready: &field.Probe{Call: field.Call{Exec: []string{"true"}}}}},
		field.Role{Name: "crews", Members: 6, Calls: map[string]field.RoleName{"store": "wardens"}}, field.Role{Name: "pier", Kind: field.Entry, Members: 2})
	if found := All(f); len(found) > 0 {
		t.Errorf("got %+v", found)
	}
}

// TestOneMemberOfManyIsNotOverlooked breaks the template of one member in the middle of a large role. While a draft is
// edited a few members are looked at; before anything is done all are.
func TestOneMemberOfManyIsNotOverlooked(t *testing.T) {
	f := draftOf("a@1 b@1", field.Role{Name: "crews", Members: 300, Spread: field.SpreadNone,
		Program: &field.Program{Command: []string{"x", `{{if eq .Member "crews-150"}}{{.Setting "nowhere"}}{{end}}`}}})
	is := func(found []Finding) bool {
		for _, x := range found {
			if x.What == "template" && strings.Contains(x.Text, "cannot be made for crews-150") {
				return true
			}
		}
		return false
	}
	if is(All(f)) {
		t.Error("the quick look goes through every member; then it is not quick for 50,000")
	}
	if !is(Whole(f)) {
		t.Error("the broken template of crews-150 is not found")
	}
}
