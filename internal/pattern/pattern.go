// Package pattern makes new field files out of patterns: field files whose nodes, counts and variables are questions. Some
// ship with the tool; others are kept in the person's config folder.
package pattern

import (
	"embed"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/fieldfile"
)

//go:embed patterns/*.pattern.yaml
var shipped embed.FS

const suffix = ".pattern.yaml"

// Pattern is a field file to begin with.
type Pattern struct {
	Name  string
	About string
	Own   bool // the person's own
	File  *fieldfile.File
	Err   error // why it cannot be used
}

// Folder is where a person's own patterns are kept.
func Folder() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("the config folder cannot be found: %w; set XDG_CONFIG_HOME", err)
	}
	return filepath.Join(dir, "lanternfield", "patterns"), nil
}

// All lists the patterns, those that ship first. One that cannot be read is listed too, with the reason.
func All() []Pattern {
	var all []Pattern
	for _, name := range []string{"sql", "store", "messages", "cache", "service", "demo-service", "demo-pipeline", "demo-store", "demo-shards", "demo-observability"} {
		data, err := shipped.ReadFile("patterns/" + name + suffix)
		p := read(name, data)
		if err != nil {
			p.Err = err
		}
		all = append(all, p)
	}
	folder, err := Folder()
	if err != nil {
		return all
	}
	files, _ := filepath.Glob(filepath.Join(folder, "*"+suffix))
	for _, file := range files {
		name := strings.TrimSuffix(filepath.Base(file), suffix)
		data, err := os.ReadFile(file)
		p := read(name, data)
		p.Own = true
		if err != nil {
			p.Err = err
		}
		all = append(all, p)
	}
	return all
}

// Find gives the pattern of that name; the person's own outrank those that ship.
func Find(name string) (Pattern, error) {
	all := All()
	var names []string
	for _, p := range slices.Backward(all) {
		if p.Name == name {
			return p, p.Err
		}
		names = append(names, p.Name)
	}
	slices.Sort(names)
	hint := "there is " + strings.Join(names, ", ")
	if near := field.Nearest(name, names); near != "" {
		hint = fmt.Sprintf("did you mean %q?", near)
	}
	return Pattern{}, fmt.Errorf("there is no pattern %q; %s", name, hint)
}

func read(name string, data []byte) Pattern {
	p := Pattern{Name: name}
	file, err := fieldfile.Parse(name+suffix, data, nil)
	if err != nil {
		p.Err = err
		return p
	}
	p.File, p.About = file, file.Pattern.About
	if p.About == "" {
		p.About = file.Field.About
	}
	return p
}

// Save keeps a field, with its variables, as a pattern of the person's own.
func Save(f *fieldfile.File, name, about string) (string, error) {
	if !field.NamePattern.MatchString(name) {
		return "", fmt.Errorf("%q cannot name a pattern; %s", name, field.NameRule)
	}
	folder, err := Folder()
	if err != nil {
		return "", err
	}
	if about == "" {
		about = f.Field.About
	}
	data, err := f.Put(arrange.At(fmt.Sprintf("{format: 1, about: %q}", about), "pattern"))
	if err != nil {
		return "", err
	}
	file := filepath.Join(folder, name+suffix)
	if _, err := os.Stat(file); err == nil {
		return "", fmt.Errorf("there is a pattern %s already, in %s; take another name, or delete it first", name, file)
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return "", fmt.Errorf("the folder for patterns cannot be made: %w", err)
	}
	return file, os.WriteFile(file, data, 0o644)
}
