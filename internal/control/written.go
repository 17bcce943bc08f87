package control

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/kballard/go-shellquote"

	"lanternfield/internal/identity"
)

// EnvFile has the environment of a client's tools, for `.` in a shell; URLFile the URL with which it connects.
const (
	EnvFile = "access.env"
	URLFile = "url"
)

// Written are the files of a client, by name.
func (a *Access) Written() map[string]string {
	files := maps.Clone(a.Bring)
	if files == nil {
		files = map[string]string{}
	}
	maps.Copy(files, a.Files)
	var env strings.Builder
	for _, name := range slices.Sorted(maps.Keys(a.Env)) {
		fmt.Fprintf(&env, "export %s=%s\n", name, shellquote.Join(a.Env[name]))
	}
	if env.Len() > 0 {
		files[EnvFile] = env.String()
	}
	for _, f := range a.Forms {
		if f.Name == "URL" {
			files[URLFile] = f.Text + "\n"
		}
	}
	return files
}

// WriteTo writes the files of a client into a folder, for its owner only. Where one of them is there already, nothing is written.
func (a *Access) WriteTo(folder string) ([]string, error) {
	files := a.Written()
	names := slices.Sorted(maps.Keys(files))
	if len(names) == 0 {
		return nil, fmt.Errorf("a client of %s needs no files", a.Role)
	}
	for _, name := range names {
		if _, err := os.Lstat(filepath.Join(folder, name)); err == nil {
			return nil, fmt.Errorf("%s is there already, and nothing has been written; name another folder, or take that file away", filepath.Join(folder, name))
		}
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	for i, name := range names {
		if err := WriteNew(filepath.Join(folder, name), []byte(files[name]), 0o600); err != nil {
			return names[:i], err
		}
	}
	return names, nil
}

// WriteNew writes a file that is not there yet.
func WriteNew(name string, data []byte, mode os.FileMode) error {
	if _, err := os.Lstat(name); err == nil {
		return fmt.Errorf("%s is there already, and is left as it is; name another file, or take that one away", name)
	} else if !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if err := identity.WriteSynced(name, data); err != nil {
		return err
	}
	return os.Chmod(name, mode)
}
