// Package sheet lists what can be said of a thing in the field file, as rows that a person can change: the structure that
// is not spatial. It only reads; a changed row tells what is to be written.
package sheet

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/setting"
)

// Kind is how a row is changed.
type Kind int

// The kinds of rows.
const (
	Words  Kind = iota // a text, quoted where it must be
	Plain              // a number, a size, or YAML as it stands
	Names              // names with commas between
	Choice             // one of Options
	Wire               // a role, pointed at on the board or chosen from Options
	Rename             // the name of the thing, with all references
	More               // shows the settings that are not among the simple ones
	Drop               // takes the thing out
	Told               // is told and cannot be changed
	Keep               // keeps the whole as a pattern
)

// Row is one thing that can be said.
type Row struct {
	Group   string // set at the first row of a group
	Label   string
	Value   string // as it is now; empty where nothing is said
	Note    string // where the value comes from, or what holds when nothing is said
	Help    string
	Kind    Kind
	Options []string
	Path    []string   // where it is written
	Also    [][]string // where else, where it is about several things
	What    string     // of a Rename
}

// Title names what the sheet is about.
type Title string

// sheet gathers rows.
type sheet struct {
	rows  []Row
	group string
}

func (s *sheet) add(r Row) {
	r.Group, s.group = s.group, ""
	s.rows = append(s.rows, r)
}

// OfRole lists what can be said of a role; with all, every setting of its kit.
func OfRole(f *field.Field, r *field.Role, kits []string, all bool) []Row {
	s := &sheet{group: "the role"}
	at := func(path ...string) []string { return append([]string{"roles", string(r.Name)}, path...) }
	s.add(Row{Label: "name", Value: string(r.Name), Kind: Rename, What: arrange.ARole, Help: "everything that refers to it follows; members that run are replaced, since they carry its name"})
	s.add(Row{Label: "about", Value: r.About, Path: at("about"), Help: "what it is for"})
	s.add(Row{Label: "kind", Value: string(r.Kind), Kind: Choice, Options: []string{"master", "broker", "worker", "monitor", "entry"}, Path: at("kind")})
	if r.Kit != "" {
		s.add(Row{Label: "kit", Value: r.Kit, Kind: Choice, Options: kits, Path: at("kit"), Help: "the program that plays it"})
	}
	if e := r.External; e != nil && e.Field != "" {
		s.add(Row{Label: "field", Value: e.Field, Path: at("external", "field"), Help: "another field of the same state folder, of which this is a role"})
		s.add(Row{Label: "role there", Value: string(e.Role), Path: at("external", "role"), Help: "where its members are, whom to believe and as whom to ask is handed over, and follows it"})
	} else if e != nil {
		s.add(Row{Label: "addresses", Value: strings.Join(e.Addresses, ", "), Kind: Names, Path: at("external", "addresses"), Help: "HOST:PORT of each, with commas between; it is watched and never started"})
		s.add(Row{Label: "authority", Value: e.Authority, Path: at("external", "authority"), Help: "who answers for it"})
	}
	s.add(Row{Label: "version", Value: r.Version, Path: at("version")})
	s.group = "how many, and where"
	members := strconv.Itoa(r.Members)
	note := ""
	if each := r.Each.String(); each != "" {
		members, note = eachWords(r.Each), fmt.Sprintf("%s: %d", each, r.Members)
	}
	s.add(Row{Label: "members", Value: members, Note: note, Kind: Plain, Path: at("members"), Help: "a number; each-node; {per-zone: 1}; or {beside: ROLE}, one for each member of that role"})
	s.add(Row{Label: "votes", Value: strconv.FormatBool(r.Votes), Kind: Choice, Options: []string{"true", "false"}, Path: at("votes"), Help: "its members vote, so that a quorum counts"})
	s.add(Row{Label: "start", Value: string(r.Start), Kind: Choice, Options: []string{"together", "one-by-one", "seed-first"}, Path: at("start")})
	s.add(Row{Label: "spread", Value: string(r.Spread), Kind: Choice, Options: []string{"zone", "node", "none"}, Path: at("spread"), Help: "what its members are kept apart by"})
	s.add(Row{Label: "where", Value: r.Where, Path: at("where"), Help: "which nodes may hold it: an expression over name, zone, labels, cpu, memory, disk, os and arch"})
	s.add(Row{Label: "beside", Value: names(r.Beside), Kind: Names, Path: at("beside"), Help: "roles of which a member must be on the same node"})
	s.add(Row{Label: "apart", Value: names(r.Apart), Kind: Names, Path: at("apart"), Help: "roles of which no member may be on the same node"})
	s.group = "what each takes"
	s.size("room", r.Room, at, true)
	s.size("ceiling", r.Ceiling, at, false)
	size, keep := "", false
	if r.Data != nil {
		size, keep = word(r.Data.Size), r.Data.Keep
	}
	s.add(Row{Label: "data size", Value: size, Kind: Plain, Path: at("data", "size"), Help: "what each is expected to keep on disk, such as 20GiB"})
	s.add(Row{Label: "data kept", Value: strconv.FormatBool(keep), Kind: Choice, Options: []string{"true", "false"}, Path: at("data", "keep"), Help: "the data of a member that is removed stays on its node"})
	s.wires(f, r, at)
	s.settings(f, r, at, all)
	s.group = "the end"
	s.add(Row{Label: "take the role out", Kind: Drop, Path: at()})
	return s.rows
}

