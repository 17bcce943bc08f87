package mend

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"lanternfield/internal/core/mending"
)

// machineAt is a machine whose files lie below a folder.
func machineAt(t *testing.T, field string) *Mender {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("what only root may do is tried as root")
	}
	m := &Mender{Field: field, Root: t.TempDir()}
	for name, text := range map[string]string{"proc/sys/vm/max_map_count": "65530\n", "etc/sysctl.d/99-own.conf": "vm.swappiness = 1\n"} {
		if err := errors.Join(os.MkdirAll(filepath.Dir(filepath.Join(m.Root, name)), 0o755), os.WriteFile(filepath.Join(m.Root, name), []byte(text), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	return m
}

func (m *Mender) read(name string) string {
	data, err := os.ReadFile(filepath.Join(m.Root, name))
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(data))
}

func raised(value int) mending.Step {
	return mending.Step{Kind: mending.Kernel, Setting: "vm.max_map_count", Value: value}
}

func TestASettingIsRaisedForGoodAndGivenBack(t *testing.T) {
	m := machineAt(t, "quay")
	ctx := context.Background()
	e, err := m.Do(ctx, raised(262144))
	if err != nil || e.Before != "65530" || m.read("proc/sys/vm/max_map_count") != "262144" {
		t.Fatalf("%+v %v %s", e, err, m.read("proc/sys/vm/max_map_count"))
	}
	if text := m.read("etc/sysctl.d/90-lanternfield-quay.conf"); !strings.Contains(text, "vm.max_map_count = 262144") || !strings.HasPrefix(text, "# Put here by Lantern Field for the field quay") {
		t.Errorf("the file says %s", text)
	}
	if _, err := m.Do(ctx, mending.Step{Kind: mending.Kernel, Setting: "vm.nothing", Value: 1}); err == nil || !strings.Contains(err.Error(), "there is no setting vm.nothing") {
		t.Errorf("what is not there is set: %v", err)
	}

	// Another field wants more: what it needs stays.
	other := &Mender{Field: "harbour", Root: m.Root}
	theirs, err := other.Do(ctx, raised(300000))
	if err != nil {
		t.Fatal(err)
	}
	if stays, err := other.Undo(ctx, theirs); err != nil || stays != "" || m.read("proc/sys/vm/max_map_count") != "262144" {
		t.Errorf("back to what the first has set: %q %v %s", stays, err, m.read("proc/sys/vm/max_map_count"))
	}
	if theirs, err = other.Do(ctx, raised(262144)); err != nil {
		t.Fatal(err)
	}
	if stays, err := m.Undo(ctx, e); err != nil || !strings.Contains(stays, "vm.max_map_count is 262144, which another field needs") || m.read("proc/sys/vm/max_map_count") != "262144" {
		t.Errorf("%q %v %s", stays, err, m.read("proc/sys/vm/max_map_count"))
	}
	if m.read("etc/sysctl.d/90-lanternfield-quay.conf") != "" || m.read("etc/sysctl.d/99-own.conf") == "" {
		t.Error("the files are not as they were")
	}

	// Somebody else has changed it since.
	if err := os.WriteFile(m.proc("vm.max_map_count"), []byte("999999\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if stays, err := other.Undo(ctx, theirs); err != nil || !strings.Contains(stays, "was changed by somebody else meanwhile, to 999999") || m.read("proc/sys/vm/max_map_count") != "999999" {
		t.Errorf("%q %v", stays, err)
	}
	if stays, err := other.Undo(ctx, theirs); err != nil { // again
		t.Errorf("%q %v", stays, err)
	}
}

// fakePackages stands for dpkg and apt-get: which packages are installed, and what else a removal would take with it.
type fakePackages struct {
	m         *Mender
	have      []string
	along     []string // installed with others
	needs     string   // is removed with others
	fails     bool
	forbidden bool // services were not allowed to be started
	disabled  []string
	calls     []string
}

func (f *fakePackages) run(_ context.Context, _ []string, name string, args ...string) ([]byte, error) {
	call := name + " " + strings.Join(args, " ")
	f.calls = append(f.calls, call)
	switch {
	case strings.HasPrefix(call, "dpkg-query -W"):
		text := "rc  removed-long-ago\n"
		for _, p := range f.have {
			text += "ii  " + p + "\n"
		}
		return []byte(text), nil
	case strings.HasPrefix(call, "dpkg-query -L"):
		return []byte("/.\n/usr/bin/etcd\n/usr/lib/systemd/system/etcd.service\n/usr/lib/systemd/system/etcd@.service\n/usr/share/doc/x.service\n"), nil
	case strings.HasPrefix(call, "apt-get install"):
		f.forbidden = strings.Contains(f.m.read("usr/sbin/policy-rc.d"), "exit 101")
		f.have = append(f.have, f.along...)
		if f.fails {
			return nil, errors.New("the disk is full")
		}
		f.have = append(f.have, args[4:]...)
	case strings.HasPrefix(call, "apt-get remove") && slices.Contains(args, "-s"):
		text := ""
		for _, p := range args[4:] {
			text += "Remv " + p + " [1]\n"
		}
		if f.needs != "" {
			text += "Remv " + f.needs + " [1]\n"
		}
		return []byte(text), nil
	case strings.HasPrefix(call, "apt-get remove"):
		f.have = slices.DeleteFunc(f.have, func(p string) bool { return slices.Contains(args[3:], p) })
	case name == "systemctl":
		f.disabled = append(f.disabled, args[len(args)-1])
	}
	return nil, nil
}

func TestPackagesAreInstalledWithoutTheirServicesAndRemovedAgain(t *testing.T) {
	m := machineAt(t, "quay")
	if err := os.MkdirAll(filepath.Join(m.Root, "usr/sbin"), 0o755); err != nil {
		t.Fatal(err)
	}
	fake := &fakePackages{m: m, have: []string{"libc6", "curl"}, along: []string{"libetcd"}}
	m.run = fake.run
	ctx := context.Background()
	step := mending.Step{Kind: mending.Packages, Packages: []string{"etcd-server"}}
	e, err := m.Do(ctx, step)
	if err != nil || !slices.Equal(e.Made, []string{"etcd-server", "libetcd"}) {
		t.Fatalf("%+v %v", e, err)
	}
	if !fake.forbidden || m.read("usr/sbin/policy-rc.d") != "" || !slices.Equal(fake.disabled, []string{"etcd.service"}) {
		t.Errorf("services: forbidden while it was installed %t, the policy after it %q, disabled %q", fake.forbidden, m.read("usr/sbin/policy-rc.d"), fake.disabled)
	}
	if again, err := m.Do(ctx, mending.Step{Kind: mending.Packages, Packages: []string{"curl"}}); err != nil || len(again.Made) > 0 {
		t.Errorf("what was there already is ours: %+v %v", again, err)
	}

	// Somebody has installed what needs them; another field is on the machine: they stay, and it is said.
	fake.needs = "backup-tool"
	if stays, err := m.Undo(ctx, e); err != nil || !strings.Contains(stays, "etcd-server, libetcd: backup-tool, which was installed since, needs them") || !slices.Contains(fake.have, "etcd-server") {
		t.Errorf("%q %v %q", stays, err, fake.have)
	}
	fake.needs = ""
	if err := os.MkdirAll(filepath.Join(m.Root, "var/lib/lanternfield/harbour/gull-1/agent"), 0o755); err != nil {
		t.Fatal(err)
	}
	if stays, err := m.Undo(ctx, e); err != nil || !strings.Contains(stays, "the field harbour is on this machine too") || !slices.Contains(fake.have, "etcd-server") {
		t.Errorf("%q %v %q", stays, err, fake.have)
	}
	if err := os.RemoveAll(filepath.Join(m.Root, "var/lib/lanternfield/harbour")); err != nil {
		t.Fatal(err)
	}
	for range 2 { // it may be repeated
		if stays, err := m.Undo(ctx, e); err != nil || stays != "" || !slices.Equal(fake.have, []string{"libc6", "curl", "curl"}) {
			t.Errorf("%q %v %q", stays, err, fake.have)
		}
	}

	// One that fails says what it has made all the same, and leaves no policy behind; somebody's own policy is kept.
	if err := os.WriteFile(filepath.Join(m.Root, "usr/sbin/policy-rc.d"), []byte("#!/bin/sh\nexit 0\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	fake.fails = true
	if e, err = m.Do(ctx, step); err == nil || !strings.Contains(err.Error(), "the disk is full") || !slices.Equal(e.Made, []string{"libetcd"}) {
		t.Errorf("%+v %v", e, err)
	}
	if !strings.Contains(m.read("usr/sbin/policy-rc.d"), "exit 0") {
		t.Error("somebody's policy is gone")
	}
	if !slices.Contains(fake.calls, "apt-get update -q") {
		t.Error("what is known of packages was not brought up to date before it was given up")
	}
}
