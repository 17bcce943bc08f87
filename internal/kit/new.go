package kit

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"lanternfield/internal/core/field"
)

//go:embed skeleton
var skeleton embed.FS

// New writes a kit to begin with into a folder of its name below another one. It is right as it is, and says at each word what it is for. What
// is there already is left alone.
func New(below, name string) (Kit, error) {
	if !field.NamePattern.MatchString(name) {
		return Kit{}, fmt.Errorf("%q cannot name a kit; %s", name, field.NameRule)
	}
	folder := filepath.Join(below, name)
	if err := os.MkdirAll(below, 0o755); err != nil {
		return Kit{}, err
	}
	if err := os.Mkdir(folder, 0o755); errors.Is(err, fs.ErrExist) {
		return Kit{}, fmt.Errorf("%s is there already; nothing was written", folder)
	} else if err != nil {
		return Kit{}, err
	}
	entries, err := skeleton.ReadDir("skeleton")
	if err != nil {
		return Kit{}, err
	}
	for _, e := range entries {
		data, err := skeleton.ReadFile("skeleton/" + e.Name())
		if err == nil {
			err = os.WriteFile(filepath.Join(folder, e.Name()), []byte(strings.ReplaceAll(string(data), "NAME", name)), 0o644)
		}
		if err != nil {
			return Kit{}, err
		}
	}
	return In(folder)
}
