package fieldfile

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"

	"lanternfield/internal/core/field"
)

// Save replaces the file whole, unless somebody has changed it since it was loaded. Where its name is a link, what it leads to is
// replaced, and the link stays.
func (f *File) Save(data []byte) error {
	name, err := filepath.EvalSymlinks(f.Name)
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", f.Name, err)
	}
	now, err := os.ReadFile(f.Name)
	if err != nil {
		return err
	}
	if string(now) != string(f.Bytes) {
		return fmt.Errorf("%s has been changed by somebody else meanwhile; nothing was written, give the command again", f.Name)
	}
	info, err := os.Stat(f.Name)
	if err != nil {
		return err
	}
	tmp, err := os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name)+".")
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", f.Name, err)
	}
	_, err = tmp.Write(data)
	if err == nil {
		err = tmp.Sync()
	}
	tmp.Close()
	if err == nil {
		err = os.Chmod(tmp.Name(), info.Mode())
	}
	if err == nil {
		err = os.Rename(tmp.Name(), name)
	}
	if err != nil {
		os.Remove(tmp.Name())
		return fmt.Errorf("%s cannot be written: %w", f.Name, err)
	}
	return nil
}

// Create writes a new file; one that is there already is left as it is.
func Create(name string, data []byte) error {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	switch {
	case errors.Is(err, os.ErrExist):
		return fmt.Errorf("there is a %s already; nothing was written", name)
	case err != nil:
		return fmt.Errorf("%s cannot be written: %w", name, err)
	}
	_, err = f.Write(data)
	return errors.Join(err, f.Close())
}

// NameIn finds the field's name in a file, even in one that has errors, so that what was deployed from it can still be
// looked at and retired.
//
// A name that stands in plain text at the beginning of a line is found without the rest being read: that takes a fraction of a millisecond
// and not ten, which every command would wait for.
func NameIn(name, env string) (string, error) {
	if data, err := read(name); err == nil && len(data) <= mostBytes {
		if found := plainName.FindAllSubmatch(data, 2); len(found) == 1 && field.NamePattern.Match(found[0][1]) {
			return string(found[0][1]), nil
		}
	}
	f, err := Load(name, env)
	if err == nil {
		return f.Field.Name, nil
	}
	data, unread := read(name)
	if unread != nil || len(data) > mostBytes {
		return "", err
	}
	if d := parse(name, data); d.root != nil {
		if word, ok := d.root.get("field").text(); ok && field.NamePattern.MatchString(word) && env == "" {
			return word, nil
		}
	}
	return "", err
}

var plainName = regexp.MustCompile(`(?m)^field:[ \t]+([a-z][a-z0-9-]*)[ \t]*(?:#.*)?\r?$`)

func (n *node) text() (string, bool) {
	if n == nil {
		return "", false
	}
	s, ok := n.scalar.(string)
	return s, ok
}
