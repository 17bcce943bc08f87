package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"lanternfield/bench/process"
)

// restWindow is how long is measured what is taken while nothing happens.
const restWindow = 60 * time.Second

// lookEvery is how often the screen is looked at; each look is a process of its own, which takes time from those that are measured.
const lookEvery = 25 * time.Millisecond

// run has the program do something, and gives what it wrote.
func run(args ...string) ([]byte, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	out, err := exec.Command(self, args...).CombinedOutput()
	if err != nil {
		return out, fmt.Errorf("%s: %w: %s", args[0], err, out[max(0, len(out)-500):])
	}
	return out, nil
}

// measure deploys the field, watches it at rest and on a screen while members end, and takes it away.
func measure(ctx context.Context) (err error) {
	dir, agents, err := begin()
	defer func() {
		if agents != nil && agents.Process != nil {
			_ = agents.Process.Kill() // its agents' members are nowhere but in it
			_ = agents.Wait()
		}
		if dir != "" {
			os.RemoveAll(dir)
		}
	}()
	if err != nil {
		return err
	}
	file := filepath.Join(dir, "fleet.field.yaml")
	content := fmt.Sprintf("format: 1\nfield: fleet\nnodes: [{name: \"gull-{1..%d}\"}]\nroles:\n  crews: {members: %d, spread: none, program: {command: [sleep, infinity], restart: {after: 2s}}}\n", *nodes, *nodes**members)
	if err := os.WriteFile(file, []byte(content), 0o644); err != nil {
		return err
	}
	at := time.Now()
	if _, err := run("deploy", file, "--yes", "--timeout", "15m"); err != nil {
		return err
	}
	fmt.Printf("%d agents and %d members over mutual TLS: deployed within %s\n", *nodes, *nodes**members, time.Since(at).Round(100*time.Millisecond))

	screen, err := openScreen(file)
	if err != nil {
		return err
	}
	defer screen.close()
	if !screen.shows(ctx, 2*time.Minute, func(text string) bool { return strings.Contains(text, "converged") }) {
		return fmt.Errorf("the screen does not say that it is converged:\n%s", screen.text())
	}
	keeper, err := keeperOf(file)
	if err != nil {
		return err
	}
	time.Sleep(20 * time.Second)
	parts := map[string]int{"keeper": keeper, "screen": screen.pid, "all agents": agents.Process.Pid}
	before := map[string]time.Duration{}
	for name, pid := range parts {
		before[name] = spent(pid)
	}
	if *profile {
		for _, name := range []string{"keeper", "screen", "all agents"} {
			_ = syscall.Kill(parts[name], syscall.SIGUSR1)
		}
	}
	time.Sleep(restWindow)
	for _, name := range []string{"keeper", "screen", "all agents"} {
		fmt.Printf("  at rest, %-10s %5.1f %% of a core, %4.0f MiB resident\n", name, 100*(spent(parts[name])-before[name]).Seconds()/restWindow.Seconds(), resident(parts[name]))
	}
	if err := changed(ctx, screen, dir); err != nil {
		return err
	}
	fmt.Printf("  afterwards: keeper %.0f MiB, screen %.0f MiB resident\n", resident(keeper), resident(screen.pid))
	return screen.leave(keeper)
}

