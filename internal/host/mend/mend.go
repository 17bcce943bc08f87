// Package mend does on this machine what members need before they can run there, and undoes it. Whoever asks for it keeps account of what was done.
package mend

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/mending"
	"lanternfield/internal/host"
)

// Mender mends one machine for one field.
type Mender struct {
	Field string
	Root  string // "/"; another folder for tests

	run func(ctx context.Context, env []string, name string, args ...string) ([]byte, error)
}

// New gives a mender of this machine.
func New(field string) *Mender { return &Mender{Field: field, Root: "/", run: run} }

func run(ctx context.Context, env []string, name string, args ...string) ([]byte, error) {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Env = append(os.Environ(), env...)
	out, err := cmd.CombinedOutput()
	if err != nil {
		return out, fmt.Errorf("%s %s: %w: %s", name, strings.Join(args, " "), err, lastLines(out, 3))
	}
	return out, nil
}

func lastLines(out []byte, n int) string {
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	return strings.Join(lines[max(0, len(lines)-n):], "; ")
}

// MayMend tells whether this process may do anything of the kind here.
func MayMend() bool { return os.Geteuid() == 0 }

// HasPackages tells whether there is a package manager here that is known.
func HasPackages() bool {
	_, err := exec.LookPath("apt-get")
	_, none := exec.LookPath("dpkg-query")
	return err == nil && none == nil
}

// Do does a step, and says what it found and made. It may be repeated.
func (m *Mender) Do(ctx context.Context, s mending.Step) (e mending.Entry, err error) {
	e.Step = s
	if err := s.Valid(); err != nil {
		return e, err
	}
	if !MayMend() {
		return e, errors.New("this needs root on the machine")
	}
	if s.Kind == mending.Kernel {
		e.Before, err = m.set(s)
		return e, err
	}
	e.Made, err = m.install(ctx, s.Packages)
	return e, err
}

// Undo undoes what was done. It gives what stays all the same, and why.
func (m *Mender) Undo(ctx context.Context, e mending.Entry) (stays string, err error) {
	if err := e.Valid(); err != nil {
		return "", err
	}
	if e.Kind == mending.Kernel {
		return m.unset(e)
	}
	return m.remove(ctx, e.Made)
}

// prefix is how the names of our files in sysctl.d begin.
const prefix = "90-lanternfield-"

func (m *Mender) folder() string { return filepath.Join(m.Root, "etc/sysctl.d") }

// file is the file of this field's settings.
func (m *Mender) file() string { return filepath.Join(m.folder(), prefix+m.Field+".conf") }

func (m *Mender) proc(setting string) string {
	return filepath.Join(m.Root, "proc/sys", strings.ReplaceAll(setting, ".", "/"))
}

// settings reads a file of settings.
func settings(name string) (map[string]int, error) {
	data, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return map[string]int{}, nil
	}
	out := map[string]int{}
	for line := range strings.Lines(string(data)) {
		key, value, found := strings.Cut(line, "=")
		if n, err := strconv.Atoi(strings.TrimSpace(value)); found && err == nil {
			out[strings.TrimSpace(key)] = n
		}
	}
	return out, err
}

// write writes the file of this field's settings, or takes it away where there are none.
func (m *Mender) write(all map[string]int) error {
	if len(all) == 0 {
		err := os.Remove(m.file())
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	}
	var text bytes.Buffer
	fmt.Fprintf(&text, "# Put here by Lantern Field for the field %s; taken away when it is retired.\n", m.Field)
	var names []string
	for name := range all {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		fmt.Fprintf(&text, "%s = %d\n", name, all[name])
	}
	if err := os.MkdirAll(m.folder(), 0o755); err != nil {
		return err
	}
	tmp := m.file() + ".new"
	if err := os.WriteFile(tmp, text.Bytes(), 0o644); err != nil {
		return host.DiskError(err)
	}
	return os.Rename(tmp, m.file())
}

// set gives a setting of the kernel a value, now and at every start, and gives what it was.
func (m *Mender) set(s mending.Step) (before string, err error) {
	data, err := os.ReadFile(m.proc(s.Setting))
	if err != nil {
		return "", fmt.Errorf("there is no setting %s of the kernel here", s.Setting)
	}
	before = strings.TrimSpace(string(data))
	if err := os.WriteFile(m.proc(s.Setting), []byte(strconv.Itoa(s.Value)), 0o644); err != nil {
		return before, fmt.Errorf("the kernel does not take %d for %s: %w", s.Value, s.Setting, err)
	}
	if data, err = os.ReadFile(m.proc(s.Setting)); err != nil || strings.TrimSpace(string(data)) != strconv.Itoa(s.Value) {
		return before, fmt.Errorf("the kernel does not keep %d for %s: it is %s", s.Value, s.Setting, strings.TrimSpace(string(data)))
	}
	all, err := settings(m.file())
	if err != nil {
		return before, err
	}
	all[s.Setting] = s.Value
	return before, m.write(all)
}

// unset takes our line away, and gives the setting back what it was, unless somebody else has changed it since, or another field needs it.
func (m *Mender) unset(e mending.Entry) (stays string, err error) {
	all, err := settings(m.file())
	if err != nil {
		return "", err
	}
	delete(all, e.Setting)
	if err := m.write(all); err != nil {
		return "", err
	}
	data, err := os.ReadFile(m.proc(e.Setting))
	now := strings.TrimSpace(string(data))
	if err != nil || e.Before == "" || now == e.Before {
		return "", nil
	}
	if now != strconv.Itoa(e.Value) {
		return fmt.Sprintf("%s was changed by somebody else meanwhile, to %s, and is left so", e.Setting, now), nil
	}
	back := e.Before
	others, _ := filepath.Glob(filepath.Join(m.folder(), prefix+"*.conf"))
	for _, name := range others {
		theirs, err := settings(name)
		if was, num := strconv.Atoi(back); err == nil && num == nil && theirs[e.Setting] > was {
			back, stays = strconv.Itoa(theirs[e.Setting]), fmt.Sprintf("%s is %d, which another field needs", e.Setting, theirs[e.Setting])
		}
	}
	return stays, os.WriteFile(m.proc(e.Setting), []byte(back), 0o644)
}
