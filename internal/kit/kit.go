// Package kit holds what must be known to run well-known programs as roles. A kit is data: one kit.yaml with the same
// content that a field file may give in place under `program`, and defaults for the role.
package kit

import (
	"embed"
	"slices"
)

//go:embed */kit.yaml
var files embed.FS

// Names lists the kits.
func Names() []string {
	entries, _ := files.ReadDir(".")
	names := make([]string, 0, len(entries))
	for _, e := range entries {
		names = append(names, e.Name())
	}
	slices.Sort(names)
	return names
}

// Content gives the kit of that name.
func Content(name string) ([]byte, bool) {
	if !slices.Contains(Names(), name) {
		return nil, false
	}
	data, err := files.ReadFile(name + "/kit.yaml")
	return data, err == nil
}
