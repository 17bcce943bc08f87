package e2e

import (
	"bytes"
	"fmt"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

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

// soon waits until so many witnesses run, and tells whether they do: one that was just started may not be what it is to be yet.
func (x *trial) soon(n int, within time.Duration) bool {
	for until := time.Now().Add(within); x.witnesses() != n; time.Sleep(20 * time.Millisecond) {
		if time.Now().After(until) {
			return false
		}
	}
	return true
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
