package fieldfile

import (
	"slices"
	"strings"

	"github.com/pmezard/go-difflib/difflib"
)

// Conflict is a place of the file that two people have changed, each in a way of their own.
type Conflict struct {
	Line         int // of theirs, counted from 1
	Mine, Theirs string
}

// hunk says that lines From to To of the base, counted from 0, To not among them, have become other lines.
type hunk struct {
	from, to int
	lines    []string
}

// Merge makes the changes that lead from base to mine in theirs too. Where both have changed the same lines, or lines
// that touch, differently, theirs stays when keep is true and mine is taken otherwise; the conflicts say where that was.
func Merge(base, mine, theirs []byte, keep bool) (merged []byte, conflicts []Conflict) {
	lines := split(base)
	a, b := hunks(lines, split(mine)), hunks(lines, split(theirs))
	var out []string
	at := 0 // in the base
	for len(a)+len(b) > 0 {
		switch {
		case len(b) == 0 || len(a) > 0 && a[0].to < b[0].from || len(a) > 0 && a[0].to == b[0].from && apart(a[0], b[0]):
			out = append(append(out, lines[at:a[0].from]...), a[0].lines...)
			at, a = a[0].to, a[1:]
		case len(a) == 0 || b[0].to < a[0].from || b[0].to == a[0].from && apart(b[0], a[0]):
			out = append(append(out, lines[at:b[0].from]...), b[0].lines...)
			at, b = b[0].to, b[1:]
		default: // they touch: everything that hangs together is one
			from, to := min(a[0].from, b[0].from), max(a[0].to, b[0].to)
			na, nb := 1, 1
			for grown := true; grown; {
				grown = false
				for na < len(a) && a[na].from <= to {
					to, na, grown = max(to, a[na].to), na+1, true
				}
				for nb < len(b) && b[nb].from <= to {
					to, nb, grown = max(to, b[nb].to), nb+1, true
				}
			}
			m, t := span(lines, a[:na], from, to), span(lines, b[:nb], from, to)
			out = append(out, lines[at:from]...)
			chosen := m
			if !slices.Equal(m, t) {
				conflicts = append(conflicts, Conflict{Line: len(out) + 1, Mine: strings.Join(m, ""), Theirs: strings.Join(t, "")})
				if keep {
					chosen = t
				}
			}
			out = append(out, chosen...)
			at, a, b = to, a[na:], b[nb:]
		}
	}
	return []byte(strings.Join(append(out, lines[at:]...), "")), conflicts
}

// apart tells whether a change that ends where another begins has nothing to do with it: neither only inserts.
func apart(first, second hunk) bool { return first.from < first.to && second.from < second.to }

// span gives what the lines of the base between from and to have become.
func span(base []string, hunks []hunk, from, to int) []string {
	var out []string
	for _, h := range hunks {
		out = append(append(out, base[from:h.from]...), h.lines...)
		from = h.to
	}
	return append(out, base[from:to]...)
}

func split(data []byte) []string { return strings.SplitAfter(string(data), "\n") }

func hunks(base, now []string) []hunk {
	var all []hunk
	for _, op := range difflib.NewMatcherWithJunk(base, now, false, nil).GetOpCodes() {
		if op.Tag != 'e' {
			all = append(all, hunk{op.I1, op.I2, now[op.J1:op.J2]})
		}
	}
	return all
}
