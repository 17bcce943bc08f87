package main

import (
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"lanternfield/internal/identity"
	"lanternfield/internal/keyring"
)

// retires times taking down ever more members.
func retires(dir string) error {
	fmt.Println("retire of sleeping members on 10 nodes, three times each, median")
	for _, members := range []int{50, 100, 200, 400} {
		file := filepath.Join(dir, fmt.Sprintf("m%d.field.yaml", members))
		if err := writeField(file, fmt.Sprintf("retire%d", members), 10, members, ""); err != nil {
			return err
		}
		var took, deployed []time.Duration
		for range 3 {
			begin := time.Now()
			if _, err := run(dir, "deploy", file, "--yes"); err != nil {
				return err
			}
			deployed = append(deployed, time.Since(begin))
			begin = time.Now()
			if _, err := run(dir, "retire", file, "--yes", "--forget"); err != nil {
				return err
			}
			took = append(took, time.Since(begin))
		}
		fmt.Printf("  %3d members  retire %s (deploy %s)\n", members, ms(median(took)), ms(median(deployed)))
	}
	return nil
}

func writeField(file, name string, nodes, members int, ready string) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	return os.WriteFile(file, fmt.Appendf(nil, "format: 1\nfield: %s\nnodes: [{name: \"gull-{1..%d}\"}]\nroles:\n  crews: {members: %d, spread: none, program: {command: [sleep, \"100000\"]%s}}\n",
		name, nodes, members, ready), 0o644)
}

// rest measures what a hundred agents, and a controller with a screen, take while nothing happens.
func rest(dir string) error {
	file := filepath.Join(dir, "rest.field.yaml")
	if err := writeField(file, "rest", 100, 100, `, ready: {exec: ["true"], every: 1h}`); err != nil {
		return err
	}
	if _, err := run(dir, "deploy", file, "--yes"); err != nil {
		return err
	}
	defer func() { _, _ = run(dir, "retire", file, "--yes", "--forget") }()
	const window = 10 * time.Second
	time.Sleep(3 * time.Second)
	agents := processesWith("agent", "--dir", filepath.Join(dir, "rest"))
	before := ticks(agents...)
	time.Sleep(window)
	fmt.Printf("100 agents at rest, nobody holds the field: %.1f %% of a core; %d KiB each that are not shared\n",
		percent(ticks(agents...)-before, window), notShared(agents)/max(1, len(agents)))
	screen := exec.Command("script", "-qfc", "stty rows 40 cols 120; exec "+*binary+" open "+file, "/dev/null")
	screen.Env = append(os.Environ(), "LANTERNFIELD_STATE="+dir, "TERM=xterm-256color")
	in, err := screen.StdinPipe()
	if err == nil {
		err = screen.Start()
	}
	if err != nil {
		return err
	}
	time.Sleep(5 * time.Second)
	holder := processesWith("open", file)
	agentsBefore, before := ticks(agents...), ticks(holder...)
	time.Sleep(window)
	fmt.Printf("  with a controller and its screen: agents %.1f %%, controller %.1f %% of a core\n",
		percent(ticks(agents...)-agentsBefore, window), percent(ticks(holder...)-before, window))
	_, _ = in.Write([]byte("q"))
	in.Close()
	return screen.Wait()
}

// processesWith lists the processes whose arguments after the program begin so; the last may be the beginning of one.
func processesWith(args ...string) (pids []int) {
	lines, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, name := range lines {
		data, _ := os.ReadFile(name)
		if _, rest, ok := bytes.Cut(data, []byte{0}); ok && strings.HasPrefix(string(rest), strings.Join(args, "\x00")) {
			pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(name)))
			pids = append(pids, pid)
		}
	}
	return pids
}

// ticks is the processor time of processes, in hundredths of a second.
func ticks(pids ...int) (sum int) {
	for _, pid := range pids {
		data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if f := strings.Fields(string(data[bytes.LastIndexByte(data, ')')+1:])); len(f) > 12 {
			user, _ := strconv.Atoi(f[11])
			system, _ := strconv.Atoi(f[12])
			sum += user + system
		}
	}
	return sum
}

func percent(ticks int, window time.Duration) float64 { return float64(ticks) / window.Seconds() }

// notShared is how many KiB processes have for themselves.
func notShared(pids []int) (sum int) {
	for _, pid := range pids {
		data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/smaps_rollup", pid))
		for _, line := range strings.Split(string(data), "\n") {
			if f := strings.Fields(line); len(f) > 1 && strings.HasPrefix(f[0], "Private_") {
				n, _ := strconv.Atoi(f[1])
				sum += n
			}
		}
	}
	return sum
}

// doors measures what connecting to an agent costs, and what a thousand connections without a certificate do.
func doors(dir string) error {
	file := filepath.Join(dir, "door.field.yaml")
	if err := writeField(file, "door", 1, 1, ""); err != nil {
		return err
	}
	if _, err := run(dir, "deploy", file, "--yes"); err != nil {
		return err
	}
	defer func() { _, _ = run(dir, "retire", file, "--yes", "--forget") }()
	agents := processesWith("agent", "--dir", filepath.Join(dir, "door"))
	if len(agents) != 1 {
		return fmt.Errorf("%d agents run", len(agents))
	}
	data, err := os.ReadFile(filepath.Join(dir, "door", "nodes", "gull-1", "agent", "agent.json"))
	if err != nil {
		return err
	}
	_, address, _ := strings.Cut(string(data), `"https://`)
	address, _, _ = strings.Cut(address, `"`)
	ids, err := keyring.Owner(os.Getenv(keyring.OwnerVariable))
	if err != nil {
		return err
	}
	ring, err := keyring.Open(filepath.Join(dir, "door", "own"), "door", ids...)
	if err != nil {
		return err
	}
	authority, err := identity.Parse([]byte(ring.Authority()))
	if err != nil {
		return err
	}
	us, err := authority.Controller()
	if err != nil {
		return err
	}
	connect := func() (time.Duration, error) {
		begin := time.Now()
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		conn, err := (&tls.Dialer{Config: us.To("gull-1")}).DialContext(ctx, "tcp", address)
		if err != nil {
			return 0, err
		}
		return time.Since(begin), conn.Close()
	}
	var took []time.Duration
	for range 100 {
		d, err := connect()
		if err != nil {
			return err
		}
		took = append(took, d)
	}
	spread("connecting to an agent, 100 times", took)
	before := notShared(agents)
	var conns []net.Conn
	for range 1000 {
		if c, err := net.Dial("tcp", address); err == nil {
			conns = append(conns, c)
		}
	}
	d, err := connect()
	if err != nil {
		return err
	}
	during := notShared(agents)
	for _, c := range conns {
		c.Close()
	}
	fmt.Printf("  1000 connections without a certificate: the agent grows from %d to %d KiB, and a controller gets in after %s\n", before, during, ms(d))
	return nil
}
