// Package kit holds what must be known to run well-known programs as roles, and finds what others have written of that kind. A kit is data: a
// folder with a kit.yaml, which has the same content that a field file may give in place under `program`, with defaults for the role, and
// with the templates of config files beside it.
package kit

import (
	"cmp"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/demo/kits"

	"github.com/goccy/go-yaml"
)

// FileName is the file that makes a folder a kit.
const FileName = "kit.yaml"

// MostBytes is how large one file of a kit may be.
const MostBytes = 1 << 20

//go:embed etcd galera haproxy jetstream nats postgresql prometheus rabbitmq redis sentinel zookeeper
var files embed.FS

// Source is where a kit comes from. Nearer ones hide those of the same name that are further away.
type Source string

// The sources, the nearest first.
const (
	Beside  Source = "beside the field file"
	Own     Source = "your own"
	Shipped Source = "shipped"
	Demo    Source = "of the demo"
)

// Library is where the kits of one field file are looked for: in `kits` beside it, in the person's own folder, and in the program.
type Library struct{ places []place }

type place struct {
	source Source
	folder string // empty for those that ship
	files  fs.FS
}

// Of is the library of a field file, whether that is there yet or not.
func Of(fieldFile string) Library {
	var l Library
	l.add(Beside, filepath.Join(filepath.Dir(fieldFile), "kits"))
	if own, err := Folder(); err == nil {
		l.add(Own, own)
	}
	l.places = append(l.places, place{source: Shipped, files: files}, place{source: Demo, files: kits.Files})
	return l
}

// Folder is where a person's own kits are kept.
func Folder() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("the config folder cannot be found: %w; set XDG_CONFIG_HOME", err)
	}
	return filepath.Join(dir, "lanternfield", "kits"), nil
}

func (l *Library) add(source Source, folder string) {
	l.places = append(l.places, place{source, folder, os.DirFS(folder)})
}

// With is the library with one more kit before all others, in a folder of its own.
func (l Library) With(k Kit) Library {
	if k.Folder == "" {
		return l
	}
	below := filepath.Dir(filepath.Clean(k.Folder))
	if whole, err := filepath.Abs(k.Folder); err == nil && filepath.Base(whole) != filepath.Base(k.Folder) { // "."
		below = filepath.Dir(whole)
	}
	return Library{append([]place{{k.Source, below, os.DirFS(below)}}, l.places...)}
}

// Kit is one kit.
type Kit struct {
	Name   string
	Source Source
	Folder string   // empty for one that ships
	Hides  []Source // of others of that name that are further away
	files  fs.FS    // of its folder
}

// In is the kit in a folder, wherever that is.
func In(folder string) (Kit, error) {
	folder = filepath.Clean(folder)
	info, err := os.Stat(folder)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return Kit{}, fmt.Errorf("there is no folder %s; a kit is a folder with a %s", folder, FileName)
	case err != nil:
		return Kit{}, err
	case !info.IsDir():
		return Kit{}, fmt.Errorf("%s is a file; a kit is a folder with a %s", folder, FileName)
	}
	if _, err := os.Stat(filepath.Join(folder, FileName)); err != nil {
		return Kit{}, fmt.Errorf("%s has no %s, which makes a folder a kit; `lanternfield kit new NAME` writes one to begin with", folder, FileName)
	}
	whole, err := filepath.Abs(folder)
	if err != nil {
		return Kit{}, err
	}
	return Kit{Name: filepath.Base(whole), Source: Beside, Folder: folder, files: os.DirFS(folder)}, nil
}

// All lists the kits, of each name the nearest: those of the nearest place first, the demo's last, and of each place by name.
func (l Library) All() []Kit {
	byName := map[string]*Kit{}
	near := map[Source]int{}
	for i, p := range l.places {
		near[p.source] = i
		entries, _ := fs.ReadDir(p.files, ".")
		for _, e := range entries {
			name := e.Name()
			if !field.NamePattern.MatchString(name) {
				continue
			}
			if _, err := fs.Stat(p.files, name+"/"+FileName); err != nil {
				continue
			}
			if k := byName[name]; k != nil {
				k.Hides = append(k.Hides, p.source)
				continue
			}
			k := &Kit{Name: name, Source: p.source}
			if k.files, _ = fs.Sub(p.files, name); p.folder != "" {
				k.Folder = filepath.Join(p.folder, name)
			}
			byName[name] = k
		}
	}
	all := make([]Kit, 0, len(byName))
	for _, name := range slices.Sorted(maps.Keys(byName)) {
		all = append(all, *byName[name])
	}
	slices.SortStableFunc(all, func(a, b Kit) int { return cmp.Compare(near[a.Source], near[b.Source]) })
	return all
}

