package agent

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host"
)

// applied is the newest spec that was found fit for the member, as it is on disk.
type applied struct {
	Revision uint64      `json:"revision"`
	Spec     *order.Spec `json:"spec"`
}

// inForce is the spec by which the member is run now, and its revision: the ordered one, or, while that has been refused,
// the one before.
func (m *member) inForce() (*order.Spec, uint64) {
	if m.kept.Refused != 0 && m.kept.Refused == m.order.Revision && m.applied.Spec != nil {
		return m.applied.Spec, m.applied.Revision
	}
	return m.order.Spec, m.order.Revision
}

// apply notes that a spec is in force.
func (m *member) apply(revision uint64, spec *order.Spec) {
	if m.applied.Revision == revision && reflect.DeepEqual(m.applied.Spec, spec) {
		return
	}
	m.applied = applied{revision, spec}
	if err := m.disk.save(m.appliedFile(), m.applied, false); err != nil {
		slog.Error("what is in force cannot be noted", "member", m.name, "error", err)
	}
}

// refuse leaves a running member as it is, although another spec was ordered, and says why.
func (m *member) refuse(why error) {
	m.kept.Refused, m.kept.Round = m.order.Revision, m.order.Round
	m.keep()
	m.report(order.Report{Kind: order.Reloaded, Revision: m.order.Revision, Why: why.Error()})
}

// fit tells whether the member could be started with what is ordered. It is asked before a running process is stopped.
func (m *member) fit(ctx context.Context) error {
	spec := m.order.Spec
	if spec == nil || len(spec.Command) == 0 {
		return errors.New("its order says nothing to run")
	}
	if err := m.instance.Fits(spec); err != nil {
		return err
	}
	changed, err := m.writeFiles(spec, spec.Files)
	if err == nil {
		err = m.validate(ctx, spec)
	}
	if err != nil {
		return errors.Join(err, m.disk.putBack(m.name, changed))
	}
	return nil
}

// restoreFiles puts the files in force back where an agent before has ended in the middle of a change: what it had written was
// perhaps not checked yet. What is ordered is brought to the member anew after that.
func (m *member) restoreFiles() error {
	before, ordered := m.applied.Spec, m.order.Spec
	if before == nil || ordered == nil || m.applied.Revision == m.order.Revision {
		return nil
	}
	_, err := m.writeFiles(before, order.ChangedFiles(ordered, before))
	for _, f := range ordered.Files {
		added := !slices.ContainsFunc(before.Files, func(o order.File) bool { return o.Path == f.Path })
		if added && !f.Once { // what is written once may have become the program's own
			err = errors.Join(err, m.disk.removeFile(m.name, f.Path))
		}
	}
	return err
}

// change brings another spec to a running member as far as that needs no restart. Changed files are checked first; when
// they are refused, or the program does not take them, those before are put back and stay in force.
func (m *member) change(ctx context.Context) {
	before, spec := m.applied.Spec, m.order.Spec
	if before == nil || m.applied.Revision == m.order.Revision || m.kept.Refused == m.order.Revision {
		return
	}
	if reflect.DeepEqual(before, spec) && !m.uncalled {
		m.apply(m.order.Revision, spec)
		return
	}
	took, err := m.bring(ctx, before)
	if err != nil {
		m.refuse(err)
		return
	}
	m.apply(m.order.Revision, spec)
	m.floater.tell(spec, m.answers.isReady())
	switch {
	case took:
		m.report(order.Report{Kind: order.Reloaded, Revision: m.order.Revision})
	case order.Answered(before, spec):
		m.report(order.Report{Kind: order.Checked, Revision: m.order.Revision})
	}
	if !reflect.DeepEqual(before.Probes(), spec.Probes()) || !before.ShowsAs(spec) {
		m.unwatch()
		m.watch(true)
	}
}

