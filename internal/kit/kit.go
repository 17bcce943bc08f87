// Package kit holds what must be known to run well-known programs as roles. A kit is data: one kit.yaml with the same
// content that a field file may give in place under `program`, and defaults for the role.
package kit

import (
	"embed"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"lanternfield/internal/demo/kits"

	"github.com/goccy/go-yaml"
)

//go:embed */kit.yaml
var files embed.FS

// sources are where kits come from: those of systems in common use here, those of the demo's programs with the demo.
var sources = []fs.FS{files, kits.Files}

// Names lists the kits.
func Names() []string {
	var names []string
	for _, source := range sources {
		entries, _ := fs.ReadDir(source, ".")
		for _, e := range entries {
			names = append(names, e.Name())
		}
	}
	slices.Sort(names)
	return names
}

// Content gives the kit of that name.
func Content(name string) ([]byte, bool) {
	if !slices.Contains(Names(), name) {
		return nil, false
	}
	for _, source := range sources {
		if data, err := fs.ReadFile(source, name+"/kit.yaml"); err == nil {
			return data, true
		}
	}
	return nil, false
}

// Info is what a kit says of itself, as far as somebody needs it who chooses one.
type Info struct {
	Name     string            `yaml:"kit"`
	About    string            `yaml:"about"`
	Kind     string            `yaml:"kind"`
	Votes    bool              `yaml:"votes"`
	Provides []string          `yaml:"provides"`
	Calls    map[string]string `yaml:"calls"`
}

// Read reads what a kit says of itself.
func Read(name string) (Info, error) {
	var info Info
	data, ok := Content(name)
	if !ok {
		return info, fmt.Errorf("there is no kit %q; there is %s", name, strings.Join(Names(), ", "))
	}
	if err := yaml.Unmarshal(data, &info); err != nil {
		return info, fmt.Errorf("the kit %s cannot be read: %w", name, err)
	}
	return info, nil
}

// About is what a kit is, in a sentence.
func About(name string) string {
	info, err := Read(name)
	if err != nil {
		return err.Error()
	}
	return info.About
}

// CallNames lists whom the kit calls, by name.
func (i Info) CallNames() []string { return slices.Sorted(maps.Keys(i.Calls)) }
