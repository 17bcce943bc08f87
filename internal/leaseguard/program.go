package leaseguard

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"syscall"
	"time"

	"lanternfield/internal/host"
)

// program is the member's program, a child of its guard: it dies with it.
type program struct {
	argv   []string
	env    []string // besides the guard's own
	pid    int
	exited chan int // its exit status, once
}

// start starts it.
func (p *program) start() error {
	path, err := exec.LookPath(p.argv[0])
	if err != nil {
		return err
	}
	started := make(chan error)
	exited := make(chan int, 1)
	go func() {
		runtime.LockOSThread() // whose end is taken for that of the guard; with the end of the goroutine it goes
		cmd := exec.Command(path, p.argv[1:]...)
		cmd.Env = append(os.Environ(), p.env...)
		cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
		if err := cmd.Start(); err != nil {
			started <- err
			return
		}
		p.pid = cmd.Process.Pid
		host.Born.Store(p.pid, true)
		started <- nil
		_ = cmd.Wait()
		host.Born.Delete(cmd.Process.Pid)
		exited <- host.ExitOf(cmd.ProcessState).Code
	}()
	if err := <-started; err != nil {
		return err
	}
	p.exited = exited
	return nil
}

// signal reaches the program, not what it has started.
func (p *program) signal(s syscall.Signal) {
	if p.pid > 0 {
		_ = syscall.Kill(p.pid, s)
	}
}

// kill ends it, and all that it has started, at once.
func (p *program) kill() {
	p.signal(syscall.SIGKILL)
	sweep(2 * time.Second)
}

// sweep kills all that lives below the guard, and waits for its end. The guard is who gets what its children leave behind.
func sweep(within time.Duration) {
	for deadline := time.Now().Add(within); time.Now().Before(deadline); time.Sleep(2 * time.Millisecond) {
		host.ReapOrphans()
		left := host.Children(os.Getpid())
		for i := 0; i < len(left) && len(left) < host.MostProcesses; i++ {
			left = append(left, host.Children(left[i])...)
		}
		alive := 0
		for _, pid := range left {
			if state, _ := host.Stat(pid); state != 0 && state != 'Z' {
				alive++
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
		}
		if alive == 0 {
			return
		}
	}
}

// run runs one of the kit's commands about the member to its end, and gives what it printed.
func run(ctx context.Context, argv []string, within time.Duration, env ...string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
	cmd.Env = append(os.Environ(), env...)
	var out, problem bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &problem
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = 200 * time.Millisecond
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	host.Born.Store(cmd.Process.Pid, true)
	err := cmd.Wait()
	host.Born.Delete(cmd.Process.Pid)
	switch {
	case ctx.Err() != nil:
		return nil, fmt.Errorf("%s has not answered within %v", argv[len(argv)-1], within)
	case err != nil && !errors.Is(err, exec.ErrWaitDelay):
		return nil, fmt.Errorf("%s: %w: %s", argv[len(argv)-1], err, last(problem.Bytes()))
	}
	return out.Bytes(), nil
}

// last gives the last line of what was printed, no longer than people read.
func last(text []byte) []byte {
	text = bytes.TrimSpace(text)
	if i := bytes.LastIndexByte(text, '\n'); i >= 0 {
		text = text[i+1:]
	}
	return text[:min(len(text), 300)]
}
