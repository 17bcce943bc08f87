package render

import (
	"errors"
	"maps"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/field"
)

// ProofScope is what the steps of a proof see besides the member that is asked.
type ProofScope struct {
	Space  string            // the namespace that it writes into
	Once   string            // new in every run
	Values map[string]string // what earlier steps have captured
}

// Value is a value that an earlier step of the proof has captured.
func (v *View) Value(name string) (string, error) {
	if v.proof == nil {
		return "", errors.New("only steps of a proof have values that were captured")
	}
	if value, ok := v.proof.Values[name]; ok {
		return value, nil
	}
	return "", unknown("captured value", name, slices.Sorted(maps.Keys(v.proof.Values)))
}

// Space is a name for what a proof writes, made of letters and underscores, the same each time.
func (v *View) Space() (string, error) {
	if v.proof == nil {
		return "", errors.New("only steps of a proof have a .Space to write into")
	}
	return v.proof.Space, nil
}

// Once is a text that is new in every run of a proof.
func (v *View) Once() (string, error) {
	if v.proof == nil {
		return "", errors.New("only steps of a proof have a .Once")
	}
	return v.proof.Once, nil
}

// SpaceOf is the namespace of a proof: the same in every run, so that what one has left behind is cleaned by the next.
func SpaceOf(role field.RoleName, proof string) string {
	return "lanternfield_" + strings.ReplaceAll(string(role)+"_"+proof, "-", "_")
}

// ProofStep renders a step of a proof for the member that is asked. Path leads to it below the role. Secrets are marks (see Put).
func (s *Scene) ProofStep(asked field.MemberName, role field.RoleName, step field.ProofStep, path []string, scope ProofScope) (field.ProofStep, error) {
	v := s.view(asked)
	v.proof = &scope
	r := &renderer{view: v, at: path}
	out := step
	out.Say = r.text(step.Say, "say")
	out.Exec = r.list(step.Exec, "exec") // everybody on the node can read it
	v.secrets = true
	open := r.call(field.Call{HTTP: step.HTTP, TCP: step.TCP})
	out.HTTP, out.TCP = open.HTTP, open.TCP
	if step.SQL != nil {
		out.SQL = &field.SQLCall{Driver: step.SQL.Driver, URL: r.text(step.SQL.URL, "sql", "url"), Statement: r.text(step.SQL.Statement, "sql", "statement")}
	}
	out.Expect = r.text(step.Expect, "expect")
	v.secrets = false
	out.AtLeast, out.Different = field.Text(r.text(string(step.AtLeast), "at_least")), r.text(step.Different, "different")
	if _, err := out.Count(); err != nil {
		r.fail(err, "at_least")
	}
	out.Capture = maps.Clone(step.Capture)
	for name, text := range step.Capture {
		out.Capture[name] = r.text(text, "capture", name)
	}
	for _, err := range r.errs { // it stands in the role whose proof it is, whoever is asked
		var e *Error
		if errors.As(err, &e) {
			e.Role = role
		}
	}
	return out, errors.Join(r.errs...)
}

// TryProofs renders every step of a role's proofs for a member of each role that it asks, with a value for all that earlier steps capture, and
// compiles what comes of it.
func (s *Scene) TryProofs(role *field.Role, member func(of field.RoleName) (field.MemberName, bool)) error {
	var errs []error
	for _, p := range role.AllProofs() {
		scope := ProofScope{Space: SpaceOf(role.Name, p.Name), Once: "once", Values: map[string]string{}}
		for _, part := range p.Parts() {
			for i, step := range part.Steps {
				of := step.Of
				if of == "" {
					of = role.Name
				}
				asked, is := member(of)
				if !is {
					continue
				}
				path := append(append([]string{}, p.Path...), part.Key, strconv.Itoa(i))
				out, err := s.ProofStep(asked, role.Name, step, path, scope)
				if err != nil {
					errs = append(errs, err.(interface{ Unwrap() []error }).Unwrap()...)
				} else if strings.Contains(step.Expect, "{{") {
					if err := field.CheckExpression(out.Expect, out.Sight(), field.YieldsTruth); err != nil {
						errs = append(errs, &Error{Role: role.Name, Member: asked, Path: append(path, "expect"), Err: err})
					}
				}
				for name := range step.Capture {
					scope.Values[name] = "1"
				}
			}
		}
	}
	return errors.Join(errs...)
}
