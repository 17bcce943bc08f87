package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"lanternfield/bench/process"

	"golang.org/x/sys/unix"
)

// screen measures the application at its pseudo-terminal, on the deployed demo: from a key's byte going in to the end of
// the burst of bytes that comes out, and what it takes while nothing happens.
func screen(dir string) error {
	file := filepath.Join(dir, "saltmarsh-ferries.field.yaml")
	data, err := os.ReadFile("examples/saltmarsh-ferries.field.yaml")
	if err == nil {
		if err = os.MkdirAll(dir, 0o755); err == nil {
			err = os.WriteFile(file, data, 0o644)
		}
	}
	if err != nil {
		return err
	}
	if _, err := run(dir, "deploy", file, "--yes"); err != nil {
		return err
	}
	ours, err := openTerminal(exec.Command(*binary, "open", file), "LANTERNFIELD_STATE="+dir)
	if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	// An empty program of the same library at the same pace, key by key in turn: what is left is ours.
	empty, err := openTerminal(exec.Command(self, "-empty"))
	if err != nil {
		return err
	}
	ours.quiet(700 * time.Millisecond) // the first frames
	empty.quiet(100 * time.Millisecond)
	for i := range 400 {
		key := []string{"\x1b[C", "\x1b[C", "\x1b[B", "\x1b[D", "\x1b[A", "\x1b[D"}[i%6]
		for _, t := range []*terminal{ours, empty} {
			time.Sleep(time.Duration(20+i%23) * time.Millisecond) // at any moment of a frame
			if err := t.press(key); err != nil {
				return err
			}
		}
	}
	fmt.Println("key to changed screen at the pseudo-terminal, 160x40, demo deployed, 400 keys, in turn with a program that draws one changed line")
	spread("  lanternfield ", ours.took)
	spread("  empty program", empty.took)
	fmt.Printf("  99th percentile %s, of the empty program %s: ratio %.2f; %d bytes for a key on average\n", ms(percentile(ours.took, 99)), ms(percentile(empty.took, 99)),
		float64(percentile(ours.took, 99))/float64(percentile(empty.took, 99)), ours.bytes/len(ours.took))
	if err := empty.end("q"); err != nil {
		return err
	}
	cmd := ours.cmd
	before, _, err := process.Spent(cmd.Process.Pid)
	if err != nil {
		return err
	}
	const idle = 15 * time.Second
	time.Sleep(idle)
	after, memory, err := process.Spent(cmd.Process.Pid)
	if err != nil {
		return err
	}
	fmt.Printf("  idle: %.2f %% of a core, %.1f MiB resident, of which %.1f MiB anonymous\n", 100*(after-before).Seconds()/idle.Seconds(), memory["VmRSS"], memory["RssAnon"])
	if err := ours.end("q"); err != nil {
		return err
	}
	_, err = run(dir, "retire", file, "--yes", "--forget")
	return err
}

// terminal is a program at a pseudo-terminal of 160 by 40 cells.
type terminal struct {
	cmd   *exec.Cmd
	main  *os.File
	out   chan piece
	took  []time.Duration // from each key to the end of what it changed
	bytes int
}

// piece is what came out at once.
type piece struct {
	n  int
	at time.Time
}

func openTerminal(cmd *exec.Cmd, env ...string) (*terminal, error) {
	main, side, err := openPTY(160, 40)
	if err != nil {
		return nil, err
	}
	cmd.Env = append(append(os.Environ(), "TERM=xterm-256color", "COLORTERM=truecolor"), env...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = side, side, side
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	side.Close()
	t := &terminal{cmd: cmd, main: main, out: make(chan piece, 1024)}
	go func() {
		buf := make([]byte, 64<<10)
		for {
			n, err := main.Read(buf)
			if err != nil {
				close(t.out)
				return
			}
			t.out <- piece{n, time.Now()}
		}
	}()
	return t, nil
}

// quiet waits until nothing has come out for that long.
func (t *terminal) quiet(silence time.Duration) (last time.Time, n int) {
	for {
		select {
		case p, ok := <-t.out:
			if !ok {
				return last, n
			}
			last, n = p.at, n+p.n
		case <-time.After(silence):
			return last, n
		}
	}
}

// press presses a key and waits until the screen has changed.
func (t *terminal) press(key string) error {
	t.quiet(time.Millisecond)
	begin := time.Now()
	if _, err := t.main.WriteString(key); err != nil {
		return err
	}
	p, ok := <-t.out
	if !ok {
		return errors.New("the screen has gone")
	}
	last, n := t.quiet(4 * time.Millisecond)
	if last.IsZero() {
		last = p.at
	}
	t.took, t.bytes = append(t.took, last.Sub(begin)), t.bytes+n+p.n
	return nil
}

func (t *terminal) end(key string) error {
	if _, err := t.main.WriteString(key); err != nil {
		return err
	}
	return errors.Join(t.cmd.Wait(), t.main.Close())
}

func percentile(all []time.Duration, p int) time.Duration {
	sorted := slices.Sorted(slices.Values(all))
	return sorted[len(sorted)*p/100]
}

// openPTY makes a pseudo-terminal of that size and gives both its ends.
func openPTY(w, h uint16) (main, side *os.File, err error) {
	if main, err = os.OpenFile("/dev/ptmx", os.O_RDWR|syscall.O_NOCTTY, 0); err != nil {
		return nil, nil, err
	}
	if err = unix.IoctlSetPointerInt(int(main.Fd()), unix.TIOCSPTLCK, 0); err != nil {
		return nil, nil, err
	}
	n, err := unix.IoctlGetInt(int(main.Fd()), unix.TIOCGPTN)
	if err != nil {
		return nil, nil, err
	}
	if err = unix.IoctlSetWinsize(int(main.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: h, Col: w}); err != nil {
		return nil, nil, err
	}
	side, err = os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|syscall.O_NOCTTY, 0)
	return main, side, err
}
