// Package finding says what is wrong or risky in a draft, what would come of it, and the edit that mends it.
package finding

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/setting"
)

// Severity tells how bad a finding is.
type Severity string

// The severities. A draft with an error cannot be deployed.
const (
	Error Severity = "error"
	Risk  Severity = "risk"
	Hint  Severity = "hint"
)

// Finding is one thing that is wrong or risky.
type Finding struct {
	Severity Severity           `json:"severity"`
	What     string             `json:"what"`           // the rule's name, e.g. "even number of voters"
	Path     []string           `json:"-"`              // where in the field file
	Text     string             `json:"text"`           // what is wrong and what it leads to
	Mend     string             `json:"mend,omitempty"` // what to do about it
	Role     field.RoleName     `json:"role,omitempty"`
	Members  []field.MemberName `json:"members,omitempty"`  // whom it concerns, where it is not all of the role
	Accepted string             `json:"accepted,omitempty"` // why somebody lives with it
	Edits    []Edit             `json:"-"`                  // each of them mends it
}

// Edit is a change of the draft that mends a finding: a role arranged otherwise, or values of the file put anew.
type Edit struct {
	Text   string // what it does: "set members of wardens to 5"
	Change *arrange.Change
	Puts   []arrange.Put
}

// members is the edit that gives a role another number of members.
func (d *draft) members(role field.RoleName, n int) []Edit {
	c, err := arrange.Count(d.Field, role, n)
	if err != nil {
		return nil
	}
	return []Edit{{Text: fmt.Sprintf("set members of %s to %d", role, n), Change: &c}}
}

// spread is the edit that spreads a role in another way.
func (d *draft) spread(role field.RoleName, over field.Spread) []Edit {
	c := arrange.Of(d.Field, role)
	c.Spread = over
	return []Edit{{Text: fmt.Sprintf("let %s spread: %s", role, over), Change: &c}}
}

// put is an edit that writes values.
func put(text string, puts ...arrange.Put) Edit { return Edit{Text: text, Puts: puts} }

// rule is one thing to look for. Each stands alone: a new rule is one function with its test.
type rule func(*draft) []Finding

// draft is what rules look at.
type draft struct {
	*field.Field
	plan  plan.Plan
	site  *place.Site
	nodes map[field.NodeName]*field.Node
	whole bool // every member's templates are executed, however many there are
}

var rules = []rule{cycle, required, templates, portClash, unplaced, evenVoters, votersInOneZone, spreadImpossible, oneZone, singleEntry, nobodyToCall,
	wiring, firstAddress, typedAddress, leaderless, overCeiling, unprobed, blindSteps, experimental, unknownLoad, idleNodes, openSecrets, lockedOut, inTheClear}

// All gives the findings of a draft, the worst first, quickly enough to be asked for after every edit: of a large draft
// the templates of a few members of each role are executed.
func All(f *field.Field) []Finding { return all(&draft{Field: f}) }

// Whole is All with the templates of every member executed.
func Whole(f *field.Field) []Finding { return all(&draft{Field: f, whole: true}) }

func all(d *draft) []Finding {
	f := d.Field
	if found := cycle(d); len(found) > 0 {
		return accept(f, found) // without an order of deployment nothing else can be said
	}
	d.plan = plan.Make(f, plan.Live{})
	var standing []place.Member
	standing = append(standing, d.plan.Adds...)
	d.site = place.NewSite(f, standing)
	d.nodes = f.NodesByName()
	var all []Finding
	for _, r := range rules {
		all = append(all, r(d)...)
	}
	all = accept(f, all)
	slices.SortStableFunc(all, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(truth(a.Accepted != ""), truth(b.Accepted != "")), cmp.Compare(rank(a.Severity), rank(b.Severity)))
	})
	return all
}

func truth(b bool) int {
	if b {
		return 1
	}
	return 0
}

