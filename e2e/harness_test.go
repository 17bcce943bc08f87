// Package e2e tries the program as it is: the real binary, real agents, real processes, real failures.
package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
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
	binary = filepath.Join(dir, "lanternfield")
	build := exec.Command("go", "build", "-o", binary, "lanternfield/cmd/lanternfield")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%v\n%s", err, out)
		return 1
	}
	return m.Run()
}

// witness is the program that tests deploy. It notes member, pid and start in a file that the product never reads, and
// whether another process of the same member was alive at that moment; then it listens until it is asked to end.
//
//	witness FILE ADDRESS [ready-after=D] [ignore-term]
func witness(args []string) {
	member := os.Getenv("LANTERNFIELD_MEMBER")
	file, address := args[0], args[1]
	note := func(text string) {
		f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o666)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		fmt.Fprintln(f, text)
		f.Close()
	}
	seen, _ := os.ReadFile(file)
	for _, line := range strings.Split(string(seen), "\n") {
		words := strings.Fields(line)
		if len(words) == 4 && words[0] == "start" && words[1] == member && startTime(words[2]) == words[3] {
			note(fmt.Sprintf("OVERLAP %s %s with %d", member, words[2], os.Getpid()))
		}
	}
	pid := strconv.Itoa(os.Getpid())
	note(fmt.Sprintf("start %s %s %s", member, pid, startTime(pid)))
	ignore := false
	for _, a := range args[2:] {
		if d, ok := strings.CutPrefix(a, "ready-after="); ok {
			wait, _ := time.ParseDuration(d)
			time.Sleep(wait)
		}
		ignore = ignore || a == "ignore-term"
	}
	terms := make(chan os.Signal, 1)
	signal.Notify(terms, syscall.SIGTERM)
	l, err := net.Listen("tcp", address)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			c.Close()
		}
	}()
	for range terms {
		if !ignore {
			return
		}
	}
}

// startTime gives when a living process started, in ticks since boot; "" when there is none.
func startTime(pid string) string {
	data, err := os.ReadFile("/proc/" + pid + "/stat")
	if err != nil {
		return ""
	}
	fields := strings.Fields(string(data[bytes.LastIndexByte(data, ')')+1:]))
	if fields[0] == "Z" {
		return ""
	}
	return fields[19]
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
}

type member struct {
	Member, Role, Node, Zone, Phase, Address, Why string
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

// until waits for a condition with a deadline.
func (x *trial) until(what string, limit time.Duration, holds func() bool) time.Duration {
	x.Helper()
	begin := time.Now()
	for !holds() {
		if time.Since(begin) > limit {
			x.Fatalf("after %s still not: %s", limit, what)
		}
		time.Sleep(10 * time.Millisecond)
	}
	return time.Since(begin)
}

// process is one that belongs to a trial.
type process struct {
	pid  int
	what string
}

// processes finds, by a scan of its own, everything that runs for this trial: by command line, folder or environment.
func (x *trial) processes() []process {
	var found []process
	entries, _ := os.ReadDir("/proc")
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() || startTime(e.Name()) == "" {
			continue
		}
		command, _ := os.ReadFile("/proc/" + e.Name() + "/cmdline")
		env, _ := os.ReadFile("/proc/" + e.Name() + "/environ")
		cwd, _ := os.Readlink("/proc/" + e.Name() + "/cwd")
		if keeps(command) {
			continue // see keepers
		}
		if bytes.Contains(command, []byte(x.dir)) || bytes.Contains(env, []byte("LANTERNFIELD_HOME="+x.dir)) || strings.HasPrefix(cwd, x.state) {
			found = append(found, process{pid, strings.ReplaceAll(string(command), "\x00", " ")})
		}
	}
	return found
}

// keeps tells whether a command line is that of a keeper of a field, or of who bounds logs while agents are away.
func keeps(command []byte) bool {
	return bytes.Contains(command, []byte("\x00keep-logs\x00")) || bytes.Contains(command, []byte("\x00keep\x00"))
}

// keepers counts those of this trial.
func (x *trial) keepers() (n int) {
	lines, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, name := range lines {
		if data, _ := os.ReadFile(name); keeps(data) && bytes.Contains(data, []byte(x.dir)) {
			n++
		}
	}
	return n
}

// witnesses counts the members' processes that run.
func (x *trial) witnesses() (n int) {
	for _, p := range x.processes() {
		if strings.Contains(p.what, " witness ") {
			n++
		}
	}
	return n
}

// agents gives the pids of the trial's agents.
func (x *trial) agents() []int {
	var pids []int
	for _, p := range x.processes() {
		if strings.Contains(p.what, " agent ") {
			pids = append(pids, p.pid)
		}
	}
	slices.Sort(pids)
	return pids
}

// listening gives the addresses below a prefix on which somebody listens.
func listening(prefix string) []string {
	var out []string
	data, _ := os.ReadFile("/proc/net/tcp")
	for _, line := range strings.Split(string(data), "\n") {
		f := strings.Fields(line)
		if len(f) < 4 || f[3] != "0A" {
			continue
		}
		host, port, _ := strings.Cut(f[1], ":")
		h, _ := strconv.ParseUint(host, 16, 32)
		p, _ := strconv.ParseUint(port, 16, 16)
		if a := fmt.Sprintf("%d.%d.%d.%d:%d", byte(h), byte(h>>8), byte(h>>16), byte(h>>24), p); strings.HasPrefix(a, prefix) {
			out = append(out, a)
		}
	}
	return out
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