func eachWords(e field.Each) string {
	switch {
	case e.Node:
		return "each-node"
	case e.Zone > 0:
		return fmt.Sprintf("{per-zone: %d}", e.Zone)
	}
	return fmt.Sprintf("{beside: %s}", e.Beside)
}

func names[T ~string](list []T) string {
	words := make([]string, len(list))
	for i, n := range list {
		words[i] = string(n)
	}
	return strings.Join(words, ", ")
}

// word writes a size as the file would have it.
func word(b field.Bytes) string {
	if b == 0 {
		return ""
	}
	return string(field.TypeSize.Word(float64(b)))
}

func (s *sheet) size(label string, z field.Size, at func(...string) []string, disk bool) {
	cpu := ""
	if z.CPU > 0 {
		cpu = strconv.FormatFloat(z.CPU, 'f', -1, 64)
	}
	help := map[string]string{"room": "kept free on its node for each member", "ceiling": "what a member may take at most", "size": "what it offers",
		"reserved": "kept back for the system"}[label]
	s.add(Row{Label: label + " cpu", Value: cpu, Kind: Plain, Path: at(label, "cpu"), Help: help + ", in cores"})
	s.add(Row{Label: label + " memory", Value: word(z.Memory), Kind: Plain, Path: at(label, "memory"), Help: help + ", such as 512MiB"})
	if disk {
		s.add(Row{Label: label + " disk", Value: word(z.Disk), Kind: Plain, Path: at(label, "disk"), Help: help + ", such as 10GiB"})
	}
}

