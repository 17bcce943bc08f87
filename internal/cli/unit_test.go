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

// TestTheUnitIsValid has systemd read the unit that brings a field back.
func TestTheUnitIsValid(t *testing.T) {
	t.Setenv("LANTERNFIELD_OWNER_KEY", "/quay/owner.key")
	var out, errs bytes.Buffer
	state := filepath.Join(t.TempDir(), "with space 100%")
	if code := Run(context.Background(), []string{"agent", "--print-unit", "--field", "quay", "--state", state}, nil, &out, &errs, Screens{}); code != 0 {
		t.Fatalf("exit status %d: %s", code, errs.String())
	}
	if !strings.Contains(out.String(), `start --field quay --state "`) || !strings.Contains(out.String(), `with space 100%%"`) || !strings.Contains(out.String(), "\nEnvironment=LANTERNFIELD_OWNER_KEY=/quay/owner.key\n") {
		t.Errorf("got\n%s", out.String())
	}
	if _, err := exec.LookPath("systemd-analyze"); err != nil {
		t.Skip("systemd is not installed here")
	}
	unit := filepath.Join(t.TempDir(), "lanternfield-quay.service")
	if err := os.WriteFile(unit, out.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	if text, err := exec.Command("systemd-analyze", "verify", unit).CombinedOutput(); err != nil {
		t.Errorf("%v\n%s", err, text)
	}
}
