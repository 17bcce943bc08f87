// Package e2e tries the program as it is: the real binary, real agents, real processes, real failures.
package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// binary is the program under test, built once.
var binary string

func TestMain(m *testing.M) {
	if len(os.Args) > 3 && os.Args[1] == "agent" {
		oldAgent(os.Args[3])
		return
	}
	if len(os.Args) > 1 && os.Args[1] == "witness" {
		witness(os.Args[2:])
		return
	}
	os.Exit(run(m))
}

func run(m *testing.M) int {
	dir, err := os.MkdirTemp("", "lanternfield-e2e-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	if err := os.Setenv("LANTERNFIELD_OWNER_KEY", filepath.Join(dir, "owner.key")); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	binary = filepath.Join(dir, "lanternfield")
	build := exec.Command("go", "build", "-o", binary, "lanternfield/cmd/lanternfield")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%v\n%s", err, out)
		return 1
	}
	return m.Run()
}

// trial is one field with a state folder of its own.
type trial struct {
	*testing.T
	dir, state, file, witness string
	list                      string // the file that is a cluster's list; see listed
	cleaned                   bool
}

// newTrial writes a field file; {{witness}} in it becomes the command of the witness program, up to its address.
func newTrial(t *testing.T, content string) *trial {
	t.Helper()
	dir, err := os.MkdirTemp("", "lf-")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	x := &trial{T: t, dir: dir, state: filepath.Join(dir, "state"), file: filepath.Join(dir, "it.field.yaml"), witness: filepath.Join(dir, "witness.log")}
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	x.write(strings.ReplaceAll(content, "{{witness}}", fmt.Sprintf("%s, witness, %s", self, x.witness)))
	t.Cleanup(x.clean)
	return x
}

func (x *trial) write(content string) {
	x.Helper()
	if err := os.WriteFile(x.file, []byte(content), 0o644); err != nil {
		x.Fatal(err)
	}
}

// clean takes the field down, and fails the test when that leaves anything.
func (x *trial) clean() {
	if x.cleaned {
		return
	}
	x.cleaned = true
	if x.Failed() {
		out, _ := x.try(time.Minute, "journal", x.file)
		x.Logf("journal:\n%s", tail(out, 60))
	}
	_, _ = x.try(time.Minute, "retire", x.file, "--yes")
	for until := time.Now().Add(5 * time.Second); x.keepers() > 0 && time.Now().Before(until); {
		time.Sleep(20 * time.Millisecond)
	}
	if n := x.keepers(); n > 0 {
		x.Errorf("%d keepers are left", n)
	}
	if left := x.processes(); len(left) > 0 {
		x.Errorf("left behind: %v", left)
		for _, p := range left {
			_ = syscall.Kill(p.pid, syscall.SIGKILL)
		}
	}
	if data, _ := os.ReadFile(x.witness); strings.Contains(string(data), "OVERLAP") {
		x.Errorf("two lifetimes of one member overlap:\n%s", data)
	}
	os.RemoveAll(x.dir)
}

func tail(text string, n int) string {
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	return strings.Join(lines[max(0, len(lines)-n):], "\n")
}

func (x *trial) command(ctx context.Context, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, binary, args...)
	cmd.Env = append(os.Environ(), "LANTERNFIELD_STATE="+x.state)
	cmd.Dir = x.dir
	return cmd
}

// keeper gives the process that keeps the field; 0 where nobody does.
func (x *trial) keeper() int {
	for _, name := range []string{x.field()} {
		file, err := os.Open(filepath.Join(x.state, name, "own", "lock"))
		if err != nil {
			continue
		}
		defer file.Close()
		var held struct{ PID int }
		if json.NewDecoder(file).Decode(&held) == nil && syscall.Flock(int(file.Fd()), syscall.LOCK_SH|syscall.LOCK_NB) != nil {
			return held.PID
		}
	}
	return 0
}

