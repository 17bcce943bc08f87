package rehearse

import (
	"cmp"
	"fmt"
	"strings"

	"lanternfield/internal/core/render"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

// secretReview says what changing a secret would lead to.
func (s *script) secretReview(name string) string {
	r, err := review.ChangedSecret(s.State, name, false)
	if err != nil {
		return "refused: " + err.Error() + "\n"
	}
	var b strings.Builder
	for _, step := range r.Steps {
		fmt.Fprintln(&b, step.Text)
	}
	return b.String()
}

// secrets says which of each secret members run with, and which is in force.
func (s *script) secrets() string {
	var b strings.Builder
	for _, m := range state.SortedMembers(s.State) {
		if m.Running != nil {
			for _, f := range m.Running.Files {
				fmt.Fprintf(&b, "%s: %s\n", m.Name, render.Put(f.Content, render.Named))
			}
		}
	}
	for _, x := range snapshot.SecretsOf(s.State) {
		fmt.Fprintf(&b, "%s: number %d, given %v, of %v; %s\n", x.Name, x.Number, x.Given, x.Roles, cmp.Or(x.Waiting(), "all have it"))
	}
	return b.String()
}
