package service

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"lanternfield/internal/agent"
	"lanternfield/internal/host"
	"lanternfield/internal/identity"
)

var quay = Place{Dir: "/srv/it's $mine %1/quay/gull-1", Field: "quay", Node: "gull-1", Address: "10.1.0.1", Ports: agent.Ports{First: 7800, Last: 7899}}

// TestTheUnitIsOne has systemd itself look at the unit of an agent.
func TestTheUnitIsOne(t *testing.T) {
	text := quay.UnitText()
	for _, want := range []string{"KillMode=process", "Delegate=yes", "LimitCORE=0", "Restart=on-failure", `"/srv/it's $$mine %%1/quay/gull-1/bin/lanternfield-agent" agent --dir "/srv/it's $$mine %%1/quay/gull-1" --node gull-1`} {
		if !strings.Contains(text, want) {
			t.Errorf("there is no %s in\n%s", want, text)
		}
	}
	analyze, err := exec.LookPath("systemd-analyze")
	if err != nil {
		t.Skip("systemd-analyze is not here")
	}
	p := quay
	p.Dir = filepath.Join(t.TempDir(), "quay", "gull-1")
	program := host.Program(p.Dir, host.AgentProgram)
	if err := os.MkdirAll(filepath.Dir(program), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(program, []byte("#!/bin/sh\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	unit := filepath.Join(t.TempDir(), p.Unit())
	if err := os.WriteFile(unit, []byte(p.UnitText()), 0o644); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command(analyze, "verify", "--man=no", unit).CombinedOutput()
	for line := range strings.Lines(string(out)) {
		if strings.Contains(line, p.Unit()) {
			t.Errorf("systemd says: %s (%v)", line, err)
		}
	}
}

func TestWhatIsNoPlaceOfANodeIsRefused(t *testing.T) {
	if err := quay.Valid(); err != nil {
		t.Fatal(err)
	}
	for _, change := range []func(*Place){
		func(p *Place) { p.Dir = "srv/quay" }, func(p *Place) { p.Dir = "/srv/../etc" }, func(p *Place) { p.Dir = "/" }, func(p *Place) { p.Dir = "/srv" }, func(p *Place) { p.Node = "../gull" },
		func(p *Place) { p.Field = "quay;reboot" }, func(p *Place) { p.Address = "quay" },
	} {
		p := quay
		if change(&p); p.Valid() == nil {
			t.Errorf("%+v is taken", p)
		}
	}
	for text, want := range map[string]bool{"7800-7899": true, "80-80": true, "7899-7800": false, "0-1": false, "1-70000": false, "7800": false, "7800-7899x": false} {
		if _, err := ParsePorts(text); (err == nil) != want {
			t.Errorf("ports %q: %v", text, err)
		}
	}
}

// enrolled makes the identity of an agent of a new field.
func enrolled(t *testing.T) *identity.Agent {
	t.Helper()
	authority, _, err := identity.New()
	if err != nil {
		t.Fatal(err)
	}
	var a identity.Agent
	request, err := a.Request()
	if err != nil {
		t.Fatal(err)
	}
	certificate, err := authority.Sign(request, "gull-1")
	if err != nil {
		t.Fatal(err)
	}
	if err := a.Take(certificate, authority.Certificate()); err != nil {
		t.Fatal(err)
	}
	return &a
}

// TestTheFolderOfAnotherFieldIsLeftAlone has a field of the same name find the agent of another.
func TestTheFolderOfAnotherFieldIsLeftAlone(t *testing.T) {
	p := quay
	p.Dir = filepath.Join(t.TempDir(), "quay", "gull-1")
	first, seal := enrolled(t), bytes.Repeat([]byte{7}, 32)
	if err := foreign(p, seal); err != nil {
		t.Errorf("an empty folder: %v", err)
	}
	if err := os.MkdirAll(host.OwnFolder(p.Dir), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := first.Keep(host.IdentityFile(p.Dir), seal); err != nil {
		t.Fatal(err)
	}
	var again identity.Agent
	if got, err := again.Load(host.IdentityFile(p.Dir)); err != nil || !bytes.Equal(got, seal) {
		t.Errorf("what is kept is read back as %x, %v", got, err)
	}
	if info, _ := os.Stat(host.IdentityFile(p.Dir)); info.Mode().Perm() != 0o600 {
		t.Errorf("its mode: %v", info.Mode())
	}
	if err := foreign(p, seal); err != nil {
		t.Errorf("the same field: %v", err)
	}
	if err := foreign(p, bytes.Repeat([]byte{8}, 32)); err == nil || !strings.Contains(err.Error(), "is the folder of another field quay that has a node gull-1 here") {
		t.Errorf("another field: %v", err)
	}
}
