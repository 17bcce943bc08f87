package render

import (
	"errors"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// CheckRendered compiles the expressions of a rendered spec that are made by templates; the others are checked as they are
// read. The error joins one of type *Error for each.
func CheckRendered(role *field.Role, member field.MemberName, spec *order.Spec) error {
	rendered := *role.Program
	rendered.Ready, rendered.Alive = spec.Ready, spec.Alive
	rendered.Apply = spec.Apply
	return compare(role, member, &rendered, func(path []string) bool { return path[0] == "ready" || path[0] == "alive" || path[0] == "apply" })
}

// CheckRenderedStep does the same for one step of a procedure.
func CheckRenderedStep(role *field.Role, member field.MemberName, procedure order.Procedure, index int, step field.Step) error {
	rendered := *role.Program
	steps := map[order.Procedure]*[]field.Step{order.Found: &rendered.Found, order.Join: &rendered.Join, order.Leave: &rendered.Leave,
		order.Promote: &rendered.Promote, order.HandOver: &rendered.HandOver, order.ChangeSecret: &rendered.ChangeSecret}[procedure]
	if steps == nil {
		return nil
	}
	*steps = slices.Clone(*steps)
	(*steps)[index] = step
	return compare(role, member, &rendered, func(path []string) bool { return path[0] == string(procedure) && path[1] == strconv.Itoa(index) })
}

// compare compiles those expressions of a rendered program that its role says by a template.
func compare(role *field.Role, member field.MemberName, rendered *field.Program, which func(path []string) bool) error {
	var errs []error
	said := role.Program.Expressions()
	for _, e := range rendered.Expressions() {
		if !which(e.Path) {
			continue
		}
		i := slices.IndexFunc(said, func(s field.Expression) bool { return slices.Equal(s.Path, e.Path) })
		if i < 0 || !strings.Contains(said[i].Text, "{{") {
			continue
		}
		if err := field.CheckExpression(e.Text, e.Sees, e.Yields); err != nil {
			errs = append(errs, &Error{Role: role.Name, Member: member, Path: append([]string{"program"}, e.Path...), Err: err})
		}
	}
	return errors.Join(errs...)
}
