package service

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"lanternfield/internal/host"
	"lanternfield/internal/identity"
)

// units is where the units of the host's operator stand.
const units = "/etc/systemd/system"

// hasSystemd tells whether systemd runs this host, and we may give it units.
func hasSystemd() bool {
	_, err := os.Stat("/run/systemd/system")
	return err == nil && os.Geteuid() == 0
}

// Unit is the name of the unit of a node's agent.
func (p Place) Unit() string { return fmt.Sprintf("lanternfield-%s-%s.service", p.Field, p.Node) }

// UnitText is the unit of a node's agent. It may do what members need, and no more: they run under it, as users of their own, with limits raised and
// in control groups of its making.
func (p Place) UnitText() string {
	line := []string{quoted(host.Program(p.Dir, host.AgentProgram))}
	for _, a := range p.args("agent") {
		line = append(line, quoted(a))
	}
	return fmt.Sprintf(`# Put here by Lantern Field for the field %[1]s; taken away when its node %[2]s is given up.
[Unit]
Description=Lantern Field: the agent of %[2]s in %[1]s
After=network-online.target local-fs.target time-sync.target
Wants=network-online.target
RequiresMountsFor=%[3]s
StartLimitIntervalSec=0

[Service]
Type=exec
ExecStart=%[4]s
WorkingDirectory=/
Environment=PATH=%[5]s
Restart=on-failure
RestartSec=1s
# Members go on when this unit is stopped or started again; retire alone ends them.
KillMode=process
Delegate=yes
OOMPolicy=continue
OOMScoreAdjust=-500
LimitCORE=0
# What no member needs either.
ProtectKernelModules=yes
ProtectKernelLogs=yes
ProtectClock=yes
ProtectHostname=yes
RestrictSUIDSGID=yes
RestrictRealtime=no
LockPersonality=yes
SystemCallArchitectures=native

[Install]
WantedBy=multi-user.target
`, p.Field, p.Node, quoted(p.Dir), strings.Join(line, " "), host.ServicePath)
}

// quoted writes a word as a unit takes it.
func quoted(word string) string {
	word = strings.ReplaceAll(word, "%", "%%")
	if strings.ContainsAny(word, " \t\"'\\;$") {
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, `$`, `$$`).Replace(word) + `"`
	}
	return word
}

// install puts the unit there and starts it.
func (p Place) install() error {
	name := p.unitFile()
	if err := identity.WriteSynced(name, []byte(p.UnitText())); err != nil {
		return fmt.Errorf("the unit of the agent cannot be written: %w", err)
	}
	if err := os.Chmod(name, 0o644); err != nil {
		return err
	}
	if err := systemctl("daemon-reload"); err != nil {
		return err
	}
	return systemctl("enable", "--now", p.Unit())
}

func (p Place) unitFile() string { return filepath.Join(units, p.Unit()) }

// uninstall stops the unit and takes it away, where there is one.
func (p Place) uninstall() error { return p.remove("disable", "--now", p.Unit()) }

// disable takes the unit away, and leaves what runs as it is.
func (p Place) disable() error { return p.remove("disable", p.Unit()) }

// remove takes the unit away, where there is one, after systemctl was told something.
func (p Place) remove(tell ...string) error {
	name := p.unitFile()
	if _, err := os.Lstat(name); err != nil {
		return nil
	}
	if hasSystemd() {
		if err := systemctl(tell...); err != nil {
			return err
		}
	}
	if err := os.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if hasSystemd() {
		return systemctl("daemon-reload")
	}
	return nil
}

func systemctl(args ...string) error {
	out, err := exec.Command("systemctl", args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("systemctl %s: %w: %s", strings.Join(args, " "), err, strings.TrimSpace(string(out)))
	}
	return nil
}
