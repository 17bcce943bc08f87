package cli

import (
	"errors"
	"fmt"
	"os"
	"os/user"
	"strconv"
	"strings"

	"lanternfield/internal/control"
	"lanternfield/internal/keyring"
)

// printUnit prints a systemd unit that brings the agents and members of a deployed field back after the machine was started.
func (a *app) printUnit() error {
	if a.name == "" {
		return errors.New("say which field is to be brought back: lanternfield agent --print-unit --field NAME")
	}
	if _, err := a.folderOf(a.name); err != nil {
		return err
	}
	root, who, binary, owner, err := a.forUnit()
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, `# Brings %[1]s back after a start of the machine. Save it as /etc/systemd/system/lanternfield-%[1]s.service, then:
#   systemctl daemon-reload && systemctl enable lanternfield-%[1]s
[Unit]
Description=Lantern Field: brings %[1]s back
After=network-online.target local-fs.target
Wants=network-online.target
RequiresMountsFor=%[2]s

[Service]
Type=oneshot
RemainAfterExit=yes
User=%[3]s
Environment=%[5]s
ExecStart=%[4]s start --field %[1]s --state %[2]s --timeout 30m
TimeoutStartSec=35min
# Agents and members go on when this unit is stopped; they are ended by stop and retire alone.
KillMode=process
Delegate=yes

[Install]
WantedBy=multi-user.target
`, a.name, root, who, binary, owner)
	return nil
}

// printServeUnit prints a systemd unit that keeps a field.
func (a *app) printServeUnit(name string) error {
	root, who, binary, owner, err := a.forUnit()
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, `# Keeps %[1]s. Save it as /etc/systemd/system/lanternfield-%[1]s.service, then:
#   systemctl daemon-reload && systemctl enable --now lanternfield-%[1]s
[Unit]
Description=Lantern Field: keeps %[1]s
After=network-online.target local-fs.target
Wants=network-online.target
RequiresMountsFor=%[2]s

[Service]
User=%[3]s
Environment=%[5]s
ExecStart=%[4]s serve --field %[1]s --state %[2]s
# Also after it has handed over to a command of a newer release: it is started again as that release.
Restart=always
RestartSec=1s
# Agents and members go on when this unit is stopped; they are ended by stop and retire alone.
KillMode=process
Delegate=yes

[Install]
WantedBy=multi-user.target
`, name, root, who, binary, owner)
	return nil
}

// forUnit gives what a unit file is made of: the state folder, the user, the program and the variable with the owner's key, quoted.
func (a *app) forUnit() (root, who, binary, owner string, err error) {
	if root, err = control.Root(a.state); err == nil {
		binary, err = os.Executable()
	}
	who = "root"
	if u, err := user.Current(); err == nil {
		who = u.Username
	}
	key, missing := keyring.OwnerFile()
	return quotedForUnit(root), who, quotedForUnit(binary), quotedForUnit(keyring.OwnerVariable + "=" + key), errors.Join(err, missing)
}

// quotedForUnit writes a path as a unit file takes it.
func quotedForUnit(path string) string {
	path = strings.ReplaceAll(path, "%", "%%")
	if strings.ContainsAny(path, " \t\"'\\") {
		return strconv.Quote(path)
	}
	return path
}
