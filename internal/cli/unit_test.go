package cli

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestTheUnitsAreValid has systemd read the units that bring a field back, and that keep it, also after it was handed over.
func TestTheUnitsAreValid(t *testing.T) {
	t.Setenv("LANTERNFIELD_OWNER_KEY", "/quay/owner.key")
	state := filepath.Join(t.TempDir(), "with space 100%")
	for command, wants := range map[string][]string{"agent": {`start --field quay --state "`}, "serve": {`serve --field quay --state "`, "\nRestart=always\n"}} {
		var out, errs bytes.Buffer
		if code := Run(context.Background(), []string{command, "--print-unit", "--field", "quay", "--state", state}, nil, &out, &errs, Screens{}); code != 0 {
			t.Fatalf("%s: exit status %d: %s", command, code, errs.String())
		}
		for _, want := range append(wants, `with space 100%%"`, "\nEnvironment=LANTERNFIELD_OWNER_KEY=/quay/owner.key\n") {
			if !strings.Contains(out.String(), want) {
				t.Errorf("%s: %q is not in\n%s", command, want, out.String())
			}
		}
		if _, err := exec.LookPath("systemd-analyze"); err != nil {
			t.Skip("systemd is not installed here")
		}
		unit := filepath.Join(t.TempDir(), "lanternfield-quay.service")
		if err := os.WriteFile(unit, out.Bytes(), 0o600); err != nil {
			t.Fatal(err)
		}
		if text, err := exec.Command("systemd-analyze", "verify", unit).CombinedOutput(); err != nil {
			t.Errorf("%s: %v\n%s", command, err, text)
		}
	}
}
