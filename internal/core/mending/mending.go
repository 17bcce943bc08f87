// Package mending says what can be done on a machine so that members can run there, and keeps account of what was done, so that it can be undone.
package mending

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/core/wording"
)

// Kind is what kind of thing is done.
type Kind string

// What can be done.
const (
	Kernel   Kind = "kernel"   // a setting of the kernel is raised, for good
	Packages Kind = "packages" // packages are installed by the machine's package manager
)

// Step is one thing that can be done on a machine.
type Step struct {
	Kind     Kind     `json:"kind"`
	Setting  string   `json:"setting,omitempty"`  // of the kernel, by its name with dots
	Value    int      `json:"value,omitempty"`    // that it is to have
	Packages []string `json:"packages,omitempty"` // in their order
}

// Key tells steps apart on one machine: a later one with the same key takes the place of an earlier one.
func (s Step) Key() string {
	if s.Kind == Kernel {
		return string(s.Kind) + " " + s.Setting
	}
	return string(s.Kind)
}

// String says what is done.
func (s Step) String() string {
	if s.Kind == Kernel {
		return fmt.Sprintf("set %s to %d, persistently, by a file in /etc/sysctl.d", s.Setting, s.Value)
	}
	return "install " + wording.And(s.Packages) + " with apt-get"
}

var (
	settingName = regexp.MustCompile(`^[a-z0-9_]+(\.[A-Za-z0-9_-]+)+$`)
	packageName = regexp.MustCompile(`^[a-z0-9][a-z0-9+.-]+$`)
)

// Valid refuses what is no step, such as a name that would be read as something else on the machine.
func (s Step) Valid() error {
	switch s.Kind {
	case Kernel:
		if !settingName.MatchString(s.Setting) || s.Value < 0 {
			return fmt.Errorf("%q is no setting of the kernel", s.Setting)
		}
		return nil
	case Packages:
		for _, p := range s.Packages {
			if !packageName.MatchString(p) {
				return fmt.Errorf("%q is no name of a package", p)
			}
		}
		if len(s.Packages) > 0 {
			return nil
		}
	}
	return fmt.Errorf("%q is nothing that can be done on a machine", s.Kind)
}

// Merge makes one step of those with the same key: the highest value, all of the packages.
func Merge(steps []Step) []Step {
	by := map[string]Step{}
	for _, s := range steps {
		have, known := by[s.Key()]
		if !known {
			have = Step{Kind: s.Kind, Setting: s.Setting}
		}
		have.Value = max(have.Value, s.Value)
		have.Packages = slices.Compact(slices.Sorted(slices.Values(append(slices.Clone(have.Packages), s.Packages...))))
		by[s.Key()] = have
	}
	return slices.SortedFunc(maps.Values(by), func(a, b Step) int { return cmp.Compare(a.Key(), b.Key()) })
}

// Entry is what was done on a machine, as it is kept until it is undone.
type Entry struct {
	Step
	Before string    `json:"before,omitempty"` // what the setting was
	Made   []string  `json:"made,omitempty"`   // packages that were not there before, those that came along among them
	Begun  bool      `json:"begun,omitempty"`  // it was begun, and what came of it is not known
	By     string    `json:"by,omitempty"`
	At     time.Time `json:"at,omitzero"`
}

// String says what stands on the machine because of it.
func (e Entry) String() string {
	text := ""
	switch e.Kind {
	case Kernel:
		text = fmt.Sprintf("the kernel's %s is %d; it was %s", e.Setting, e.Value, cmp.Or(e.Before, "not known"))
	case Packages:
		text = "nothing had to be installed"
		if len(e.Made) > 0 {
			text = wording.Plural(len(e.Made), "the package ", "the packages ") + strings.Join(e.Made, ", ")
		}
	}
	if e.Begun {
		return "unknown, since it was begun and its result was never heard: " + e.Step.String()
	}
	return text
}

// Upon lays what was done upon what had been done before with the same key: what stood there at first counts.
func (e Entry) Upon(before Entry) Entry {
	if !before.Begun || before.Before != "" {
		e.Before = cmp.Or(before.Before, e.Before)
	}
	e.Made = slices.Compact(slices.Sorted(slices.Values(append(slices.Clone(before.Made), e.Made...))))
	if len(e.Made) == 0 {
		e.Made = nil
	}
	return e
}
