// Package finding says what is wrong or risky in a draft, what would come of it, and the edit that mends it.
package finding

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"sort"
	"strconv"
	"strings"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/quorum"
	"lanternfield/internal/core/render"
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

var rules = []rule{cycle, templates, portClash, unplaced, evenVoters, votersInOneZone, spreadImpossible, oneZone, singleEntry, nobodyToCall,
	wiring, firstAddress, leaderless, overCeiling, unprobed, blindSteps, experimental, unknownLoad, idleNodes}

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

// Worst tells whether there is a finding of severity error.
func Worst(all []Finding) bool {
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

func templates(d *draft) []Finding {
	var found []Finding
	for _, e := range engine.TryTemplates(d.Field, d.plan.Adds, d.whole) {
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
	case "ready", "alive", "leader", "roster":
		return "the " + path[0] + " probe"
	}
	if len(path) > 1 {
		if i, err := strconv.Atoi(path[1]); err == nil {
			return fmt.Sprintf("step %d of %s", i+1, path[0])
		}
	}
	return strings.Join(path, ".")
}

// leaderless looks for roles in which one leads and nobody votes: what its loss means is easily taken too lightly.
func leaderless(d *draft) []Finding {
	var found []Finding
	for _, r := range d.Roles {
		if r.Votes || r.Members < 2 || r.Program == nil || r.Program.Leader == nil {
			continue
		}
		found = append(found, Finding{Severity: Hint, What: "leader without votes", Path: rolePath(r.Name), Role: r.Name,
			Text: fmt.Sprintf("one of %s leads and its members do not vote: when the leader is lost, writes stop until another leads, however many are left", r.Name),
			Mend: "know what makes another lead, by itself or by hand, and accept this with that as the reason; or say votes: true if its members elect who leads"})
	}
	return found
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

func unplaced(d *draft) []Finding {
	var found []Finding
	all := d.plan.Unplaced
	for from := 0; from < len(all); {
		to := from + 1
		for to < len(all) && all[to].Role == all[from].Role && all[to].Why == all[from].Why {
			to++
		}
		u, what, text := all[from], "over capacity", fmt.Sprintf("%s fits nowhere: %s", all[from].Member, all[from].Why)
		if to-from > 1 {
			text = fmt.Sprintf("%s to %s, %d members, fit nowhere: %s", u.Member, all[to-1].Member, to-from, u.Why)
		}
		if strings.Contains(u.Why, "port taken") && !strings.Contains(u.Why, "too little") {
			what = "port clash"
		}
		if len(u.Conflict) > 1 {
			text += ". No node meets all of these: " + strings.Join(u.Conflict, "; ")
		}
		more, full := d.larger(u.Role, to-from)
		text += d.sharing()
		mend := mendUnplaced(what, d.Role(u.Role))
		if full != "" {
			text += ". " + full
			mend = "let the set have more nodes (most), " + mend
		}
		found = append(found, Finding{Severity: Error, What: what, Path: rolePath(u.Role), Role: u.Role, Text: text, Mend: mend,
			Edits: slices.Concat(more, d.freed(u, to-from), d.fewer(u.Role))})
		from = to
	}
	return found
}

// freed is the edits that make room for members that fit nowhere.
func (d *draft) freed(u place.Unplaced, members int) []Edit {
	r := d.Role(u.Role)
	var edits []Edit
	seen := map[string]bool{}
	for _, free := range u.Frees {
		var puts []arrange.Put
		var texts []string
		for _, c := range free.Drops {
			value, text, path := "", "", []string(nil)
			switch c {
			case place.ByOut:
				edits = append(edits, put(fmt.Sprintf("bring %s back", free.Node), arrange.At("", "nodes", string(free.Node), "out")))
			case place.ByWhere:
				path, text = []string{"where"}, "let "+string(u.Role)+" stand anywhere (take out where)"
			case place.ByApart:
				if len(r.Apart) > 0 {
					path, text = []string{"apart"}, "let "+string(u.Role)+" share nodes"
				}
			case place.ByBeside:
				if len(r.Beside) > 0 {
					path, text = []string{"beside"}, "let "+string(u.Role)+" stand alone"
				}
			case place.ByPin:
				if c := arrange.Of(d.Field, u.Role); len(c.Pins) > 0 {
					c.Pins = nil
					edits = append(edits, Edit{Text: fmt.Sprintf("take the pins off %s", u.Role), Change: &c})
				}
			case place.ByCPU, place.ByMemory:
				path, value, text = d.lowered(r, c)
			}
			if path == nil {
				puts = nil
				break
			}
			puts, texts = append(puts, arrange.OfRole(u.Role, value, path...)), append(texts, text)
		}
		if text := strings.Join(texts, ", and "); len(puts) == len(free.Drops) && len(puts) > 0 && !seen[text] {
			seen[text] = true
			edits = append(edits, put(text, puts...))
		}
	}
	return slices.DeleteFunc(edits, func(e Edit) bool { return !d.frees(e, u.Role) })
}

// lowered keeps less room for each member of a role, so that all of them fit as evenly as they are many.
func (d *draft) lowered(r *field.Role, c place.Constraint) (path []string, value, text string) {
	nodes := d.site.Eligible(r)
	if len(nodes) == 0 {
		return nil, "", ""
	}
	each := (r.Members + len(nodes) - 1) / len(nodes) // on one node
	least := field.Size{CPU: r.Room.CPU, Memory: r.Room.Memory}
	uses := d.site.Uses()
	here := map[field.NodeName]int{}
	for _, a := range d.plan.Adds {
		if a.Role == r.Name {
			here[a.Node]++
		}
	}
	for _, n := range nodes {
		u := uses[n.Name]
		if u.Offered.CPU > 0 {
			least.CPU = min(least.CPU, (u.Offered.CPU-u.Used.CPU+float64(here[n.Name])*r.Room.CPU)/float64(each))
		}
		if u.Offered.Memory > 0 {
			least.Memory = min(least.Memory, (u.Offered.Memory-u.Used.Memory+field.Bytes(here[n.Name])*r.Room.Memory)/field.Bytes(each))
		}
	}
	switch mib := least.Memory >> 20; {
	case c == place.ByCPU && least.CPU >= 0.01:
		cpu := strconv.FormatFloat(math.Floor(least.CPU*100)/100, 'f', -1, 64)
		return []string{"room", "cpu"}, cpu, fmt.Sprintf("keep %s cores for each of %s, which all nodes have", cpu, r.Name)
	case c == place.ByMemory && mib > 0:
		return []string{"room", "memory"}, fmt.Sprintf("%dMiB", mib), fmt.Sprintf("keep %d MiB for each of %s, which all nodes have", mib, r.Name)
	}
	return nil, "", ""
}

// sharing names the other fields that keep something of the nodes; empty where there are none.
func (d *draft) sharing() string {
	var fields []string
	nodes := 0
	for i := range d.Nodes {
		if o := d.Nodes[i].Others; o != nil {
			nodes++
			for _, f := range o.Fields {
				if !slices.Contains(fields, f) {
					fields = append(fields, f)
				}
			}
		}
	}
	if nodes == 0 {
		return ""
	}
	slices.Sort(fields)
	return fmt.Sprintf(". Members of %s keep a part of %d of these nodes", strings.Join(fields, ", "), nodes)
}

// mostEnlarged is up to how many members it is tried by how much a set would have to be larger.
const mostEnlarged = 2000

// larger is the edits that let a set have the nodes which members of a role want, and a sentence about sets that have all
// of theirs.
func (d *draft) larger(role field.RoleName, members int) (edits []Edit, full string) {
	sets := d.Sets()
	for _, name := range slices.Sorted(maps.Keys(sets)) {
		count := sets[name]
		if count.There < count.Most {
			continue // it could have more already, and they would not help
		}
		if full = fmt.Sprintf("All %d nodes of the set %s are there", count.Most, name); count.Most == 1 {
			full = fmt.Sprintf("The only node of the set %s is there", name)
		}
		if len(d.plan.Adds) > mostEnlarged {
			continue
		}
		placed := func(more int) bool {
			f := plan.Grow(d.enlarged(name, more), plan.Live{})
			return !slices.ContainsFunc(plan.Make(f, plan.Live{}).Unplaced, func(u place.Unplaced) bool { return u.Role == role })
		}
		if more := 1 + sort.Search(members, func(n int) bool { return placed(1 + n) }); more <= members {
			edits = append(edits, put(fmt.Sprintf("let the set %s have up to %d nodes", name, count.Most+more),
				arrange.At(strconv.Itoa(count.Most+more), "nodes", name, "set", "most")))
		}
	}
	return edits, full
}

// enlarged is the field with more extra nodes in a set, made as the others are.
func (d *draft) enlarged(set string, more int) *field.Field {
	f := *d.Field
	f.Extras = slices.Clone(f.Extras)
	var of []field.Node
	for _, n := range d.Possible() {
		if n.Set == set {
			of = append(of, n)
		}
	}
	var zones []field.ZoneName // of one turn
	for _, n := range of {
		if slices.Contains(zones, n.Zone) {
			break
		}
		zones = append(zones, n.Zone)
	}
	for i := range more {
		n := of[0]
		number := len(of) + i
		n.Name, n.Zone, n.Extra = field.NodeName(fmt.Sprintf("%s-%d", set, number+1)), zones[number%len(zones)], true
		f.Extras = append(f.Extras, n)
	}
	return &f
}

// frees tells whether an edit that is known as values would place all of a role.
func (d *draft) frees(e Edit, role field.RoleName) bool {
	f := *d.Field
	f.Roles, f.Nodes = slices.Clone(f.Roles), slices.Clone(f.Nodes)
	if e.Change != nil {
		f = *e.Change.On(&f)
	}
	r := f.Role(role)
	for _, p := range e.Puts {
		switch p.Path[len(p.Path)-1] {
		case "out":
			f.Node(field.NodeName(p.Path[1])).Out = ""
		case "where":
			r.Where = ""
		case "apart":
			r.Apart = nil
		case "beside":
			r.Beside = nil
		case "cpu":
			r.Room.CPU, _ = strconv.ParseFloat(p.Value, 64)
		case "memory":
			r.Room.Memory, _ = field.ParseBytes(p.Value)
		}
	}
	field.Resolve(&f)
	return !slices.ContainsFunc(plan.Make(&f, plan.Live{}).Unplaced, func(u place.Unplaced) bool { return u.Role == role })
}

// fewer is the edit by which a role has as many members as fit.
func (d *draft) fewer(role field.RoleName) []Edit {
	fit := 0
	for _, a := range d.plan.Adds {
		if a.Role == role {
			fit++
		}
	}
	return d.members(role, fit)
}

func mendUnplaced(what string, role *field.Role) string {
	if what == "port clash" {
		return fmt.Sprintf("give the port a range (from, to), add a node, or lower the members of %s", role.Name)
	}
	lower := "the members"
	if role.Room != (field.Size{}) {
		lower = "the room or the members"
	}
	text := fmt.Sprintf("add a node, or lower %s of %s", lower, role.Name)
	if role.Where != "" {
		text += ", or widen its where"
	}
	return text
}

func evenVoters(d *draft) []Finding {
	var found []Finding
	for _, r := range d.Roles {
		if !r.Votes || r.Members == 0 || r.Members%2 == 1 {
			continue
		}
		n := quorum.Tolerates(r.Members)
		text := fmt.Sprintf("%s has %d voters, which survive %d %s, no more than %d would", r.Name, r.Members, n, losses(n), r.Members-1)
		found = append(found, Finding{Severity: Risk, What: "even number of voters", Path: rolePath(r.Name, "members"), Role: r.Name, Text: text,
			Mend: fmt.Sprintf("set members to %d, which survive %d %s, or to %d", r.Members+1, quorum.Tolerates(r.Members+1),
				losses(quorum.Tolerates(r.Members+1)), r.Members-1),
			Edits: append(d.members(r.Name, r.Members+1), d.members(r.Name, r.Members-1)...)})
	}
	return found
}

func losses(n int) string {
	if n == 1 {
		return "loss"
	}
	return "losses"
}

func votersInOneZone(d *draft) []Finding {
	var found []Finding
	zones := d.Zones()
	for _, r := range d.Roles {
		if !r.Votes || r.Members < 2 || len(zones) < 2 {
			continue
		}
		per := map[field.ZoneName]int{}
		for _, a := range d.plan.Adds {
			if a.Role == r.Name {
				per[d.nodes[a.Node].Zone]++
			}
		}
		for _, z := range zones {
			if left := r.Members - per[z]; left < quorum.Needed(r.Members) && r.Members >= 3 {
				found = append(found, Finding{Severity: Risk, What: "a majority of voters in one zone", Path: rolePath(r.Name), Role: r.Name,
					Text: fmt.Sprintf("%d of the %d voters of %s sit in zone %s: if that zone fails, %d are left of the %d needed and writes stop",
						per[z], r.Members, r.Name, z, left, quorum.Needed(r.Members)),
					Mend:  d.apartFrom(&r, 3),
					Edits: d.loosen(&r)})
			}
		}
	}
	return found
}

// apartFrom says how a role comes to stand in so many zones, by what is not so yet.
func (d *draft) apartFrom(r *field.Role, zones int) string {
	there := map[field.ZoneName]bool{}
	for _, n := range d.site.Eligible(r) {
		there[n.Zone] = true
	}
	var ways []string
	if len(d.Place[r.Name]) > 0 {
		ways = append(ways, "change its pins under place")
	}
	if r.Spread != field.SpreadZone && len(there) >= zones {
		ways = append(ways, "say spread: zone")
	}
	if len(there) < zones {
		where := ""
		if r.Where != "" && len(d.Zones()) > len(there) {
			where = ", or widen its where"
		}
		ways = append(ways, fmt.Sprintf("give it nodes in %s (those that may hold it are in %d)%s", counted(zones, "zone"), len(there), where))
	}
	if len(ways) == 0 {
		ways = append(ways, "make room on the nodes of the other zones")
	}
	return strings.Join(ways, ", or ")
}

func counted(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// loosen takes the pins off a role, or lets it spread over zones.
func (d *draft) loosen(r *field.Role) []Edit {
	if len(d.Place[r.Name]) > 0 {
		c := arrange.Of(d.Field, r.Name)
		c.Pins = nil
		if r.Spread != field.SpreadZone {
			c.Spread = field.SpreadZone
		}
		return []Edit{{Text: fmt.Sprintf("take the pins off %s, so that it spreads by itself", r.Name), Change: &c}}
	}
	if r.Spread != field.SpreadZone && len(d.Zones()) >= 3 {
		return d.spread(r.Name, field.SpreadZone)
	}
	return nil
}

func spreadImpossible(d *draft) []Finding {
	var found []Finding
	for i := range d.Roles {
		r := &d.Roles[i]
		if r.Members < 2 || r.Spread == field.SpreadNone {
			continue
		}
		nodes := d.site.Eligible(r)
		other := field.SpreadNode // what it can spread over, where not over zones
		if len(nodes) < r.Members {
			other = field.SpreadNone
		}
		zones := map[field.ZoneName]bool{}
		for _, n := range nodes {
			zones[n.Zone] = true
		}
		switch {
		case len(nodes) == 0:
		case r.Spread == field.SpreadNode && len(nodes) < r.Members:
			found = append(found, Finding{Severity: Risk, What: "spread impossible", Path: rolePath(r.Name, "spread"), Role: r.Name,
				Text: fmt.Sprintf("%s has %d members to be spread over nodes, and only %d %s may hold them: some node holds two",
					r.Name, r.Members, len(nodes), nodesWord(len(nodes))),
				Mend:  "add nodes, lower members, or say spread: none",
				Edits: append(d.members(r.Name, len(nodes)), d.spread(r.Name, field.SpreadNone)...)})
		case r.Spread == field.SpreadZone && len(zones) < 2 && len(d.Zones()) > 1:
			found = append(found, Finding{Severity: Risk, What: "spread impossible", Path: rolePath(r.Name, "where"), Role: r.Name,
				Text: fmt.Sprintf("%s is to be spread over zones, but all nodes that may hold it are in one: if that zone fails, all of it fails", r.Name),
				Mend: d.apartFrom(r, 2) + ", or say spread: " + string(other), Edits: d.spread(r.Name, other)})
		case r.Votes && r.Members >= 3 && len(d.Zones()) == 1 && r.Spread == field.SpreadZone:
			found = append(found, Finding{Severity: Hint, What: "spread impossible", Path: rolePath(r.Name, "spread"), Role: r.Name,
				Text: fmt.Sprintf("%s is to be spread over zones, and the field has one zone: nothing survives the loss of that zone", r.Name),
				Mend: "name the zones of the nodes, or say spread: node", Edits: d.spread(r.Name, other)})
		}
	}
	return found
}

func nodesWord(n int) string {
	if n == 1 {
		return "node"
	}
	return "nodes"
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