// changed ends one member after another, and times when the screen says so, and when it says that it is back.
func changed(ctx context.Context, screen *screen, dir string) error {
	conn, err := net.Dial("unix", filepath.Join(dir, socket))
	if err != nil {
		return err
	}
	defer conn.Close()
	answers := bufio.NewScanner(conn)
	random := rand.New(rand.NewPCG(1, 2))
	var told, back []time.Duration
	for range *changes {
		name := fmt.Sprintf("crews-%d", 1+random.IntN(*nodes**members))
		if _, err := fmt.Fprintf(conn, "end %s\n", name); err != nil || !answers.Scan() {
			return errors.Join(err, fmt.Errorf("%s cannot be ended", name))
		}
		nano, err := strconv.ParseInt(answers.Text(), 10, 64)
		if err != nil {
			return err
		}
		says := func(text string) bool { return strings.Contains(text, name+" is ") }
		if !screen.shows(ctx, 20*time.Second, says) {
			return fmt.Errorf("the screen does not say that %s has ended:\n%s", name, screen.text())
		}
		told = append(told, time.Since(time.Unix(0, nano)))
		at := time.Now()
		if !screen.shows(ctx, 20*time.Second, func(text string) bool { return !says(text) }) {
			return fmt.Errorf("the screen does not say that %s is back:\n%s", name, screen.text())
		}
		back = append(back, time.Since(at))
		time.Sleep(time.Duration(random.IntN(200)) * time.Millisecond)
	}
	if len(told) == 0 {
		return nil
	}
	slices.Sort(told)
	slices.Sort(back)
	at := func(all []time.Duration, p int) time.Duration { return all[len(all)*p/100].Round(time.Millisecond) }
	fmt.Printf("  %d members ended, until the screen says so: median %s, 99th percentile %s, at most %s (it is looked every 25 ms)\n", len(told), at(told, 50), at(told, 99), told[len(told)-1].Round(time.Millisecond))
	fmt.Printf("  from then until it is said to be back (restarted after 2 s): median %s, 99th percentile %s\n", at(back, 50), at(back, 99))
	return nil
}

// screen is the program in a terminal of 160 by 40 cells.
type screen struct {
	server string
	pid    int
}

func openScreen(file string) (*screen, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	s := &screen{server: fmt.Sprintf("lf-fleet-%d", os.Getpid())}
	if out, err := s.tmux("-f", "/dev/null", "new-session", "-d", "-x", "160", "-y", "40", "exec "+self+" open "+file); err != nil {
		return nil, fmt.Errorf("tmux: %w: %s", err, out)
	}
	out, err := s.tmux("display-message", "-p", "#{pane_pid}")
	if err == nil {
		s.pid, err = strconv.Atoi(strings.TrimSpace(string(out)))
	}
	return s, err
}

func (s *screen) tmux(args ...string) ([]byte, error) {
	return exec.Command("tmux", append([]string{"-L", s.server}, args...)...).CombinedOutput()
}

func (s *screen) text() string {
	out, _ := s.tmux("capture-pane", "-p")
	return string(out)
}

// shows waits until the screen's text is as wanted.
func (s *screen) shows(ctx context.Context, within time.Duration, wanted func(string) bool) bool {
	for until := time.Now().Add(within); time.Now().Before(until) && ctx.Err() == nil; time.Sleep(lookEvery) {
		if wanted(s.text()) {
			return true
		}
	}
	return false
}

func (s *screen) close() { _, _ = s.tmux("kill-server") }

// leave ends the screen, then the keeper.
func (s *screen) leave(keeper int) error {
	s.close()
	if err := syscall.Kill(keeper, syscall.SIGTERM); err != nil {
		return err
	}
	for until := time.Now().Add(20 * time.Second); syscall.Kill(keeper, 0) == nil; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(until) {
			return errors.New("the keeper does not end")
		}
	}
	return nil
}

// keeperOf gives the process that keeps the field.
func keeperOf(file string) (int, error) {
	out, err := run("status", file, "--json")
	var s struct {
		Keeper struct {
			PID int `json:"pid"`
		} `json:"keeper"`
	}
	if err == nil {
		err = json.Unmarshal(out, &s)
	}
	if err == nil && s.Keeper.PID == 0 {
		err = errors.New("nobody keeps the field")
	}
	return s.Keeper.PID, err
}

// spent is the processor time of a process, and resident its memory in MiB.
func spent(pid int) time.Duration {
	took, _, _ := process.Spent(pid)
	return took
}

func resident(pid int) float64 {
	_, memory, _ := process.Spent(pid)
	return memory["VmRSS"]
}
