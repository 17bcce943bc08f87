package pattern

import (
	"fmt"
	"strconv"
	"strings"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
)

// Counts are how many members roles have.
type Counts map[field.RoleName]int

// ParseCounts reads how many members roles have, such as "records 3, doors 2".
func ParseCounts(text string, f *field.Field) (Counts, error) {
	counts := Counts{}
	for _, part := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ';' }) {
		words := strings.Fields(strings.ReplaceAll(part, ":", " "))
		if len(words) == 0 {
			continue
		}
		r := f.Role(field.RoleName(words[0]))
		if r == nil {
			var names []string
			for i := range f.Roles {
				names = append(names, string(f.Roles[i].Name))
			}
			return nil, fmt.Errorf("there is no role %q in this pattern; it has %s", words[0], strings.Join(names, ", "))
		}
		n, err := 0, error(nil)
		if len(words) == 2 {
			n, err = strconv.Atoi(words[1])
		}
		if len(words) != 2 || err != nil || n < 1 || n > field.MostNodes {
			return nil, fmt.Errorf("%q is not a role with a number of members; write them like  %s 3", strings.TrimSpace(part), r.Name)
		}
		if r.Each != (field.Each{}) {
			return nil, fmt.Errorf("how many of %s there are follows from others", r.Name)
		}
		counts[r.Name] = n
	}
	return counts, nil
}

// CountsOf are those of a field, but for roles whose number follows from others.
func CountsOf(f *field.Field) Counts {
	counts := Counts{}
	for i := range f.Roles {
		if r := &f.Roles[i]; r.Each == (field.Each{}) {
			counts[r.Name] = r.Members
		}
	}
	return counts
}

// Words writes counts as they are read, in the order of the field's roles.
func (c Counts) Words(f *field.Field) string {
	var parts []string
	for i := range f.Roles {
		if n, is := c[f.Roles[i].Name]; is {
			parts = append(parts, fmt.Sprintf("%s %d", f.Roles[i].Name, n))
		}
	}
	return strings.Join(parts, ", ")
}

// Need is a setting that a kit requires, of which the pattern says nothing.
type Need struct {
	Role  field.RoleName
	Name  string
	About string
}

// Needs lists them in the order of the roles.
func (p Pattern) Needs() []Need {
	var out []Need
	if p.Err != nil {
		return nil
	}
	for i := range p.File.Field.Roles {
		r := &p.File.Field.Roles[i]
		for _, o := range r.Options {
			if _, said := r.Settings[o.Name]; o.Required && !said {
				out = append(out, Need{r.Name, o.Name, o.About})
			}
		}
	}
	return out
}

// needed sets what kits require.
func (a Answers) needed(p Pattern) []arrange.Put {
	var puts []arrange.Put
	for _, n := range p.Needs() {
		if value := a.Settings[n.Role][n.Name]; value != "" {
			puts = append(puts, arrange.OfRole(n.Role, strconv.Quote(value), "settings", n.Name))
		}
	}
	return puts
}

// Offer is counts that would survive more.
type Offer struct {
	Survives Survive
	Counts   string
}

// Offers lists the counts by which the field would survive what it does not with these, the mildest loss first.
func (p Pattern) Offers(a Answers, o *Outcome) []Offer {
	var out []Offer
	for _, s := range Survives[1:] {
		if _, kept := survives(o.Field, s); kept {
			continue
		}
		more := a
		more.Survive, more.Counts = s, nil
		better, err := p.Make(more)
		if err == nil && better.Kept {
			out = append(out, Offer{s, CountsOf(better.Field).Words(better.Field)})
		}
	}
	return out
}