// Names lists the names of all kits.
func (l Library) Names() []string {
	var names []string
	for _, k := range l.All() {
		names = append(names, k.Name)
	}
	return names
}

// Find finds the kit of a name.
func (l Library) Find(name string) (Kit, bool) {
	all := l.All()
	if i := slices.IndexFunc(all, func(k Kit) bool { return k.Name == name }); i >= 0 {
		return all[i], true
	}
	return Kit{}, false
}

// Place says where a file of the kit is, for people.
func (k Kit) Place(file string) string {
	if k.Folder == "" {
		return "the shipped kit " + k.Name
	}
	return filepath.Join(k.Folder, filepath.FromSlash(file))
}

// Content is its kit.yaml.
func (k Kit) Content() ([]byte, error) { return k.File(FileName) }

// File is a file of its folder, by a path below that.
func (k Kit) File(name string) ([]byte, error) {
	if !fs.ValidPath(name) {
		return nil, fmt.Errorf("%q does not lead to a file of the kit; write the path below its folder, without going up", name)
	}
	if k.Folder != "" { // not through links to elsewhere: a kit is what is in its folder
		root, err := os.OpenRoot(k.Folder)
		if err != nil {
			return nil, plain(err)
		}
		defer root.Close()
		return limited(root.FS(), name)
	}
	return limited(k.files, name)
}

func limited(from fs.FS, name string) ([]byte, error) {
	info, err := fs.Stat(from, name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("there is no file %s beside %s", name, FileName)
	case err != nil:
		return nil, plain(err)
	case !info.Mode().IsRegular():
		return nil, fmt.Errorf("%s is not a file", name)
	case info.Size() > MostBytes:
		return nil, fmt.Errorf("%s has %d KiB; a file of a kit may have %d KiB at most", name, info.Size()>>10, MostBytes>>10)
	}
	data, err := fs.ReadFile(from, name)
	return data, plain(err)
}

func plain(err error) error {
	var path *fs.PathError
	if errors.As(err, &path) {
		return fmt.Errorf("%s: %w", path.Path, path.Err)
	}
	return err
}

// Info is what a kit says of itself, as far as somebody needs it who chooses one.
type Info struct {
	Name         string            `yaml:"kit"`
	About        string            `yaml:"about"`
	Kind         string            `yaml:"kind"`
	Votes        bool              `yaml:"votes"`
	Provides     []string          `yaml:"provides"`
	Calls        map[string]string `yaml:"calls"`
	Experimental string            `yaml:"experimental"`

	Settings yaml.MapSlice `yaml:"settings"`
}

// Required is a setting that a field must say.
type Required struct{ Name, About string }

// Required lists the settings that a field must say, in the order of the kit.
func (i Info) Required() []Required {
	var out []Required
	for _, item := range i.Settings {
		decl, _ := item.Value.(map[string]any)
		if required, _ := decl["required"].(bool); required {
			about, _ := decl["about"].(string)
			out = append(out, Required{fmt.Sprint(item.Key), about})
		}
	}
	return out
}

// Info reads what the kit says of itself.
func (k Kit) Info() (Info, error) {
	var info Info
	data, err := k.Content()
	if err == nil {
		err = yaml.Unmarshal(data, &info)
	}
	if err != nil {
		first, _, _ := strings.Cut(err.Error(), "\n")
		return Info{Name: k.Name}, fmt.Errorf("the kit %s cannot be read: %s; `lanternfield kit check %s` says more", k.Name, first, k.Folder)
	}
	info.Name = k.Name
	return info, nil
}

// About is what the kit is, in a sentence; or why it cannot be read.
func (k Kit) About() string {
	info, err := k.Info()
	if err != nil {
		return err.Error()
	}
	return info.About
}

// CallNames lists whom the kit calls, by name.
func (i Info) CallNames() []string { return slices.Sorted(maps.Keys(i.Calls)) }