// bring writes changed files, checks them and has the program take those that it takes while it runs. It tells whether the
// program was asked to.
func (m *member) bring(ctx context.Context, before *order.Spec) (took bool, err error) {
	spec := m.order.Spec
	changed, err := m.writeFiles(spec, spec.Files)
	if err == nil && len(changed) > 0 {
		err = m.validate(ctx, spec)
	}
	if err != nil {
		return false, errors.Join(err, m.disk.putBack(m.name, changed))
	}
	var later []replaced // for the next start
	for _, f := range changed {
		if !f.OnChange.WhileRunning() {
			later = append(later, f)
		}
	}
	if err := m.disk.putBack(m.name, later); err != nil {
		return false, err
	}
	switch order.Effect(before, spec) {
	case field.OnReload:
		if err = m.reload(ctx); err == nil && m.appliesToo(before) {
			err = m.callApply(ctx, spec)
		}
	case field.OnApply:
		err = m.callApply(ctx, spec)
	case field.OnItself:
		if m.uncalled {
			err = m.callApply(ctx, spec)
		}
	default:
		if !m.uncalled {
			return false, nil
		}
		err = m.callApply(ctx, spec)
	}
	m.uncalled = m.uncalled && err != nil
	if err != nil {
		return false, errors.Join(err, m.disk.putBack(m.name, changed))
	}
	return true, nil
}

// appliesToo tells whether a change that is reloaded has a part that is brought to the program by its calls.
func (m *member) appliesToo(before *order.Spec) bool {
	only := *m.order.Spec
	only.Files = nil
	for _, f := range m.order.Spec.Files {
		if f.OnChange == field.OnApply {
			only.Files = append(only.Files, f)
		}
	}
	return order.Effect(before, &only) == field.OnApply
}

// callApply makes the calls by which the running program takes a change.
func (m *member) callApply(ctx context.Context, spec *order.Spec) error {
	if len(spec.Apply) == 0 {
		return errors.New("its program says no way to take a change while it runs (apply)")
	}
	a := m.asker(spec)
	for i := range spec.Apply {
		p := &spec.Apply[i]
		if err := a.check(ctx, p, p.Timeout.Or(callTimeout)); err != nil {
			return fmt.Errorf("call %d of apply failed: %w", i+1, err)
		}
	}
	return nil
}

// writeFiles puts the member's files in place, as those of whom it runs as.
func (m *member) writeFiles(spec *order.Spec, files []order.File) (changed []replaced, err error) {
	who, err := m.instance.Account(spec)
	if err != nil {
		return nil, err
	}
	return m.disk.writeFiles(m.name, who, files)
}

func (m *member) validate(ctx context.Context, spec *order.Spec) error {
	return m.helper(ctx, spec, spec.Validate, "the check of its files")
}

func (m *member) reload(ctx context.Context) error {
	r := m.order.Spec.Reload
	switch {
	case r == nil:
		return fmt.Errorf("its program says no way to reload")
	case len(r.Exec) > 0:
		return m.helper(ctx, m.order.Spec, r.Exec, "the reload")
	}
	return m.proc.Signal(host.SignalByName(r.Signal))
}

// helper runs a command that helps to run the member. What it wrote is kept whole in a file; its last lines are part of the error.
func (m *member) helper(ctx context.Context, spec *order.Spec, args []string, what string) error {
	if len(args) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	got, err := m.asker(spec).askExec(ctx, args)
	if err != nil {
		return fmt.Errorf("%s failed: %w", what, err)
	}
	if got.status == 0 {
		return nil
	}
	output := fmt.Sprint(got.env["output"])
	last, whole := lastWords(output, 8, 700)
	text := fmt.Sprintf("%s ended with exit code %d: %s", what, got.status, last)
	if !whole {
		name := filepath.Join(m.disk.record(m.name), "refused.log")
		if os.WriteFile(name, []byte(output), 0o600) == nil {
			text += fmt.Sprintf(" (the end of its output; all of it is in %s)", name)
		}
	}
	return errors.New(text)
}

// lastWords gives the last lines of what a program wrote, in one line and at most so many bytes, since what matters stands at
// the end. It tells whether that is all of it.
func lastWords(output string, lines, most int) (last string, whole bool) {
	var kept []string
	for _, line := range strings.Split(output, "\n") {
		if line = strings.TrimSpace(clean(line)); line != "" {
			kept = append(kept, line)
		}
	}
	whole = true
	if len(kept) > lines {
		kept, whole = kept[len(kept)-lines:], false
	}
	last = strings.Join(kept, " | ")
	if len(last) > most {
		last, whole = strings.ToValidUTF8(last[len(last)-most:], ""), false
	}
	switch {
	case last == "":
		return "it wrote nothing", true
	case !whole:
		last = "… " + last
	}
	return last, whole
}