// accept marks what the draft says that somebody lives with, and finds what is accepted though it is not there any more.
// An error cannot be accepted: the draft could not be deployed.
func accept(f *field.Field, all []Finding) []Finding {
	for i, a := range f.Accepted {
		met := false
		for j := range all {
			if x := &all[j]; x.What == a.Finding && (a.Role == "" || a.Role == x.Role) {
				met = true
				if x.Severity != Error {
					x.Accepted = a.Reason
				}
			}
		}
		if !met {
			at := strconv.Itoa(i)
			all = append(all, Finding{Severity: Hint, What: "accepted for nothing", Path: []string{"accepted", at}, Role: a.Role,
				Text: fmt.Sprintf("%q is accepted (%s), and nothing of the kind is found any more", a.Finding, a.Reason),
				Mend: "take it out of accepted", Edits: []Edit{put("take it out of accepted", arrange.At("", "accepted", at))}})
		}
	}
	return all
}

// Acceptance is the edit by which somebody lives with a finding from now on.
func (x *Finding) Acceptance(reason string) (Edit, error) {
	if x.Severity == Error {
		return Edit{}, fmt.Errorf("an error cannot be accepted: the draft could not be deployed with it")
	}
	if reason = strings.TrimSpace(reason); reason == "" {
		return Edit{}, fmt.Errorf("say why it is accepted, for those who read the file after you")
	}
	value := "{finding: " + x.What
	if x.Role != "" {
		value += ", role: " + string(x.Role)
	}
	return put("accept: "+x.What, arrange.At(value+", reason: "+strconv.Quote(reason)+"}", "accepted", "+")), nil
}

func rank(s Severity) int { return slices.Index([]Severity{Error, Risk, Hint}, s) }

// HasErrors tells whether there is a finding of severity error.
func HasErrors(all []Finding) bool {
	return slices.ContainsFunc(all, func(f Finding) bool { return f.Severity == Error })
}

// Open counts the findings that nobody has accepted.
func Open(all []Finding) int {
	n := 0
	for i := range all {
		if all[i].Accepted == "" {
			n++
		}
	}
	return n
}

func rolePath(r field.RoleName, rest ...string) []string {
	return append([]string{"roles", string(r)}, rest...)
}

func cycle(d *draft) []Finding {
	path := d.Cycle()
	if path == nil {
		return nil
	}
	names := make([]string, len(path))
	for i, r := range path {
		names[i] = string(r)
	}
	return []Finding{{Severity: Error, What: "cycle", Path: rolePath(path[0]), Role: path[0],
		Text:  fmt.Sprintf("roles wait for each other: %s; none of them could ever start", strings.Join(names, " waits for ")),
		Mend:  "drop one of these `after` or `calls`, or make it `knows`, which hands over addresses without waiting",
		Edits: d.cut(path)}}
}

// cut is the edits by which one role of a cycle waits for the next no more.
func (d *draft) cut(path []field.RoleName) []Edit {
	var edits []Edit
	for i, name := range path[:len(path)-1] {
		r, next := d.Role(name), path[i+1]
		var puts []arrange.Put
		text := ""
		for _, key := range slices.Sorted(maps.Keys(r.Calls)) {
			if r.Calls[key] == next {
				puts = append(puts, arrange.OfRole(name, "", "calls", key), arrange.OfRole(name, string(next), "knows", key))
				text = fmt.Sprintf("let %s know %s, and start without waiting for it", name, next)
			}
		}
		if _, gated := r.After[next]; gated {
			puts = append(puts, arrange.OfRole(name, "", "after", string(next)))
			text = cmp.Or(text, fmt.Sprintf("let %s start without waiting for %s", name, next))
		}
		edits = append(edits, put(text, puts...))
	}
	return edits
}

// required finds settings that a kit requires and that nothing says for some member.
func required(d *draft) []Finding {
	var found []Finding
	for i := range d.Roles {
		r := &d.Roles[i]
		for _, o := range r.Options {
			if !o.Required {
				continue
			}
			var without []field.MemberName
			for _, a := range d.plan.Adds {
				if a.Role != r.Name {
					continue
				}
				if _, said, err := setting.One(d.Field, setting.Member{Name: a.Name, Role: r, Node: d.nodes[a.Node], Here: 1}, o.Name); err == nil && !said {
					without = append(without, a.Name)
				}
			}
			if len(without) == 0 {
				continue
			}
			text := fmt.Sprintf("%s needs a value for its setting %s, which has no default", r.Name, o.Name)
			if o.About != "" {
				text += ": " + o.About
			}
			found = append(found, Finding{Severity: Error, What: "required setting", Path: rolePath(r.Name, "settings", o.Name), Role: r.Name, Members: without, Text: text,
				Mend: fmt.Sprintf("give it one under settings of %s: settings: {%s: VALUE}", r.Name, o.Name)})
		}
	}
	return found
}

