package field

import (
	"encoding/json"
	"fmt"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"
)

func reasonOf(out Text) string {
	if out == "" || out == "true" {
		return ""
	}
	return " (" + string(out) + ")"
}

// neighbours checks which roles must, and must not, share nodes.
func (v *validator) neighbours() {
	for i := range v.Roles {
		r := &v.Roles[i]
		at := func(rest ...string) []string { return append([]string{"roles", string(r.Name)}, rest...) }
		for j, other := range r.Beside {
			v.refer(at("beside", strconv.Itoa(j)), r.Name, other, "beside")
		}
		for j, other := range r.Apart {
			v.refer(at("apart", strconv.Itoa(j)), r.Name, other, "apart")
			if slices.Contains(r.Neighbours(), other) {
				v.add(at("apart", strconv.Itoa(j)), "take it out of one of the two", "%s must be beside %s and apart from it at once", r.Name, other)
			} else if o := v.Role(other); o != nil && slices.Contains(o.Neighbours(), r.Name) {
				v.add(at("apart", strconv.Itoa(j)), "take it out of one of the two", "%s must be apart from %s, which must be beside it", r.Name, other)
			}
		}
		if r.Each.Beside != "" {
			v.refer(at("members", "beside"), r.Name, r.Each.Beside, "members")
		}
		if r.Votes && r.Each != (Each{}) && r.Each.Beside == "" && r.Each.Zone == 0 {
			v.add(at("members"), "give members a number", "%s votes, and with %s every node that comes or goes would change its quorum", r.Name, r.Each)
		}
		for name := range r.SettingsOf {
			if !strings.HasPrefix(string(name), string(r.Name)+"-") {
				v.add(at("settings_of", string(name)), "members are named like "+string(r.Name.Member(1)), "settings_of names %q, which can be no member of %s", name, r.Name)
			}
		}
	}
	if path := v.BesideCycle(); len(path) > 2 { // who names itself is told so already
		words := make([]string, len(path))
		for i, p := range path {
			words[i] = string(p)
		}
		v.add([]string{"roles", words[0]}, "say beside at one of the two only; it holds for both",
			"roles must each be beside the next: %s; none of them could be placed first", strings.Join(words, " beside "))
	}
}

// outside checks what is said of something that is not ours.
func (v *validator) outside(r *Role, at func(...string) []string) {
	e := r.External
	switch {
	case e.Field != "" && e.Role == "":
		v.add(at("external"), "say role: ROLE, as that field has it", "%s is a role of the field %s, and it is not said which", r.Name, e.Field)
	case e.Role != "" && e.Field == "":
		v.add(at("external", "role"), "say field: FIELD too", "%s is %s of another field, and it is not said of which", r.Name, e.Role)
	case e.Field != "" && e.Field == v.Name:
		v.add(at("external", "field"), fmt.Sprintf("call %s itself", e.Role), "%s is this field, whose roles are called by their names", e.Field)
	case e.Field != "" && len(e.Addresses) > 0:
		v.add(at("external", "addresses"), "take them out: they are handed over, and follow that role", "%s is %s of %s, which says itself where that is", r.Name, e.Role, e.Field)
	}
	for key, said := range map[string]string{"scheme": e.Scheme, "path": e.Path, "authority": e.Authority} {
		if e.Field != "" && said != "" {
			v.add(at("external", key), "take it out", "%s is %s of %s, which says itself how one gets in there", r.Name, e.Role, e.Field)
		}
	}
	if e.Field == "" && e.Role == "" && len(e.Addresses) == 0 {
		v.add(at("external"), "say addresses: [HOST:PORT], or field: FIELD and role: ROLE", "it is not said where %s is: neither addresses nor another field's role", r.Name)
	} else if e.Field == "" && e.Role == "" && len(e.Addresses) < max(1, e.Need) {
		v.add(at("external"), "", "%s needs %d addresses to answer, and has %d", r.Name, max(1, e.Need), len(e.Addresses))
	}
	for i, a := range e.Addresses {
		host, port, err := net.SplitHostPort(a)
		if n, bad := strconv.Atoi(port); err != nil || bad != nil || host == "" || n < 1 || n > 65535 {
			v.add(at("external", "addresses", strconv.Itoa(i)), "write HOST:PORT, such as db-1.example:5432", "%q is not an address with a port", a)
		}
	}
	if e.Path != "" && !strings.HasPrefix(e.Path, "/") {
		v.add(at("external", "path"), "", "the path of %s begins without a /", r.Name)
	}
	if r.Votes || r.Each != (Each{}) || r.Members != 1 {
		v.add(at("external"), "take out members and votes", "%s is not ours, so that it has no members of which there could be more", r.Name)
	}
}

