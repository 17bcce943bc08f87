package finding

import (
	"fmt"
	"strings"

	"lanternfield/internal/core/wording"
)

// Counted words how many findings of each kind there are, and how many are accepted.
func Counted(found []Finding) (text string) {
	var parts []string
	if n := len(found) - Open(found); n > 0 {
		defer func() { text += fmt.Sprintf(", %d accepted", n) }()
	}
	for _, s := range []Severity{Error, Risk, Hint} {
		n := 0
		for _, x := range found {
			if x.Severity == s && x.Accepted == "" {
				n++
			}
		}
		if n > 0 {
			parts = append(parts, wording.Counted(n, string(s)))
		}
	}
	if len(parts) == 0 {
		return "nothing found"
	}
	return strings.Join(parts, ", ")
}
