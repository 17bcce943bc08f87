package e2e

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"
)

// quay is a role whose members check their file before they take it, and one that takes changes at its next start.
const quay = `format: 1
field: quay
nodes: [{name: "gull-{1..3}", zone: north-quay}]
roles:
  relays:
    kind: broker
    members: 3
    spread: node
    program:
      command: [{{witness}}, '{{.Address}}:{{.Port "main"}}']
      ports: {main: {port: 7100}}
      restart: {after: 200ms}
      on_change: reload
      reload: {signal: WINCH}
      validate: {exec: [sh, -c, 'cat relay.conf && ! grep -q bogus relay.conf']}
      files: {relay.conf: {template: "level: info\n"}}
  crews:
    members: 3
    spread: node
    program:
      command: [{{witness}}, '{{.Address}}:{{.Port "main"}}', depth=1]
      ports: {main: {port: 7200}}
      restart: {after: 200ms}
`

// home is the folder of a member.
func (x *trial) home(member string) string {
	x.Helper()
	return filepath.Join(x.state, x.field(), "nodes", x.status().member(member).Node, "members", member)
}

// edit replaces text in the field file, which must have it.
func (x *trial) edit(from, to string) {
	x.Helper()
	data, err := os.ReadFile(x.file)
	if err != nil || !strings.Contains(string(data), from) {
		x.Fatalf("the file has no %q (%v)", from, err)
	}
	x.write(strings.ReplaceAll(string(data), from, to))
}