// killKeeper kills the process that keeps the field, if there is one.
func (x *trial) killKeeper() {
	if pid := x.keeper(); pid > 0 {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
}

// alone waits until nobody keeps the field.
func (x *trial) alone() {
	x.Helper()
	x.until("nobody keeps the field", 20*time.Second, func() bool { return x.keeper() == 0 })
}

// try runs a command and gives all its output and its exit status.
func (x *trial) try(limit time.Duration, args ...string) (string, int) {
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	cmd := x.command(ctx, args...)
	out, err := cmd.CombinedOutput()
	if err != nil && cmd.ProcessState == nil {
		return err.Error(), -1
	}
	return string(out), cmd.ProcessState.ExitCode()
}

// must runs a command that has to succeed.
func (x *trial) must(args ...string) string {
	x.Helper()
	out, code := x.try(2*time.Minute, args...)
	if code != 0 {
		x.Fatalf("%v: exit status %d\n%s", args, code, out)
	}
	return out
}

// status is what other programs may rely on.
type status struct {
	Field, State, Verdict string
	Roles                 []struct {
		Role, Kind, Leader  string
		Want, Ready, Voters int
		VotesNeeded         int `json:"votes_needed"`
		Survives            int
		LeaderTerm          uint64 `json:"leader_term"`
		Roster              []struct{ Name string }
	}
	Members []member
	Nodes   []node
}

type node struct {
	Node, Zone, Address, Why string
	Asked                    bool
}

func (s status) node(name string) node {
	for _, n := range s.Nodes {
		if n.Node == name {
			return n
		}
	}
	return node{}
}

type member struct {
	Member, Role, Node, Zone, Phase, Address, Why string
	Version                                       string
	Writes                                        bool
	Ports                                         map[string]int
	PID                                           int
	LastExit                                      string `json:"last_exit"`
	Attempt                                       int
}

func (m member) url(port string) string {
	return "http://" + net.JoinHostPort(m.Address, strconv.Itoa(m.Ports[port]))
}

func (x *trial) status() status {
	x.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	out, _ := x.command(ctx, "status", x.file, "--json").Output()
	var s status
	if err := json.Unmarshal(out, &s); err != nil {
		x.Fatalf("status --json: %v\n%s", err, out)
	}
	return s
}

func (s status) member(name string) member {
	for _, m := range s.Members {
		if m.Member == name {
			return m
		}
	}
	return member{}
}

// patience is how many times a limit is waited for: limits are those of a machine that has nothing else to do, and three tests run at a time here, beside whatever
// else the machine does. What is to be fast says so by what until returns.
const patience = 3

// soaking skips a test that takes long of real systems, but in make soak.
func soaking(t *testing.T) {
	t.Helper()
	if os.Getenv("LANTERNFIELD_SOAK") == "" {
		t.Skip("it is for make soak")
	}
}

// until waits for a condition with a deadline.
func (x *trial) until(what string, limit time.Duration, holds func() bool) time.Duration {
	x.Helper()
	begin := time.Now()
	for !holds() {
		if time.Since(begin) > patience*limit {
			x.Fatalf("after %s still not: %s", patience*limit, what)
		}
		time.Sleep(10 * time.Millisecond)
	}
	return time.Since(begin)
}

// contains checks that a text has all the pieces, in that order.
func (x *trial) contains(text string, pieces ...string) {
	x.Helper()
	rest := text
	for _, p := range pieces {
		i := strings.Index(rest, p)
		if i < 0 {
			x.Errorf("there is no %q in\n%s", p, text)
			return
		}
		rest = rest[i+len(p):]
	}
}

// agentOf gives the pid of a node's agent.
func (x *trial) agentOf(node string) int {
	x.Helper()
	data, err := os.ReadFile(filepath.Join(x.state, x.field(), "nodes", node, "agent", "agent.json"))
	var end struct{ PID int }
	if err == nil {
		err = json.Unmarshal(data, &end)
	}
	if err != nil {
		x.Fatalf("the agent of %s: %v", node, err)
	}
	return end.PID
}

// field gives the name of the trial's field.
func (x *trial) field() string {
	data, _ := os.ReadFile(x.file)
	for _, line := range strings.Split(string(data), "\n") {
		if name, ok := strings.CutPrefix(line, "field: "); ok {
			return strings.TrimSpace(name)
		}
	}
	return ""
}