// wires are what the role calls, knows and waits for.
func (s *sheet) wires(f *field.Field, r *field.Role, at func(...string) []string) {
	s.group = "whom it depends on"
	seen := map[string]bool{}
	for _, kind := range []struct {
		key   string
		wires map[string]field.RoleName
	}{{"calls", r.Calls}, {"knows", r.Knows}} {
		for _, name := range slices.Sorted(maps.Keys(kind.wires)) {
			seen[name] = true
			s.add(Row{Label: kind.key + " " + name, Value: string(kind.wires[name]), Kind: Wire, Options: offers(f, r, name), Path: at(kind.key, name), Note: wants(r, name),
				Help: map[string]string{"calls": "it waits for that role and is told its addresses", "knows": "it is told its addresses and waits for nobody"}[kind.key]})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(r.Wants)) {
		if !seen[name] {
			s.add(Row{Label: "calls " + name, Kind: Wire, Options: offers(f, r, name), Path: at("calls", name), Note: wants(r, name), Help: "its kit calls it; nobody is wired to it yet"})
		}
	}
	for _, on := range slices.Sorted(maps.Keys(r.After)) {
		s.add(Row{Label: "after " + string(on), Value: string(r.After[on]), Kind: Choice, Options: []string{"quorum", "all", "first"}, Path: at("after", string(on)), Help: "what it waits for before it starts"})
	}
	others := offers(f, r, "")
	s.add(Row{Label: "another call", Kind: Wire, Options: others, Path: at("calls", "+"), Help: "asks for a role, then for the name by which the program calls it"})
	s.add(Row{Label: "another to know", Kind: Wire, Options: others, Path: at("knows", "+"), Help: "asks for a role, then for the name by which the program knows it"})
	s.add(Row{Label: "wait for another", Kind: Wire, Options: others, Path: at("after", "+"), Help: "asks for a role: it starts once that role is ready, or has a quorum"})
}

func wants(r *field.Role, call string) string {
	if w := r.Wants[call]; w != "" && w != finding.AnyService {
		return "wants " + w
	}
	return ""
}

func offers(f *field.Field, r *field.Role, call string) []string {
	var out []string
	for _, o := range finding.Offers(f, r, call) {
		out = append(out, string(o))
	}
	return out
}

// settings lists the settings of a role; of a kit's the simple ones, unless all are asked for.
func (s *sheet) settings(f *field.Field, r *field.Role, at func(...string) []string, all bool) {
	s.group = "settings"
	values, err := setting.Of(f, setting.Member{Role: r})
	if err != nil {
		return
	}
	hidden := 0
	for _, v := range values {
		if v.Option != nil && !v.Option.Simple && !v.Option.Required && v.Level != setting.OfRole && !all {
			hidden++
			continue
		}
		s.add(settingRow(v, at("settings", v.Name)))
	}
	switch {
	case hidden > 0:
		s.add(Row{Label: fmt.Sprintf("%d more settings", hidden), Kind: More, Help: "shows all that its kit knows"})
	case len(values) == 0:
		s.group = ""
	}
}

func settingRow(v setting.Value, path []string) Row {
	row := Row{Label: v.Name, Value: string(v.Value), Note: "from " + string(v.Level), Kind: Plain, Path: path}
	o := v.Option
	if o == nil {
		return row
	}
	if v.Level == "" {
		row.Note = "required, and nothing says it"
	}
	row.Help = o.About
	if o.From != "" {
		row.Help += "; follows from the node: " + o.From
	}
	if o.Least != "" || o.Most != "" {
		row.Help += fmt.Sprintf(" (%s to %s)", o.Least, o.Most)
	}
	for _, w := range o.OneOf {
		row.Kind, row.Options = Choice, append(row.Options, string(w))
	}
	if o.Type == field.TypeTruth {
		row.Kind, row.Options = Choice, []string{"true", "false"}
	}
	return row
}

// OfMember lists the settings of one member, wherever they come from; changed here, they are its own.
func OfMember(f *field.Field, r *field.Role, member field.MemberName, node *field.Node, here int) []Row {
	s := &sheet{group: "settings of this member alone"}
	values, err := setting.Of(f, setting.Member{Name: member, Role: r, Node: node, Here: here})
	if err != nil {
		return nil
	}
	for _, v := range values {
		s.add(settingRow(v, []string{"roles", string(r.Name), "settings_of", string(member), v.Name}))
	}
	return s.rows
}

// Puts gives what is to be written when the row gets another value; an empty one takes out what was said.
func (r Row) Puts(value string) []arrange.Put {
	value = strings.TrimSpace(value)
	switch {
	case value == "":
	case r.Kind == Names:
		value = "[" + strings.Join(strings.FieldsFunc(value, func(c rune) bool { return c == ',' || c == ' ' }), ", ") + "]"
	case r.Kind == Words:
		value = Quote(value)
	}
	puts := []arrange.Put{{Path: r.Path, Value: value}}
	for _, path := range r.Also {
		puts = append(puts, arrange.Put{Path: path, Value: value})
	}
	return puts
}

// Quote writes a text as YAML, in quotes where it would be read as something else.
func Quote(text string) string {
	plain := text != "" && !strings.ContainsAny(text, "#:{}[],&*!|>'\"%@`\n\\=") && !strings.HasPrefix(text, "-") && !strings.HasPrefix(text, "?") &&
		strings.TrimSpace(text) == text
	if plain {
		if _, err := strconv.ParseFloat(text, 64); err == nil {
			plain = false
		}
		if slices.Contains([]string{"true", "false", "null", "yes", "no", "on", "off", "~"}, strings.ToLower(text)) {
			plain = false
		}
	}
	if plain {
		return text
	}
	return strconv.Quote(text)
}
