// Command bench measures what the product promises about speed and memory and prints it. Run it with `make bench`.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"lanternfield/bench/process"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/keyring"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/fieldfile"
)

var (
	binary = flag.String("binary", "bin/lanternfield", "the program under test")
	pairs  = flag.Int("pairs", 15, "how many interleaved pairs of deploys")
	rounds = flag.Int("rounds", 20, "how many crashes of each kind")
	only   = flag.String("only", "", "deploy, real, scale, crash, retire, rest, door, syncs, memory, screen, history, define or probe")
)

func main() {
	flag.Parse()
	if *answers != "" {
		fmt.Fprintln(os.Stderr, runAnswers())
		os.Exit(1)
	}
	if *isEmpty {
		if err := runEmpty(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	slog.SetLogLoggerLevel(slog.LevelError)
	dir, err := os.MkdirTemp("", "lf-bench-")
	if err == nil {
		err = os.Setenv(keyring.OwnerVariable, filepath.Join(dir, "owner.key"))
	}
	if err == nil {
		if *binary, err = filepath.Abs(*binary); err == nil {
			err = all(dir)
		}
		os.RemoveAll(dir)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func all(dir string) error {
	for _, part := range []struct {
		name string
		run  func(dir string) error
	}{{"deploy", deploys}, {"real", realSystems}, {"scale", scales}, {"crash", crashes}, {"retire", retires}, {"rest", rest}, {"door", doors}, {"syncs", syncs}, {"memory", memory}, {"screen", screen}, {"history", history}, {"define", define}, {"probe", probe}} {
		if *only != "" && *only != part.name {
			continue
		}
		if err := part.run(filepath.Join(dir, part.name)); err != nil {
			return fmt.Errorf("%s: %w", part.name, err)
		}
	}
	return nil
}

const example = "examples/etcd-nats.field.yaml"

// run runs the program under test and gives its standard output.
func run(state string, args ...string) ([]byte, error) {
	cmd := exec.Command(*binary, args...)
	cmd.Env = append(os.Environ(), "LANTERNFIELD_STATE="+state)
	var errs bytes.Buffer
	cmd.Stderr = &errs
	out, err := cmd.Output()
	if err != nil {
		return out, fmt.Errorf("%v: %w\n%s%s", args, err, out, errs.String())
	}
	return out, nil
}

// deploys times deploying the example against doing the same by hand, in turn.
func deploys(dir string) error {
	ours, hands, err := inTurn(dir, example, "bench/by-hand.sh", *pairs)
	if err != nil {
		return err
	}
	for _, mode := range []struct {
		name string
		keep func(time.Duration) bool
	}{{"elected at once (below 1 s)", func(d time.Duration) bool { return d < time.Second }},
		{"elected after a time-out", func(d time.Duration) bool { return d >= time.Second }}} {
		a, b := kept(ours, mode.keep), kept(hands, mode.keep)
		if len(a) > 0 && len(b) > 0 {
			fmt.Printf("  %-28s lanternfield %2d times, median %s; by hand %2d times, median %s; ratio %.2f\n", mode.name, len(a), ms(median(a)), len(b), ms(median(b)),
				float64(median(a))/float64(median(b)))
		} else {
			fmt.Printf("  %-28s lanternfield %2d times, by hand %2d times\n", mode.name, len(a), len(b))
		}
	}
	return nil
}

// realSystems times deploying four real systems, with gates and proofs, against doing the same by hand, in turn.
func realSystems(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if err := os.Chmod(filepath.Dir(dir), 0o755); err != nil { // the database does not run as root
		return err
	}
	_, _, err := inTurn(dir, "bench/real.field.yaml", "bench/real-by-hand.sh", min(*pairs, 9))
	return err
}

// inTurn deploys a field and does the same by hand, in turn, and prints both.
func inTurn(dir, file, script string, pairs int) (ours, hands []time.Duration, err error) {
	for i := range pairs {
		ourTime, err := deployOnce(filepath.Join(dir, fmt.Sprint("ours-", i)), file)
		if err != nil {
			return nil, nil, err
		}
		handTime, err := byHandOnce(script, filepath.Join(dir, fmt.Sprint("hand-", i)), fmt.Sprintf("127.60.%d", i+1))
		if err != nil {
			return nil, nil, err
		}
		ours, hands = append(ours, ourTime), append(hands, handTime)
	}
	fmt.Printf("deploy of %s, %d interleaved pairs\n", file, pairs)
	spread("  lanternfield", ours)
	spread("  by hand     ", hands)
	fmt.Printf("  ratio of medians %.2f\n", float64(median(ours))/float64(median(hands)))
	return ours, hands, nil
}

func deployOnce(state, file string) (time.Duration, error) {
	begin := time.Now()
	if _, err := run(state, "deploy", file, "--yes"); err != nil {
		return 0, err
	}
	took := time.Since(begin)
	_, err := run(state, "retire", file, "--yes", "--forget")
	return took, err
}

func byHandOnce(script, dir, network string) (time.Duration, error) {
	begin := time.Now()
	cmd := exec.Command(script, dir, network)
	out, err := cmd.Output()
	took := time.Since(begin)
	for _, word := range strings.Fields(string(out)) {
		if pid, err := strconv.Atoi(word); err == nil {
			_ = syscall.Kill(pid, syscall.SIGKILL)
			for syscall.Kill(pid, 0) == nil && alive(pid) {
				time.Sleep(5 * time.Millisecond)
			}
		}
	}
	return took, err
}

func alive(pid int) bool {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return false
	}
	rest := data[bytes.LastIndexByte(data, ')')+1:]
	return len(rest) > 1 && rest[1] != 'Z'
}

func kept(all []time.Duration, keep func(time.Duration) bool) (out []time.Duration) {
	for _, d := range all {
		if keep(d) {
			out = append(out, d)
		}
	}
	return out
}

func median(all []time.Duration) time.Duration {
	s := slices.Sorted(slices.Values(all))
	return s[len(s)/2]
}

func ms(d time.Duration) string { return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000) }

func spread(name string, all []time.Duration) {
	s := slices.Sorted(slices.Values(all))
	fmt.Printf("%s  least %s, quarter %s, median %s, three quarters %s, most %s\n", name, ms(s[0]), ms(s[len(s)/4]), ms(median(all)), ms(s[3*len(s)/4]), ms(s[len(s)-1]))
}

const sleepers = `format: 1
field: bench
nodes: [{name: "gull-{1..3}"}]
roles:
  crews:
    members: 3
    spread: node
    program: {command: [sleep, "6000"], ready: {exec: ["true"], every: 200ms}, restart: {after: 50ms, most: 50ms}}
`

// crashes times from the kill of a member to the snapshot that shows it.
func crashes(dir string) error {
	file, err := fieldfile.Parse("bench.field.yaml", []byte(sleepers), nil)
	if err != nil {
		return err
	}
	ctx := context.Background()
	folder := control.FolderOf(dir, "bench")
	folder.Binary = *binary
	session, err := control.Hold(ctx, folder, "bench")
	if err != nil {
		return err
	}
	defer session.Close()
	if err := session.Do(ctx, control.Request{What: "deploy", Draft: file.Field, By: "bench"}); err != nil {
		return err
	}
	fmt.Printf("from the kill of a member to the snapshot that shows it, %d times each\n", *rounds)
	var own, adopted []time.Duration
	for i := range *rounds {
		d, err := crash(ctx, session, i%3)
		if err != nil {
			return err
		}
		own = append(own, d)
	}
	spread("  started by the agent itself", own)
	for i := range *rounds {
		snap, err := settled(ctx, session)
		if err != nil {
			return err
		}
		victim := snap.Members[i%3]
		pid, err := agentOf(dir, victim.Node)
		if err != nil {
			return err
		}
		_ = syscall.Kill(pid, syscall.SIGKILL)
		for tries := 0; ; tries++ { // until another agent is there
			if tries == 2000 {
				return fmt.Errorf("no other agent came for %s", victim.Node)
			}
			now, err := agentOf(dir, victim.Node)
			if err == nil && now != pid && alive(now) {
				break
			}
			time.Sleep(5 * time.Millisecond)
		}
		time.Sleep(200 * time.Millisecond) // it has adopted the member and is watching
		d, err := crash(ctx, session, i%3)
		if err != nil {
			return err
		}
		adopted = append(adopted, d)
	}
	spread("  adopted by another agent   ", adopted)
	if err := session.Do(ctx, control.Request{What: "retire", By: "bench"}); err != nil {
		return err
	}
	return until(ctx, session, func(s *snapshot.Snapshot) bool { return s.State == snapshot.Retired })
}

func agentOf(dir string, node field.NodeName) (int, error) {
	data, err := os.ReadFile(filepath.Join(dir, "bench", "nodes", string(node), "agent", "agent.json"))
	if err != nil {
		return 0, err
	}
	var end struct{ PID int }
	return end.PID, json.Unmarshal(data, &end)
}

func settled(ctx context.Context, s control.Session) (snap *snapshot.Snapshot, err error) {
	err = until(ctx, s, func(x *snapshot.Snapshot) bool {
		snap = x
		return x.State == snapshot.Converged && !x.Rollout.Active
	})
	return snap, err
}

func until(ctx context.Context, s control.Session, holds func(*snapshot.Snapshot) bool) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	snapshots, err := s.Watch(ctx)
	if err != nil {
		return err
	}
	for snap := range snapshots {
		if holds(snap) {
			return nil
		}
	}
	return fmt.Errorf("it never came to that")
}

func crash(ctx context.Context, s control.Session, i int) (time.Duration, error) {
	snap, err := settled(ctx, s)
	if err != nil {
		return 0, err
	}
	victim := snap.Members[i]
	begin := time.Now()
	if err := syscall.Kill(victim.PID, syscall.SIGKILL); err != nil {
		return 0, err
	}
	var took time.Duration
	err = until(ctx, s, func(x *snapshot.Snapshot) bool {
		m := x.Members[i]
		took = time.Since(begin)
		return m.PID != victim.PID
	})
	return took, err
}

// syncs counts the controller's syncs of its log against the batches that it stored.
func syncs(dir string) error {
	if _, err := exec.LookPath("strace"); err != nil {
		fmt.Println("syncs: strace is not installed")
		return nil
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	trace := filepath.Join(dir, "trace")
	cmd := exec.Command("strace", "-f", "-b", "execve", "-y", "-e", "trace=fsync,fdatasync", "-o", trace, *binary, "deploy", example, "--yes", "--log-level", "debug")
	cmd.Env = append(os.Environ(), "LANTERNFIELD_STATE="+dir)
	out, err := cmd.CombinedOutput()
	if err != nil {
		return fmt.Errorf("%w\n%s", err, out)
	}
	if _, err := run(dir, "retire", example, "--yes"); err != nil {
		return err
	}
	data, err := os.ReadFile(trace)
	if err != nil {
		return err
	}
	batches := bytes.Count(out, []byte("batch stored"))
	wal, other := 0, 0
	for _, line := range strings.Split(string(data), "\n") {
		switch {
		case !strings.Contains(line, "sync("):
		case strings.Contains(line, "events.db-wal"):
			wal++
		case strings.Contains(line, "events.db"), strings.Contains(line, "saltmarsh-bookings>"):
			other++
		}
	}
	fmt.Printf("one deploy: %d batches of events stored, %d syncs of the log, %d of the database around it (opening and closing)\n", batches, wal, other)
	return nil
}

// memory reads the anonymous memory of a controller and of agents with the example deployed.
func memory(dir string) error {
	if _, err := run(dir, "deploy", example, "--yes"); err != nil {
		return err
	}
	holder := exec.Command("tmux", "-S", filepath.Join(dir, "tmux"), "-f", "/dev/null", "new-session", "-d", "-x", "160", "-y", "40",
		"env", "LANTERNFIELD_STATE="+dir, *binary, "open", example)
	if out, err := holder.CombinedOutput(); err != nil {
		return fmt.Errorf("%w\n%s", err, out)
	}
	time.Sleep(10 * time.Second) // used for a while
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return err
	}
	fmt.Println("anonymous memory with the example deployed, after 10 s, and processor time used until then")
	for _, e := range entries {
		command, _ := os.ReadFile("/proc/" + e.Name() + "/cmdline")
		words := strings.Split(string(command), "\x00")
		if len(words) < 2 || words[0] != *binary || !strings.Contains(string(command), dir) && words[1] != "open" {
			continue
		}
		pid, _ := strconv.Atoi(e.Name())
		if used, memory, err := process.Spent(pid); err == nil {
			fmt.Printf("  %-6s %5.1f MiB, %.2f s\n", words[1], memory["RssAnon"], used.Seconds())
		}
	}
	if err := exec.Command("tmux", "-S", filepath.Join(dir, "tmux"), "kill-server").Run(); err != nil {
		return err
	}
	_, err = run(dir, "retire", example, "--yes")
	return err
}