// TestAFileThatItsProgramRefusesStaysOut changes a file to one that the program's own check refuses: the deploy fails with
// the program's reason, the file from before stays in force, also over a crash, and nobody else is given it.
func TestAFileThatItsProgramRefusesStaysOut(t *testing.T) {
	x := newTrial(t, quay)
	x.must("deploy", x.file, "--yes")
	before := x.status()
	x.edit("level: info", "level: info\\nbogus: 7")
	out, code := x.try(time.Minute, "deploy", x.file, "--yes")
	if code != 1 {
		t.Errorf("exit status %d\n%s", code, out)
	}
	x.contains(out, "stopped half-way", "relays-1", "bogus: 7")
	for _, name := range []string{"relays-1", "relays-2", "relays-3"} {
		if data, err := os.ReadFile(filepath.Join(x.home(name), "relay.conf")); err != nil || string(data) != "level: info\n" {
			t.Errorf("%s has %q (%v)", name, data, err)
		}
		if m := x.status().member(name); m.PID != before.member(name).PID {
			t.Errorf("%s was restarted", name)
		}
	}
	if err := syscall.Kill(before.member("relays-1").PID, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	x.until("it is back with its old file", 20*time.Second, func() bool {
		m := x.status().member("relays-1")
		return m.Phase == "ready" && m.PID != before.member("relays-1").PID
	})
	x.edit("\\nbogus: 7", "\\nmended: 7")
	x.must("deploy", x.file, "--yes")
	if data, _ := os.ReadFile(filepath.Join(x.home("relays-3"), "relay.conf")); string(data) != "level: info\nmended: 7\n" {
		t.Errorf("after the mended deploy relays-3 has %q", data)
	}
}

// TestWhatWaitsForAStartIsShown changes a command line that takes effect at the next start: the status says so, the files
// are compared with what runs, and the restart that the review offers brings it.
func TestWhatWaitsForAStartIsShown(t *testing.T) {
	x := newTrial(t, quay)
	x.must("deploy", x.file, "--yes")
	before := x.status()
	x.edit("depth=1", "depth=2")
	if out := x.must("review", x.file, "--files", "crews-2"); !strings.Contains(out, "command\n") || !strings.Contains(out, "- ") || !strings.Contains(out, "depth=1") || !strings.Contains(out, "depth=2") || strings.Contains(out, "crews-1") {
		t.Errorf("a review of one with its files: %s", out)
	}
	x.must("deploy", x.file, "--yes")
	s := x.status()
	if s.member("crews-1").PID != before.member("crews-1").PID {
		t.Fatal("crews-1 was restarted")
	}
	x.contains(s.Verdict, "3 members of crews wait for a restart to take a changed command line")
	out, _ := x.try(time.Minute, "files", x.file, "crews-1", "--against", "live")
	x.contains(out, "depth=1")
	x.contains(out, "depth=2")
	x.must("restart", x.file, "crews", "--yes")
	s = x.status()
	if strings.Contains(s.Verdict, "wait for a restart") {
		t.Errorf("after the restart: %s", s.Verdict)
	}
	for _, name := range []string{"crews-1", "crews-2", "crews-3"} {
		command, _ := os.ReadFile("/proc/" + strconv.Itoa(s.member(name).PID) + "/cmdline")
		if !strings.Contains(string(command), "depth=2") {
			t.Errorf("%s runs %q", name, command)
		}
	}
	if out, _ = x.try(time.Minute, "files", x.file, "crews-1", "--against", "live"); strings.Contains(out, "depth=1") {
		t.Errorf("the files still differ:\n%s", out)
	}
}

// TestAMissingProgramIsFoundBeforeAnybodyIsStopped names a program that no node has: nothing is stopped for it.
func TestAMissingProgramIsFoundBeforeAnybodyIsStopped(t *testing.T) {
	x := newTrial(t, strings.Replace(quay, "depth=1]", "depth=1]\n      on_change: restart", 1))
	x.must("deploy", x.file, "--yes")
	before := x.status()
	self, _ := os.Executable()
	x.edit(fmt.Sprintf("%s, witness, %s, '{{.Address}}:{{.Port \"main\"}}', depth=1", self, x.witness), "no-such-program, depth=2")
	out, code := x.try(time.Minute, "deploy", x.file, "--yes")
	if code == 0 {
		t.Errorf("it was deployed:\n%s", out)
	}
	x.contains(out, "no-such-program", "gull-")
	for _, m := range x.status().Members {
		if m.PID != before.member(m.Member).PID || m.Phase != "ready" {
			t.Errorf("%+v", m)
		}
	}
}

// TestANodeThatIsTakenOutIsLeft sets a node out of use: check lists the move, the review too, and the deploy makes it.
func TestANodeThatIsTakenOutIsLeft(t *testing.T) {
	x := newTrial(t, strings.Replace(quay, `[{name: "gull-{1..3}", zone: north-quay}]`, `
  - {name: gull-1, zone: north-quay}
  - {name: gull-2, zone: north-quay}
  - {name: gull-3, zone: north-quay}
  - {name: tern-1, zone: south-quay}`, 1))
	x.must("deploy", x.file, "--yes")
	var at string
	for _, m := range x.status().Members {
		if m.Node == "gull-2" {
			at = m.Member
		}
	}
	if at == "" {
		t.Fatal("nobody is on gull-2")
	}
	x.edit("{name: gull-2, zone: north-quay}", "{name: gull-2, zone: north-quay, out: maintenance}")
	x.contains(x.must("check", x.file), at, "gull-2")
	x.contains(x.must("deploy", x.file, "--yes"), at)
	for _, m := range x.status().Members {
		if m.Node == "gull-2" {
			t.Errorf("%s is still on gull-2", m.Member)
		}
	}
}

// TestOneMemberDoesNotHoldUpTheRest has a role that crashes for reasons of its own: another one stops and restarts at once.
func TestOneMemberDoesNotHoldUpTheRest(t *testing.T) {
	t.Parallel()
	x := newTrial(t, quay+`  bad:
    members: 1
    program:
      command: [sh, -c, 'echo out of rope >&2; sleep 0.2; exit 3']
      restart: {after: 200ms}
`)
	_, _ = x.try(time.Minute, "deploy", x.file, "--yes", "--timeout", "4s")
	begin := time.Now()
	x.must("stop", x.file, "crews", "--yes")
	if took := time.Since(begin); took > 30*time.Second {
		t.Errorf("stopping a role that is well took %s", took)
	}
	if m := x.status().member("crews-1"); m.Phase != "stopped" && m.Phase != "off" {
		t.Errorf("%+v", m)
	}
	x.must("start", x.file, "crews", "--yes")
	if m := x.status().member("crews-1"); m.Phase != "ready" {
		t.Errorf("%+v", m)
	}
}

// TestTwoLeadersAreTheWorstNews has two members say that they lead, and then one.
func TestTwoLeadersAreTheWorstNews(t *testing.T) {
	t.Parallel()
	x := newTrial(t, strings.Replace(quay, "depth=1]", `depth=1]
      leader:
        exec: [cat, "{{.Dir}}/leads"]
        is_me: output contains "yes"
        every: 100ms
        timeout: 1s`, 1))
	if out, code := x.try(time.Minute, "deploy", x.file, "--yes", "--timeout", "5s"); code != 1 || !strings.Contains(out, "nobody leads crews") {
		t.Errorf("with nobody who leads: exit status %d\n%s", code, out)
	}
	lead := func(member, answer string) {
		if err := os.WriteFile(filepath.Join(x.home(member), "leads"), []byte(answer+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	leader := func() string {
		for _, r := range x.status().Roles {
			if r.Role == "crews" {
				return r.Leader
			}
		}
		return ""
	}
	lead("crews-1", "yes")
	lead("crews-2", "no")
	lead("crews-3", "no")
	x.until("crews-1 leads", 10*time.Second, func() bool { return leader() == "crews-1" })
	x.must("deploy", x.file, "--yes")
	lead("crews-2", "yes")
	x.until("two leaders are told", 10*time.Second, func() bool {
		s := x.status()
		return s.State != "converged" && strings.Contains(s.Verdict, "crews-1 and crews-2")
	})
	lead("crews-1", "no")
	x.until("crews-2 leads alone", 10*time.Second, func() bool { return leader() == "crews-2" && x.status().State == "converged" })
}

// TestSoakOfChangesUnderKills rolls changes through a role one by one while controllers and agents are killed at seeded
// moments. At no time is a second member down, no member runs twice, and the end is the same. LANTERNFIELD_SOAK says how
// many kills there are (make soak: 300).
func TestSoakOfChangesUnderKills(t *testing.T) {
	const seed = 20260103
	wanted := 12
	if text := os.Getenv("LANTERNFIELD_SOAK"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil {
			t.Fatalf("LANTERNFIELD_SOAK: %v", err)
		}
		wanted = n
	}
	t.Logf("seed %d, %d kills", seed, wanted)
	random := rand.New(rand.NewPCG(seed, 1))
	x := newTrial(t, strings.Replace(quay, "depth=1]", "depth=1]\n      on_change: restart", 1))
	x.must("deploy", x.file, "--yes")
	ctx, end := context.WithCancel(context.Background())
	var worst atomic.Int32
	var where atomic.Value
	watched := make(chan struct{})
	members := []member{}
	for _, m := range x.status().Members {
		if m.Role == "crews" {
			members = append(members, m)
		}
	}
	go func() {
		defer close(watched)
		for ctx.Err() == nil {
			var down []string
			for _, m := range members {
				c, err := net.DialTimeout("tcp", net.JoinHostPort(m.Address, strconv.Itoa(m.Ports["main"])), time.Second)
				if errors.Is(err, syscall.ECONNREFUSED) {
					down = append(down, m.Member)
				} else if err == nil {
					c.Close()
				}
			}
			if n := int32(len(down)); n > worst.Load() {
				worst.Store(n)
				where.Store(fmt.Sprintf("%s, at %s,", strings.Join(down, " and "), time.Now().Format("15:04:05.000")))
			}
			time.Sleep(10 * time.Millisecond) // so that closed connections do not use up the ports
		}
	}()
	deploy := func() *exec.Cmd {
		cmd := x.command(ctx, "deploy", x.file, "--yes")
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		return cmd
	}
	kills, depth := 0, 1
	for kills < wanted {
		x.edit(fmt.Sprintf("depth=%d]", depth), fmt.Sprintf("depth=%d]", depth+1))
		depth++
		cmd := deploy()
		for range 1 + random.IntN(4) {
			time.Sleep(time.Duration(random.IntN(250)) * time.Millisecond) // the moment is the seed's choice
			if agents := x.agents(); random.IntN(2) == 0 && len(agents) > 0 {
				_ = syscall.Kill(agents[random.IntN(len(agents))], syscall.SIGKILL)
			} else {
				x.killKeeper()
				_ = cmd.Process.Kill()
				_ = cmd.Wait()
				cmd = deploy()
			}
			kills++
		}
		_ = cmd.Wait()
		x.must("deploy", x.file, "--yes")
		s := x.status()
		if s.State != "converged" || len(s.Members) != 6 {
			t.Fatalf("after %d kills: %s: %s", kills, s.State, s.Verdict)
		}
		for _, m := range s.Members {
			command, _ := os.ReadFile("/proc/" + strconv.Itoa(m.PID) + "/cmdline")
			if m.Role == "crews" && !strings.Contains(string(command), fmt.Sprintf("depth=%d\x00", depth)) {
				t.Fatalf("after %d kills %s runs %q, and not with depth=%d", kills, m.Member, command, depth)
			}
		}
	}
	end()
	<-watched
	if worst.Load() > 1 {
		t.Errorf("%v were down at the same time", where.Load())
	}
	if running := x.witnesses(); running != 6 {
		t.Errorf("%d members' processes run, want 6: %v", running, x.processes())
	}
	t.Logf("%d kills over %d changes; at most %d down at a time", kills, depth-1, worst.Load())
}
