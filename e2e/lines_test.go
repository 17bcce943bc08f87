package e2e

import (
	"encoding/json"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestLinesOfMembers reads what members write: of all and of some, by an expression, without a keeper, and where an agent does not answer.
func TestLinesOfMembers(t *testing.T) {
	t.Parallel()
	x := newTrial(t, "format: 1\nfield: quay\nnodes: [{name: gull-1}, {name: tern-1}]\nroles:\n  bells:\n    members: 2\n    spread: node\n"+
		"    program: {command: [sh, -c, 'echo ahoy from $0; echo \"2026-01-02T03:04:05Z WARN fog\"; exec sleep 600', '{{.Member}}']}\n")
	x.must("deploy", x.file, "--yes", "--timeout", "30s")
	out := x.must("lines", x.file)
	for _, want := range []string{"bells-1  ahoy from bells-1", "bells-2  ahoy from bells-2", "2026-01-02 03:04:05.000  bells-1  WARN fog"} {
		if !strings.Contains(out, want) {
			t.Errorf("all lines lack %q:\n%s", want, out)
		}
	}
	if lines := strings.Split(strings.TrimSpace(out), "\n"); len(lines) != 4 || !strings.Contains(lines[0], "WARN") || !strings.HasPrefix(lines[3], "~") {
		t.Errorf("they are not in the order of their times:\n%s", out)
	}
	x.alone()
	if out := x.must("lines", x.file, "tern-1", "--grep", "ah.y", "--last", "1"); strings.TrimSpace(out) == "" || strings.Contains(out, "fog") || strings.Contains(out, "bells-1 ") {
		t.Errorf("those of tern-1 that match, without a keeper:\n%s", out)
	}
	if out := x.must("lines", x.file, "--since", "1d", "--grep", "fog"); strings.TrimSpace(out) != "" {
		t.Errorf("lines of another year were written in the last day:\n%s", out)
	}
	var all []struct{ Member, Text string }
	if err := json.Unmarshal([]byte(x.must("lines", x.file, "bells-2", "--json")), &all); err != nil || len(all) != 2 || all[1].Text != "ahoy from bells-2" {
		t.Errorf("as JSON: %+v, %v", all, err)
	}
	for what, args := range map[string][]string{"did you mean \"bells\"": {"belles"}, "is no regular expression": {"--grep", "("}, "is no time": {"--since", "soon"}} {
		if out, code := x.try(time.Minute, append([]string{"lines", x.file}, args...)...); code != 2 || !strings.Contains(out, what) {
			t.Errorf("%v: %d, %s", args, code, out)
		}
	}
	if err := syscall.Kill(x.agentOf("gull-1"), syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	if out, code := x.try(time.Minute, "lines", x.file); code != 1 || !strings.Contains(out, "The lines of bells-1 cannot be read") || !strings.Contains(out, "ahoy from bells-2") {
		t.Errorf("with an agent that does not answer: %d\n%s", code, out)
	}
	x.must("retire", x.file, "--yes", "--forget")
	if out, code := x.try(time.Minute, "lines", x.file); code != 2 || !strings.Contains(out, "is not deployed") {
		t.Errorf("of a field that is gone: %d, %s", code, out)
	}
}
