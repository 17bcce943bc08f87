package order

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
)

// Effect tells what giving a running member another spec leads to: a restart, a reload, a call of the running program, or
// nothing before its next start. Probes, ceilings and the ways of stopping and starting hold at once and lead to none.
func Effect(before, after *Spec) field.OnChange {
	effect := field.OnNextStart
	rank := map[field.OnChange]int{field.OnRestart: 4, field.OnReload: 3, field.OnApply: 2, field.OnItself: 1}
	raise := func(to field.OnChange) {
		if rank[to] > rank[effect] {
			effect = to
		}
	}
	if startsOtherwise(before, after) {
		raise(after.OnChange)
	}
	if !maps.Equal(before.Ports, after.Ports) {
		return field.OnRestart // who asks it, and who calls it, would look elsewhere
	}
	for _, f := range ChangedFiles(before, after) {
		raise(f.OnChange)
	}
	if len(after.Apply) > 0 && !reflect.DeepEqual(before.Apply, after.Apply) {
		raise(field.OnApply) // a value that stands in a call is brought to it by that
	}
	return effect
}

// startsOtherwise tells whether the process itself would be started in another way.
func startsOtherwise(a, b *Spec) bool {
	return !slices.Equal(a.Command, b.Command) || !maps.Equal(a.Env, b.Env) || a.User != b.User || a.IfRoot != b.IfRoot || a.Version != b.Version || a.Limits != b.Limits
}

// ChangedFiles lists the files of a spec that differ from those of the one before, but for those that are the program's own.
func ChangedFiles(before, after *Spec) []File {
	old := map[string]File{}
	for _, f := range before.Files {
		old[f.Path] = f
	}
	var changed []File
	for _, f := range after.Files {
		if was, ok := old[f.Path]; !ok || !f.Once && (was.Content != f.Content || was.Mode != f.Mode) {
			changed = append(changed, f)
		}
	}
	return changed
}

// Answered tells whether the agent of a running member says what came of giving it another spec without a restart: whether
// its files were valid, and whether it took them.
func Answered(before, after *Spec) bool {
	if Effect(before, after).WhileRunning() {
		return true
	}
	return len(after.Validate) > 0 && len(ChangedFiles(before, after)) > 0
}

// InForce gives what a member runs with after its agent has taken another spec and has not restarted it: the process and
// the files for its next start are as before; the rest is as ordered, the files that it reads again too once it has taken them.
func InForce(running, ordered *Spec, took bool) *Spec {
	out := *ordered
	if !took || ordered.OnChange != field.OnApply {
		out.Command, out.Env, out.User, out.IfRoot, out.LookIn, out.Version, out.Limits = running.Command, running.Env, running.User, running.IfRoot, running.LookIn, running.Version, running.Limits
	}
	out.Ports, out.Address = running.Ports, running.Address
	if !took {
		out.Apply, out.TLS = running.Apply, running.TLS
	}
	old := map[string]File{}
	for _, f := range running.Files {
		old[f.Path] = f
	}
	out.Files = nil
	for _, f := range ordered.Files {
		was, there := old[f.Path]
		switch again := f.OnChange.WhileRunning(); {
		case again && took:
			out.Files = append(out.Files, f)
		case there:
			was.OnChange = f.OnChange
			out.Files = append(out.Files, was)
		}
	}
	return &out
}

// Probes are all by which the member is asked while it runs.
func (s *Spec) Probes() []any {
	return []any{s.Ready, s.Alive, s.FreeDisk, s.Progress, s.Lag, s.Leader, s.Roster}
}

// ShowsAs tells whether a member that runs with the spec has the certificate and the authorities of the other one.
func (s *Spec) ShowsAs(other *Spec) bool {
	if s.TLS == nil || other.TLS == nil {
		return s.TLS == other.TLS
	}
	return *s.TLS == *other.TLS
}

// Difference is one thing in which two specs differ.
type Difference struct {
	What   string
	AtOnce bool // it holds as soon as the agent has it
	Effect field.OnChange
}

// Differences lists in what the second spec differs from the first, in a fixed order.
func Differences(a, b *Spec) []Difference {
	var out []Difference
	add := func(what string, differ bool, effect field.OnChange, atOnce bool) {
		if differ {
			out = append(out, Difference{What: what, AtOnce: atOnce, Effect: effect})
		}
	}
	if a.Version != b.Version {
		add(versions(a.Version, b.Version), true, b.OnChange, false)
	}
	add("the command line", !slices.Equal(a.Command, b.Command), b.OnChange, false)
	add("the environment", !maps.Equal(a.Env, b.Env), b.OnChange, false)
	add("the ports", !maps.Equal(a.Ports, b.Ports), field.OnRestart, false)
	add("the set of limits", a.Limits != b.Limits, b.OnChange, false)
	add("the user", a.User != b.User || a.IfRoot != b.IfRoot, b.OnChange, false)
	for _, f := range ChangedFiles(a, b) {
		add("the file "+f.Path, true, f.OnChange, false)
	}
	add("what it is called with (apply)", len(b.Apply) > 0 && !reflect.DeepEqual(a.Apply, b.Apply), field.OnApply, false)
	add("the ceiling", a.Ceiling != b.Ceiling, "", true)
	add("the probes", !reflect.DeepEqual(a.Probes(), b.Probes()), "", true)
	add("what is read of its measures", !reflect.DeepEqual(a.Metrics, b.Metrics), "", true)
	add("where its lines go", !reflect.DeepEqual(a.Logs, b.Logs), "", true)
	add("how it is stopped and started again", !reflect.DeepEqual([]any{a.Stop, a.Restart}, []any{b.Stop, b.Restart}), "", true)
	if len(out) == 0 {
		add("how changes are brought to it", !reflect.DeepEqual(a, b), "", true)
	}
	return out
}

func versions(a, b string) string {
	switch {
	case a == "":
		return "the version (now " + b + ")"
	case b == "":
		return "the version (no longer " + a + ")"
	}
	return fmt.Sprintf("the version from %s to %s", a, b)
}

// Named joins what differs.
func Named(differences []Difference) string {
	words := make([]string, len(differences))
	for i, d := range differences {
		words[i] = d.What
	}
	if len(words) > 1 {
		return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
	}
	return strings.Join(words, "")
}

// Pending lists what a running member was not started with, and takes at its next start only.
func Pending(running, ordered *Spec) []Difference {
	if running == nil || ordered == nil {
		return nil
	}
	return slices.DeleteFunc(Differences(running, ordered), func(d Difference) bool { return d.AtOnce })
}