// settings checks values against what the kits know, at every level.
func (v *validator) settings() {
	known := map[string][]*Option{}
	programs := "" // of roles without a kit, whose settings are what their templates ask for
	for i := range v.Roles {
		r := &v.Roles[i]
		if r.Kit == "" {
			text, _ := json.Marshal(r.Program)
			programs += string(text)
		}
		for j := range r.Options {
			known[r.Options[j].Name] = append(known[r.Options[j].Name], &r.Options[j])
		}
	}
	for i := range v.Roles {
		r := &v.Roles[i]
		at := []string{"roles", string(r.Name), "settings"}
		v.ofRole(r, r.Settings, at)
		for _, name := range slices.Sorted(maps.Keys(r.SettingsOf)) {
			v.ofRole(r, r.SettingsOf[name], []string{"roles", string(r.Name), "settings_of", string(name)})
		}
		v.rules(r)
	}
	shared := func(settings map[string]Text, at ...string) {
		for _, key := range slices.Sorted(maps.Keys(settings)) {
			here := append(slices.Clone(at), key)
			if len(known[key]) == 0 && !strings.Contains(programs, key) {
				v.add(here, didYouMean(key, slices.Sorted(maps.Keys(known))), "no role has a setting %q", key)
				v.problems[len(v.problems)-1].Key = true
			}
			for _, o := range known[key] {
				if err := o.Check(settings[key]); err != nil {
					v.add(here, o.About, "%s", err)
					break
				}
			}
		}
	}
	shared(v.Settings, "settings")
	for _, z := range slices.Sorted(maps.Keys(v.InZone)) {
		if zones := v.Zones(); !slices.Contains(zones, z) {
			words := make([]string, len(zones))
			for i, w := range zones {
				words[i] = string(w)
			}
			v.add([]string{"zones", string(z)}, didYouMean(string(z), words), "zones names %q, and no node is in it", z)
		}
		shared(v.InZone[z].Settings, "zones", string(z), "settings")
	}
	for i, n := range v.Nodes {
		if len(n.Settings) > 0 {
			shared(n.Settings, "nodes", strconv.Itoa(i), "settings")
		}
	}
}

func (v *validator) ofRole(r *Role, settings map[string]Text, at []string) {
	if r.Kit == "" || (len(r.Options) == 0 && len(settings) == 0) {
		return
	}
	for _, key := range slices.Sorted(maps.Keys(settings)) {
		here := append(slices.Clone(at), key)
		o := r.Option(key)
		if o == nil {
			hint := "its kit has no settings"
			if names := r.OptionNames(); len(names) > 0 {
				hint = "its kit knows " + strings.Join(names, ", ")
				if near := Nearest(key, names); near != "" {
					hint = "did you mean " + strconv.Quote(near) + "?"
				}
			}
			v.add(here, hint, "role %s has no setting %q", r.Name, key)
			v.problems[len(v.problems)-1].Key = true
			continue
		}
		if err := o.Check(settings[key]); err != nil {
			v.add(here, o.About, "%s", err)
		}
	}
}

// rules checks what settings demand of each other, as far as the role itself says them.
func (v *validator) rules(r *Role) {
	given := func(rule string) bool {
		name, value, exact := strings.Cut(rule, "=")
		have, ok := r.Settings[name]
		if !ok {
			have, ok = v.Settings[name]
		}
		return ok && (!exact || string(have) == value)
	}
	for i := range r.Options {
		o := &r.Options[i]
		if _, set := r.Settings[o.Name]; !set {
			continue
		}
		at := []string{"roles", string(r.Name), "settings", o.Name}
		for _, rule := range o.Needs {
			if !given(rule) {
				v.add(at, "give it too, or take this one out", "%s of %s needs %s as well", o.Name, r.Name, rule)
			}
		}
		for _, rule := range o.Excludes {
			if given(rule) {
				v.add(at, "take one of them out", "%s and %s of %s exclude each other", o.Name, rule, r.Name)
			}
		}
	}
}

func (v *validator) accepted() {
	for i, a := range v.Accepted {
		if a.Role != "" && v.Role(a.Role) == nil {
			v.add([]string{"accepted", strconv.Itoa(i), "role"}, didYouMean(string(a.Role), v.roleNames()), "accepted names a role %q, and there is none", a.Role)
		}
	}
}
