package proving

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wording"
)

// enough bears with members that do not answer as expected, where a step says how many must and that many do. It gives the errors that
// remain; and, where too few do, an error that names who does.
func (r *run) enough(s field.ProofStep, asked []*state.Member, results []state.StepResult, errs []error) ([]error, error) {
	if s.AtLeast == "" || s.Different != "" {
		return errs, nil
	}
	step, err := r.scene.ProofStep(asked[0].Name, r.role.Name, field.ProofStep{AtLeast: s.AtLeast}, r.proof.Path, r.scope)
	if err != nil {
		return errs, err
	}
	least, err := step.Count()
	if err != nil {
		return errs, err
	}
	var good []field.MemberName
	for i, m := range asked {
		if errs[i] == nil {
			good = append(good, m.Name)
		}
	}
	if len(good) >= least {
		left := slices.Clone(errs)
		for i, err := range errs {
			if err != nil {
				results[i].Borne, results[i].Why, left[i] = true, shorten(err.Error()), nil
			}
		}
		return left, nil
	}
	who := "nobody"
	if len(good) > 0 {
		who = wording.Members(good)
	}
	for i, err := range errs {
		_ = r.note("steps", results[i], err)
	}
	what := s.Say
	if results[0].Say != "" {
		what = results[0].Say
	}
	return errs, fmt.Errorf("%s: at least %d must answer as expected, and %s %s", what, least, who, wording.Plural(max(1, len(good)), "does", "do"))
}

// different is the name under which the value is captured that must differ.
const different = "\x00different"

// variety collects the different values that an expression gives over answers.
type variety struct {
	least int
	seen  map[string]bool
}

// newVariety has a step capture what must differ.
func newVariety(step *field.ProofStep) *variety {
	least, _ := step.Count()
	step.Capture = maps.Clone(step.Capture)
	if step.Capture == nil {
		step.Capture = map[string]string{}
	}
	step.Capture[different] = step.Different
	return &variety{least: least, seen: map[string]bool{}}
}

// take takes in what one answer has given. It tells what is missing still.
func (v *variety) take(captured map[string]string) error {
	v.seen[shorten(captured[different])] = true // of a long answer its beginning: many of them are kept
	delete(captured, different)
	if len(v.seen) >= v.least {
		return nil
	}
	return fmt.Errorf("%s different %s wanted, and so far all answers were %s", strconv.Itoa(v.least), wording.Plural(v.least, "value is", "values are"), strings.Join(slices.Sorted(maps.Keys(v.seen)), ", "))
}