func templates(d *draft) []Finding {
	var found []Finding
	for _, e := range review.TryTemplates(d.Field, d.plan.Adds, d.whole) {
		var missing *render.Missing
		if errors.As(e.Err, &missing) {
			continue // which is a finding of its own
		}
		if n := len(e.Path); n > 3 && e.Path[n-1] == "port" { // no template: the name of a port
			found = append(found, Finding{Severity: Error, What: "template", Path: rolePath(e.Role, e.Path...), Role: e.Role,
				Text: fmt.Sprintf("%s of %s asks a port that its program does not have: %v", askWords(e.Path[1:n-2]), e.Role, e.Err), Mend: "correct the name of the port"})
			continue
		}
		found = append(found, Finding{Severity: Error, What: "template", Path: rolePath(e.Role, e.Path...), Role: e.Role,
			Text: fmt.Sprintf("%s of %s cannot be made for %s: %v", strings.Join(e.Path[1:], "."), e.Role, e.Member, e.Err),
			Mend: "correct the template"})
	}
	return found
}

// askWords names what asks a program: "the ready probe", "step 2 of join".
func askWords(path []string) string {
	switch path[0] {
	case "ready", "alive", "progress", "lag", "leader", "roster":
		return "the " + path[0] + " probe"
	}
	if len(path) > 1 {
		if i, err := strconv.Atoi(path[1]); err == nil {
			return fmt.Sprintf("step %d of %s", i+1, path[0])
		}
	}
	return strings.Join(path, ".")
}

// portClash looks for one program that claims a port twice; clashes between members are found by placement.
func portClash(d *draft) []Finding {
	var found []Finding
	for _, r := range d.Roles {
		if r.Program == nil {
			continue
		}
		claimed := map[int]string{}
		for _, name := range r.Program.PortNames() {
			p := r.Program.Ports[name]
			if !p.Fixed() {
				continue
			}
			if other, twice := claimed[p.Port]; twice {
				found = append(found, Finding{Severity: Error, What: "port clash", Path: rolePath(r.Name, "program", "ports", name), Role: r.Name,
					Text: fmt.Sprintf("the ports %s and %s of %s are both %d; no member could listen on both", other, name, r.Name, p.Port),
					Mend: "give one of them another number"})
			}
			claimed[p.Port] = name
		}
	}
	return found
}

// mostEnlarged is up to how many members it is tried by how much a set would have to be larger.
const mostEnlarged = 2000

func counted(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

func singleEntry(d *draft) []Finding {
	var found []Finding
	for _, r := range d.Roles {
		if r.Kind == field.Entry && r.Members == 1 {
			found = append(found, Finding{Severity: Risk, What: "single entry", Path: rolePath(r.Name, "members"), Role: r.Name,
				Text: fmt.Sprintf("%s is the only way in, and it has one member: while that is away, no client gets through", r.Name),
				Mend: "set members to 2", Edits: d.members(r.Name, 2)})
		}
	}
	return found
}

// blindSteps looks for steps whose outcome could not be found out if their answer were lost.
func blindSteps(d *draft) []Finding {
	var found []Finding
	for _, r := range d.Roles {
		for _, procedure := range []order.Procedure{order.Join, order.Promote, order.Leave} {
			for i, step := range render.Steps(r.Program, procedure) {
				if step.DoneWhen != "" {
					continue
				}
				found = append(found, Finding{Severity: Hint, What: "step without done_when", Path: rolePath(r.Name, "program", string(procedure), strconv.Itoa(i)),
					Role: r.Name,
					Text: fmt.Sprintf("%s, step %d, of %s has no done_when: if its answer is lost, whether it has happened cannot be found out, and a person has to look",
						procedure, i+1, r.Name),
					Mend: "say by done_when how the roster's answer shows that it has happened"})
			}
		}
	}
	return found
}
