package main

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

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
	main, side, err := openPTY(160, 40)
	if err != nil {
		return err
	}
	cmd := exec.Command(*binary, "open", file)
	cmd.Env = append(os.Environ(), "LANTERNFIELD_STATE="+dir, "TERM=xterm-256color", "COLORTERM=truecolor")
	cmd.Stdin, cmd.Stdout, cmd.Stderr = side, side, side
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	if err := cmd.Start(); err != nil {
		return err
	}
	side.Close()
	type piece struct {
		n  int
		at time.Time
	}
	out := make(chan piece, 1024)
	go func() {
		buf := make([]byte, 64<<10)
		for {
			n, err := main.Read(buf)
			if err != nil {
				close(out)
				return
			}
			out <- piece{n, time.Now()}
		}
	}()
	quiet := func(silence time.Duration) (last time.Time, n int) {
		for {
			select {
			case p, ok := <-out:
				if !ok {
					return last, n
				}
				last, n = p.at, n+p.n
			case <-time.After(silence):
				return last, n
			}
		}
	}
	quiet(700 * time.Millisecond) // the first frames
	var took []time.Duration
	total := 0
	for i := range 400 {
		key := []string{"\x1b[C", "\x1b[C", "\x1b[B", "\x1b[D", "\x1b[A", "\x1b[D"}[i%6]
		time.Sleep(time.Duration(20+i%23) * time.Millisecond) // at any moment of a frame
		quiet(time.Millisecond)
		begin := time.Now()
		if _, err := main.WriteString(key); err != nil {
			return err
		}
		p, ok := <-out
		if !ok {
			return errors.New("the screen has gone")
		}
		last, n := quiet(4 * time.Millisecond)
		if last.IsZero() {
			last = p.at
		}
		took, total = append(took, last.Sub(begin)), total+n+p.n
	}
	fmt.Println("key to changed screen at the pseudo-terminal, 160x40, demo deployed, 400 keys")
	spread("  ", took)
	sorted := slices.Sorted(slices.Values(took))
	fmt.Printf("  99th percentile %s, %d bytes for a key on average\n", ms(sorted[len(sorted)*99/100]), total/len(took))
	before, _, err := spent(cmd.Process.Pid)
	if err != nil {
		return err
	}
	const idle = 15 * time.Second
	time.Sleep(idle)
	after, memory, err := spent(cmd.Process.Pid)
	if err != nil {
		return err
	}
	fmt.Printf("  idle: %.2f %% of a core, %.1f MiB resident, of which %.1f MiB anonymous\n", 100*(after-before).Seconds()/idle.Seconds(), memory["VmRSS"], memory["RssAnon"])
	if _, err := main.WriteString("q"); err != nil {
		return err
	}
	if err := cmd.Wait(); err != nil {
		return err
	}
	main.Close()
	_, err = run(dir, "retire", file, "--yes", "--forget")
	return err
}

// spent gives the processor time and the memory, in MiB, of a process.
func spent(pid int) (time.Duration, map[string]float64, error) {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, nil, err
	}
	fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:]))
	user, _ := strconv.Atoi(fields[11])
	system, _ := strconv.Atoi(fields[12])
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	memory := map[string]float64{}
	for _, line := range strings.Split(string(status), "\n") {
		if name, rest, ok := strings.Cut(line, ":"); ok && strings.HasSuffix(rest, "kB") {
			kib, _ := strconv.Atoi(strings.Fields(rest)[0])
			memory[name] = float64(kib) / 1024
		}
	}
	return time.Duration(user+system) * 10 * time.Millisecond, memory, err
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
