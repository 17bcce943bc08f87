package runtime

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"time"

	"lanternfield/internal/core/order"
	"lanternfield/internal/host"
	"lanternfield/internal/host/fit"
)

// visits are the control group of the commands that are run at the member: what ends its own processes does not end those.
func (p *processes) visits() *host.Group { return p.runtime.groups.Of(p.name + "+visits") }

// Visit runs a command at the member until it ends. It is marked as the member's, as all that it starts is.
func (p *processes) Visit(ctx context.Context, spec *order.Spec, c Command) (order.Exit, error) {
	folder, _ := p.folder(spec)
	program, err := fit.LookUpIn(c.Args[0], folder, spec.LookIn)
	if err != nil { // nobody tries it again
		return order.Exit{}, errors.New(strings.TrimSuffix(err.Error(), fit.TriedAgain))
	}
	who, err := fit.AccountFor(spec.User, spec.IfRoot)
	if err == nil {
		err = who.MayEnter(p.at.Folder)
	}
	if err != nil {
		return order.Exit{}, err
	}
	cmd := exec.CommandContext(ctx, program, c.Args[1:]...)
	cmd.Dir, cmd.Env = p.at.Folder, append(p.environment(spec, folder), c.Env...)
	if _, err := os.Stat(cmd.Dir); err != nil {
		return order.Exit{}, fmt.Errorf("its folder is not there: %w", err)
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Credential: who.Credential}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second
	var in io.WriteCloser
	if c.Terminal != nil {
		cmd.Stdin, cmd.Stdout, cmd.Stderr = c.Terminal, c.Terminal, c.Terminal
		cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true, Credential: who.Credential}
	} else {
		cmd.Stdout, cmd.Stderr = c.Out, c.Err
		if in, err = cmd.StdinPipe(); err != nil { // not cmd.Stdin: the end of the command does not wait for what somebody types
			return order.Exit{}, err
		}
	}
	if err := p.runtime.limits.Start(spec.Limits, p.visits().Start, cmd); err != nil {
		return order.Exit{}, fmt.Errorf("%s: %w", c.Args[0], err)
	}
	if in != nil {
		go func() {
			if c.In != nil {
				_, _ = io.Copy(in, c.In)
			}
			in.Close()
		}()
	}
	over := make(chan struct{})
	go func() {
		for {
			select {
			case s := <-c.Signals:
				_ = syscall.Kill(-cmd.Process.Pid, s)
			case <-over:
				return
			}
		}
	}()
	err = cmd.Wait()
	close(over)
	host.Born.Delete(cmd.Process.Pid)
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) && !errors.Is(err, exec.ErrWaitDelay) && cmd.ProcessState == nil {
		return order.Exit{}, fmt.Errorf("%s: %w", c.Args[0], err)
	}
	return host.ExitOf(cmd.ProcessState), nil
}
