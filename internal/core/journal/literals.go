package journal

import (
	"regexp/syntax"
	"strings"
)

// Literals are the words that must stand in a line as it was written, in small letters: what lacks one of them need not be taken apart.
func (f Filter) Literals() []string {
	var out []string
	for _, w := range f.Words {
		switch {
		case w.Not:
		case w.Kind == "text" && plainASCII(w.Text):
			out = append(out, w.Text)
		case w.Kind == "pattern":
			out = append(out, literalsOf(w.Text)...)
		}
	}
	return out
}

// plainASCII tells whether a text stands in a line as it is, however programs encode what they write.
func plainASCII(text string) bool {
	return strings.IndexFunc(text, func(c rune) bool { return !plain(c) }) < 0
}

func plain(c rune) bool { return c > ' ' && c <= '~' && !strings.ContainsRune(`"\<>&/=`, c) }

// leastLiteral is how long a part of a pattern is at the least that is looked for: shorter ones stand everywhere.
const leastLiteral = 3

// literalsOf finds what stands in everything that a pattern fits, whatever the case.
func literalsOf(pattern string) (out []string) {
	re, err := syntax.Parse(pattern, syntax.Perl|syntax.FoldCase)
	if err != nil {
		return nil
	}
	var visit func(re *syntax.Regexp)
	visit = func(re *syntax.Regexp) {
		switch re.Op {
		case syntax.OpLiteral:
			// s and k stand for letters beyond ASCII too, where the case does not matter.
			for part := range strings.FieldsFuncSeq(strings.ToLower(string(re.Rune)), func(c rune) bool { return !plain(c) || c == 's' || c == 'k' }) {
				if len(part) >= leastLiteral {
					out = append(out, part)
				}
			}
		case syntax.OpConcat, syntax.OpCapture, syntax.OpPlus:
			for _, sub := range re.Sub {
				visit(sub)
			}
		case syntax.OpRepeat:
			if re.Min > 0 {
				visit(re.Sub[0])
			}
		}
	}
	visit(re)
	return out
}
