package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestAnIncidentIsLookedAtElsewhere has a member break, finds why by a line of the journal, goes to what it follows from, keeps that span, and looks at it
// again where there is no field.
func TestAnIncidentIsLookedAtElsewhere(t *testing.T) {
	t.Parallel()
	x := newTrial(t, `format: 1
field: quay
nodes: [{name: gull-1}, {name: tern-1}]
notices: {after: 1s}
roles:
  bells:
    members: 2
    spread: node
    program:
      command: [sh, -c, 'touch {{.Data}}/ready; while test ! -e {{.Data}}/break; do sleep 0.1; done; echo "panic: the clapper fell"; echo; echo "goroutine 1 [running]:"; echo "main.ring(0x1)"; sleep 1; rm {{.Data}}/break; exit 3']
      ready: {exec: [test, -e, "{{.Data}}/ready"], every: 200ms}
`)
	x.must("deploy", x.file, "--yes", "--timeout", "30s")
	found, err := filepath.Glob(filepath.Join(x.state, "quay", "nodes", "*", "members", "bells-1", "data"))
	if err != nil || len(found) != 1 {
		t.Fatalf("%v %v", found, err)
	}
	s := newScreen(t, x, 120, 32, "open", x.file)
	s.has("2 of 2 lit")
	if err := os.WriteFile(filepath.Join(found[0], "break"), nil, 0o666); err != nil {
		t.Fatal(err)
	}
	s.press("4")
	s.has("went dark", "ended with exit code 3")
	s.press("/")
	s.types("clapper")
	s.has("1 of ", `with "clapper"`, "bells 1")
	s.press("Enter")
	s.has("panic: the clapper fell", "+2")
	s.press("Enter")
	s.has("main.ring(0x1)")
	s.press("w")
	s.has("It follows from this", "the past")
	s.press("n", "Escape", "q")
	x.until("it is lit again", 30*time.Second, func() bool { return x.status().State == "converged" })

	out := filepath.Join(x.dir, "incident.lantern.zip")
	x.contains(x.must("archive", x.file, "--since", "10m", "-o", out), "of quay", "No secret is in it")
	if said, code := x.try(time.Minute, "archive", x.file, "-o", out); code != 2 || !strings.Contains(said, "is there already") {
		t.Errorf("an archive is written over: %d, %s", code, said)
	}
	if said, code := x.try(time.Minute, "archive", x.file, "-o", "incident.zip"); code != 2 || !strings.Contains(said, "ends with .lantern.zip") {
		t.Errorf("another ending is taken: %d, %s", code, said)
	}
	x.must("retire", x.file, "--yes", "--forget")

	// Nothing is left of the field, and all of it can be seen.
	away := *x
	away.state = t.TempDir()
	s = newScreenAt(t, &away, 2, 120, 32, "open", out)
	s.has("An archive, of", "nothing can be changed in it", "bells-1")
	s.press("4")
	s.press("/")
	s.types("dark")
	s.has("went dark", "ended with exit code 3")
	s.press("Enter")
	s.press("1")
	s.press("d")
	s.has("nothing can be changed in it")
	s.press("2")
	s.has("deploy", "bells-2")
	s.press("q")
	if left, _ := os.ReadDir(away.state); len(left) > 0 {
		t.Errorf("it was opened, and its state folder has %v", left)
	}
}
