package ground

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"syscall"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/host"

	"lanternfield/internal/core/state"

	"golang.org/x/sys/unix"

	"lanternfield/internal/core/field"
)

// How long an agent may take to answer after its start, and how long one that runs is waited for to show who it is.
const (
	startWithin = 15 * time.Second
	showWithin  = time.Second
)

// starting has a place for each agent that is being started on this machine: a thousand at once would all come too late.
var starting = make(chan struct{}, 8*runtime.GOMAXPROCS(0))

// Ensure starts the node's agent when it does not run. The agent is detached: it outlives this process. One that is of an older version,
// or cannot show that it is this node's, is ended and replaced: its members go on, and the next one finds them.
func (l *Local) Ensure(ctx context.Context, node field.NodeName, at state.Binding) (agentapi.Agent, error) {
	end, err := l.endpoint(at.Dir)
	switch {
	case l.Authority == nil && err == nil:
		return l.client(node, end)
	case l.Authority == nil:
		return nil, errSealed
	case err == nil:
		c, err := l.client(node, end)
		if err != nil {
			return nil, err
		}
		asking, cancel := context.WithTimeout(ctx, showWithin)
		defer cancel()
		if _, err := c.Standing(asking); !errors.Is(err, agentapi.ErrUntrusted) {
			return c, nil // whether it answers, who asks it next finds out
		}
		c.Close()
		fallthrough
	case errors.Is(err, errOld):
		if err := host.End(end, l.Binary, at.Dir); err != nil {
			return nil, fmt.Errorf("the agent of %s cannot be replaced: %w", node, err)
		}
	default:
		if _, err := os.Stat(at.Dir); err != nil && len(host.FindAgents(l.Binary, at.Dir)) > 0 {
			return nil, ErrAdrift
		}
	}
	if err := host.MakeFolders(at.Dir); err != nil {
		return nil, fmt.Errorf("the folder of %s cannot be made: %w", node, err)
	}
	select {
	case starting <- struct{}{}:
		defer func() { <-starting }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	log, err := os.OpenFile(filepath.Join(host.OwnFolder(at.Dir), "agent.log"), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the log of the agent of %s cannot be written: %w", node, err)
	}
	defer log.Close()
	ours, theirs, err := pair()
	if err != nil {
		return nil, err
	}
	defer ours.Close()
	line := host.Command(l.Binary, at.Dir, string(node), at.Address)
	cmd := exec.Command(line[0], line[1:]...)
	cmd.Stdout, cmd.Stderr, cmd.Dir = log, log, "/"
	cmd.ExtraFiles = []*os.File{theirs}
	cmd.Env = environment()
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	err = cmd.Start()
	theirs.Close()
	if err != nil {
		return nil, fmt.Errorf("the agent of %s cannot be started: %w", node, err)
	}
	ended := make(chan struct{})
	go func() { _ = cmd.Wait(); close(ended) }()
	l.keepLogs()
	_ = ours.SetDeadline(time.Now().Add(startWithin))
	stop := context.AfterFunc(ctx, func() { _ = ours.SetDeadline(time.Now()) })
	defer stop()
	if _, err := l.Authority.Enrol(ours, string(node), l.Seal(node)); err != nil {
		_ = cmd.Process.Kill() // it shall not come up later, when nobody expects it
		<-ended
		if c, err := l.Find(ctx, node, at); err == nil { // another one was there first
			return c, nil
		}
		return nil, fmt.Errorf("the agent of %s did not come up; its log is %s", node, log.Name())
	}
	return l.Find(ctx, node, at)
}

// keepLogs has the logs of members bounded while their agents are away. One keeper serves all nodes; another one goes at once.
func (l *Local) keepLogs() {
	l.keeping.Do(func() {
		cmd := exec.Command(l.Binary, "keep-logs", "--nodes", l.Dir, "--lock", l.LogsLock)
		cmd.Dir, cmd.Env, cmd.SysProcAttr = "/", environment(), &syscall.SysProcAttr{Setsid: true}
		if err := cmd.Start(); err != nil {
			slog.Warn("logs are not bounded while agents are away", "error", err)
			return
		}
		go func() { _ = cmd.Wait() }()
	})
}

// pair makes the connection that an agent inherits from who starts it.
func pair() (ours net.Conn, theirs *os.File, err error) {
	fds, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, nil, err
	}
	mine := os.NewFile(uintptr(fds[0]), "enrolment")
	defer mine.Close()
	theirs = os.NewFile(uintptr(fds[1]), "enrolment")
	if ours, err = net.FileConn(mine); err != nil {
		theirs.Close()
	}
	return ours, theirs, err
}

// needed are the variables that agents get of the environment of whoever starts them. The rest is nobody's business on a node: an
// operator's environment holds tokens.
var needed = []string{"PATH", "HOME", "LANG", "TZ", "TMPDIR", "USER", "LOGNAME"}

func environment() []string {
	var env []string
	for _, name := range needed {
		if v, ok := os.LookupEnv(name); ok {
			env = append(env, name+"="+v)
		}
	}
	return env
}
