package main

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"lanternfield/examples"
	"lanternfield/internal/control"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/rehearse"
	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog/sqlite"
	"lanternfield/internal/fieldfile"
)

var eventCount = flag.Int("events", 1_000_000, "how long the log of `-only history` is")

// history makes a long log (a rehearsed field that is scaled, crashes and elects) and measures what is done with it: status, the journal,
// a jump into the past, opening; at first, and when there are checkpoints.
func history(dir string) error {
	folder := control.FolderOf(dir, "saltmarsh-ferries")
	if err := os.MkdirAll(filepath.Join(folder.Dir, "own"), 0o700); err != nil {
		return err
	}
	began := time.Now()
	w, err := longHistory(*eventCount)
	if err != nil {
		return err
	}
	name := filepath.Join(folder.Dir, "own", "events.db")
	log, err := sqlite.Open(name)
	if err != nil {
		return err
	}
	for from := 0; from < len(w.Log); from += 10000 {
		if err := log.Append(log.Last(), w.Log[from:min(from+10000, len(w.Log))]); err != nil {
			return err
		}
	}
	if err := log.Close(); err != nil {
		return err
	}
	info, _ := os.Stat(name)
	members := len(w.State.Members) + w.State.FormerCount
	fmt.Printf("a log of %d events (%d members ever, %.0f MB), made in %s\n", len(w.Log), members, float64(info.Size())/1e6, time.Since(began).Round(time.Second))
	first, last := w.Log[0].At, w.Now
	w = nil
	timed := func(what string, args ...string) error {
		begin := time.Now()
		cmd := exec.Command(*binary, append(args, "--field", "saltmarsh-ferries")...)
		cmd.Env = append(os.Environ(), "LANTERNFIELD_STATE="+dir)
		out, err := os.Create(filepath.Join(dir, "out"))
		if err != nil {
			return err
		}
		defer out.Close()
		cmd.Stdout = out
		if err = cmd.Start(); err != nil {
			return err
		}
		most := peakOf(cmd.Process.Pid)
		err = cmd.Wait()
		if _, answered := err.(*exec.ExitError); err != nil && !answered {
			return err
		}
		fmt.Printf("  %-44s %8s   %4d MB at most\n", what, ms(time.Since(begin)), <-most>>10)
		return nil
	}
	if err := timed("status, no checkpoints yet", "status"); err != nil {
		return err
	}
	begin := time.Now()
	if err := control.Mark(folder); err != nil {
		return err
	}
	fmt.Printf("  %-44s %8s\n", "the first opening", ms(time.Since(begin)))
	info, _ = os.Stat(filepath.Join(folder.Dir, "own", "checkpoints.db"))
	fmt.Printf("  checkpoints take %.1f MB\n", float64(info.Size())/1e6)
	begin = time.Now()
	if err := control.Mark(folder); err != nil {
		return err
	}
	fmt.Printf("  %-44s %8s\n", "opening", ms(time.Since(begin)))
	for range 3 {
		if err := timed("status", "status"); err != nil {
			return err
		}
	}
	if err := timed("journal, all of it", "journal"); err != nil {
		return err
	}
	if err := timed("journal --last 100", "journal", "--last", "100"); err != nil {
		return err
	}
	var jumps []time.Duration
	random := rand.New(rand.NewPCG(1, 1))
	for range 50 {
		at := first.Add(time.Duration(random.Int64N(int64(last.Sub(first)))))
		begin := time.Now()
		if _, err := control.LookPast(folder, at); err != nil {
			return err
		}
		jumps = append(jumps, time.Since(begin))
	}
	spread("  a jump to a moment, 50 of them", jumps)
	return nil
}

// peakOf follows how much memory a process has had at most, in KiB, until it ends. What the system tells of a process that has ended counts
// what its parent had when it was started.
func peakOf(pid int) <-chan int64 {
	out := make(chan int64, 1)
	go func() {
		most := int64(0)
		for {
			data, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
			_, rest, found := strings.Cut(string(data), "VmHWM:")
			if err != nil || !found {
				out <- most
				return
			}
			var kib int64
			fmt.Sscan(rest, &kib)
			most = max(most, kib)
			time.Sleep(2 * time.Millisecond)
		}
	}()
	return out
}

// longHistory rehearses a field until its log is that long.
func longHistory(events int) (*rehearse.World, error) {
	data, err := examples.Files.ReadFile(examples.Demo)
	if err != nil {
		return nil, err
	}
	f, err := fieldfile.Parse(examples.Demo, data, nil)
	if err != nil {
		return nil, err
	}
	w := rehearse.New(time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC))
	w.TakeOver()
	random := rand.New(rand.NewPCG(3, 7))
	draft := *f.Field
	draft.Roles = append([]field.Role{}, f.Field.Roles...)
	deploy := func() error {
		next := draft
		next.Roles = append([]field.Role{}, draft.Roles...)
		return w.Do(engine.Deploy{Draft: &next, By: "bench"})
	}
	if err := deploy(); err != nil {
		return nil, err
	}
	w.Run(time.Minute)
	term := uint64(1)
	for len(w.Log) < events {
		var running []*state.Member
		for _, m := range state.SortedMembers(w.State) {
			if m.PID != 0 {
				running = append(running, m)
			}
		}
		if len(running) == 0 {
			w.Run(time.Minute)
			continue
		}
		m := running[random.IntN(len(running))]
		switch n := random.IntN(100); {
		case n < 70:
			w.Kill(m.Name)
		case n < 95:
			term++
			w.Lead(m.Name, term)
		case n < 97:
			r := draft.Role("crews")
			r.Members = 3 + random.IntN(8)
			if err := deploy(); err != nil {
				return nil, err
			}
		default:
			_ = w.Do(engine.RestartMembers{Members: []field.MemberName{m.Name}})
		}
		w.Run(time.Duration(random.IntN(20000)) * time.Millisecond)
	}
	return w, nil
}
