package mend

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// quiet has apt-get and dpkg ask nobody anything.
var quiet = []string{"DEBIAN_FRONTEND=noninteractive", "APT_LISTCHANGES_FRONTEND=none", "LC_ALL=C"}

// installed lists the packages that are installed here.
func (m *Mender) installed(ctx context.Context) (map[string]bool, error) {
	out, err := m.run(ctx, quiet, "dpkg-query", "-W", "-f", "${db:Status-Abbrev} ${Package}\n")
	if err != nil {
		return nil, err
	}
	have := map[string]bool{}
	for line := range strings.Lines(string(out)) {
		if f := strings.Fields(line); len(f) == 2 && strings.HasPrefix(f[0], "ii") {
			have[f[1]] = true
		}
	}
	return have, nil
}

// install installs packages, and gives those that were not there before. Services that they bring are neither started nor enabled: members are run by their
// agents, and such a service would take their ports.
func (m *Mender) install(ctx context.Context, packages []string) (made []string, err error) {
	before, err := m.installed(ctx)
	if err != nil {
		return nil, err
	}
	undo, err := m.forbidServices()
	if err != nil {
		return nil, err
	}
	_, err = m.run(ctx, quiet, "apt-get", append([]string{"install", "-y", "-q", "--no-install-recommends"}, packages...)...)
	if err != nil { // what is known of packages may be out of date
		if _, failed := m.run(ctx, quiet, "apt-get", "update", "-q"); failed == nil {
			_, err = m.run(ctx, quiet, "apt-get", append([]string{"install", "-y", "-q", "--no-install-recommends"}, packages...)...)
		}
	}
	err = errors.Join(err, undo())
	after, failed := m.installed(context.WithoutCancel(ctx))
	for name := range after {
		if !before[name] {
			made = append(made, name)
		}
	}
	slices.Sort(made)
	if err = errors.Join(err, failed); err == nil {
		err = m.disableServices(ctx, made)
	}
	return made, err
}

// forbidServices has installers start no services, as Debian's policy foresees it, and gives what ends that.
func (m *Mender) forbidServices() (undo func() error, err error) {
	name := filepath.Join(m.Root, "usr/sbin/policy-rc.d")
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o755)
	if errors.Is(err, fs.ErrExist) {
		return func() error { return nil }, nil // somebody has said already what may be started
	}
	if err != nil {
		return nil, err
	}
	_, err = f.WriteString("#!/bin/sh\nexit 101\n")
	if err = errors.Join(err, f.Close(), os.Chmod(name, 0o755)); err != nil {
		return nil, errors.Join(err, os.Remove(name))
	}
	return func() error { return os.Remove(name) }, nil
}

// disableServices has the services that packages bring not be started with the machine.
func (m *Mender) disableServices(ctx context.Context, packages []string) error {
	if len(packages) == 0 {
		return nil
	}
	out, err := m.run(ctx, quiet, "dpkg-query", append([]string{"-L"}, packages...)...)
	if err != nil {
		return err
	}
	for line := range strings.Lines(string(out)) {
		line = strings.TrimSpace(line)
		if dir := filepath.Dir(line); (dir == "/lib/systemd/system" || dir == "/usr/lib/systemd/system") && strings.HasSuffix(line, ".service") && !strings.Contains(line, "@") {
			if _, err := m.run(ctx, nil, "systemctl", "disable", "--quiet", filepath.Base(line)); err != nil {
				return fmt.Errorf("the service that was installed along is still started with the machine: %w", err)
			}
		}
	}
	return nil
}

// remove removes packages that were installed by us, unless another field has something here that may need them.
func (m *Mender) remove(ctx context.Context, packages []string) (stays string, err error) {
	have, err := m.installed(ctx)
	if err != nil {
		return "", err
	}
	packages = slices.DeleteFunc(slices.Clone(packages), func(p string) bool { return !have[p] })
	if len(packages) == 0 {
		return "", nil
	}
	if others := m.otherFields(); len(others) > 0 {
		return fmt.Sprintf("%s: the field %s is on this machine too, and may need them", strings.Join(packages, ", "), strings.Join(others, ", ")), nil
	}
	out, err := m.run(ctx, quiet, "apt-get", append([]string{"remove", "-y", "-q", "-s"}, packages...)...)
	if err != nil {
		return "", err
	}
	for line := range strings.Lines(string(out)) { // what somebody else has installed since, and needs them
		if f := strings.Fields(line); len(f) > 1 && f[0] == "Remv" && !slices.Contains(packages, f[1]) {
			return fmt.Sprintf("%s: %s, which was installed since, needs them", strings.Join(packages, ", "), f[1]), nil
		}
	}
	// Not purged: that would delete what somebody may have written with them, such as a database.
	_, err = m.run(ctx, quiet, "apt-get", append([]string{"remove", "-y", "-q"}, packages...)...)
	return "", err
}

// otherFields lists other fields that have nodes here, where that is usual.
func (m *Mender) otherFields() []string {
	var others []string
	entries, _ := filepath.Glob(filepath.Join(m.Root, "var/lib/lanternfield/*/*/agent"))
	for _, e := range entries {
		if name := filepath.Base(filepath.Dir(filepath.Dir(e))); name != m.Field && !slices.Contains(others, name) {
			others = append(others, name)
		}
	}
	return others
}
