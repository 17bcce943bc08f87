// Package service is the agent as a service of a host: enrolled by who brings it, kept running by systemd or by a supervisor of our own, ended, and
// taken away again with all that belongs to it. It runs on the host itself (cmd/lanternfield-agent).
package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"lanternfield/internal/agent"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/filter"
	"lanternfield/internal/host"
	"lanternfield/internal/host/packetfilter"
	"lanternfield/internal/identity"
)

// Place is a node on this host.
type Place struct {
	Dir     string // the node's folder
	Field   string
	Node    field.NodeName
	Address string // at which the agent answers
	Ports   agent.Ports
}

// Valid refuses what cannot be a node's place.
func (p Place) Valid() error {
	switch {
	case !filepath.IsAbs(p.Dir) || filepath.Clean(p.Dir) != p.Dir || filepath.Dir(p.Dir) == "/":
		return fmt.Errorf("%q is no folder of a node", p.Dir)
	case !field.NamePattern.MatchString(string(p.Node)) || !field.NamePattern.MatchString(p.Field):
		return fmt.Errorf("%q of %q is no name of a node", p.Node, p.Field)
	}
	_, err := netip.ParseAddr(p.Address)
	return err
}

// args are what an agent, or who supervises it, is started with.
func (p Place) args(command string) []string {
	return []string{command, "--dir", p.Dir, "--node", string(p.Node), "--address", p.Address, "--ports", fmt.Sprintf("%d-%d", p.Ports.First, p.Ports.Last), "--field", p.Field}
}

// How long an agent may take to answer after its start, and to end.
const (
	startWithin = 20 * time.Second
	endWithin   = 15 * time.Second
)

// Start enrols the agent of a node with who is at the other end of a connection, has it run from now on, also after the host was started again,
// and says when it answers. One that runs already is ended before: its members go on.
func Start(ctx context.Context, p Place, with io.ReadWriter) error {
	if err := p.Valid(); err != nil {
		return err
	}
	if err := host.MakeFolders(p.Dir); err != nil {
		return host.DiskError(err)
	}
	var party identity.Agent
	seal, err := party.Enrol(with)
	if err != nil {
		return err
	}
	if err := foreign(p, seal); err != nil {
		return err
	}
	if err := endAgent(p); err != nil {
		return err
	}
	if err := party.Keep(host.IdentityFile(p.Dir), seal); err != nil {
		return host.DiskError(err)
	}
	if err := p.run(); err != nil {
		return err
	}
	end, err := await(ctx, p.Dir)
	if err != nil {
		return err
	}
	return identity.Answers(with, end.URL)
}

// foreign refuses a folder in which another field of the same name has its agent: what that seals with follows from another field's key.
func foreign(p Place, seal []byte) error {
	var before identity.Agent
	sealed, err := before.Load(host.IdentityFile(p.Dir))
	if err != nil || bytes.Equal(sealed, seal) {
		return nil // there is none, or none that could be spoken to
	}
	return fmt.Errorf("%s is the folder of another field %s that has a node %s here: retire that one, or give this field another name or another `folder:`", p.Dir, p.Field, p.Node)
}

// run has systemd keep the agent running, or a supervisor where there is no systemd.
func (p Place) run() error {
	if hasSystemd() {
		return p.install()
	}
	return p.supervised()
}

// supervised starts a supervisor, detached from this process.
func (p Place) supervised() error {
	log, err := os.OpenFile(filepath.Join(host.OwnFolder(p.Dir), "agent.log"), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return host.DiskError(err)
	}
	defer log.Close()
	cmd := exec.Command(host.Program(p.Dir, host.AgentProgram), p.args("supervise")...)
	cmd.Dir, cmd.Stdout, cmd.Stderr, cmd.Env = "/", log, log, environment()
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("the agent cannot be started: %w", err)
	}
	return cmd.Process.Release()
}

// environment are the variables that an agent has. What the one who logged in has besides is nobody's business: it may hold tokens.
func environment() []string {
	env := []string{"PATH=" + host.ServicePath}
	for _, name := range []string{"HOME", "LANG", "TZ", "TMPDIR", "USER", "LOGNAME"} {
		if v, ok := os.LookupEnv(name); ok {
			env = append(env, name+"="+v)
		}
	}
	return env
}

// await waits until an agent that lives has written where it answers.
func await(ctx context.Context, dir string) (host.Endpoint, error) {
	ctx, cancel := context.WithTimeout(ctx, startWithin)
	defer cancel()
	for {
		if end, ok := Running(dir); ok {
			return end, nil
		}
		select {
		case <-ctx.Done():
			return host.Endpoint{}, fmt.Errorf("the agent did not come up; the end of its log is:\n%s", logEnd(dir))
		case <-time.After(10 * time.Millisecond):
		}
	}
}

// logEnd gives the last lines of the agent's log.
func logEnd(dir string) string {
	f, err := os.Open(filepath.Join(host.OwnFolder(dir), "agent.log"))
	if err != nil {
		return err.Error()
	}
	defer f.Close()
	const most = 1000
	if info, err := f.Stat(); err == nil && info.Size() > most {
		_, _ = f.Seek(-most, io.SeekEnd)
	}
	data, _ := io.ReadAll(io.LimitReader(f, most))
	return string(data)
}

// Running gives where the agent of a node answers, if it runs.
func Running(dir string) (host.Endpoint, bool) {
	var end host.Endpoint
	data, err := os.ReadFile(host.EndpointFile(dir))
	if err != nil || json.Unmarshal(data, &end) != nil || end.Rebooted() {
		return end, false
	}
	return end, host.Lives(end.PID, end.StartTime)
}

// supervisor is who keeps an agent running.
type supervisor struct {
	PID       int   `json:"pid"`
	StartTime int64 `json:"start_time"`
}

func supervisorFile(dir string) string { return filepath.Join(host.OwnFolder(dir), "supervisor.json") }

// endAgent ends the agent of a node and who keeps it running. Its members go on.
func endAgent(p Place) error {
	if err := p.uninstall(); err != nil {
		return err
	}
	var s supervisor
	if data, err := os.ReadFile(supervisorFile(p.Dir)); err == nil && json.Unmarshal(data, &s) == nil && host.Lives(s.PID, s.StartTime) {
		_ = syscall.Kill(s.PID, syscall.SIGTERM)
		until := time.Now().Add(endWithin)
		for host.Lives(s.PID, s.StartTime) {
			if time.Now().After(until) {
				return fmt.Errorf("process %d, which keeps the agent running, does not end", s.PID)
			}
			time.Sleep(5 * time.Millisecond)
		}
	}
	if end, ok := Running(p.Dir); ok {
		return host.End(end, host.Program(p.Dir, host.AgentProgram), p.Dir)
	}
	return nil
}

// Supervise runs the agent of a node, and runs it again when it ends without having been asked to. It returns when the agent has ended because it was
// asked to, or the context ends.
func Supervise(ctx context.Context, p Place) error {
	own := supervisor{os.Getpid(), host.StartTime(os.Getpid())}
	data, err := json.Marshal(own)
	if err != nil {
		return err
	}
	if err := os.WriteFile(supervisorFile(p.Dir), data, 0o600); err != nil {
		return host.DiskError(err)
	}
	for pause := time.Second; ; {
		began := time.Now()
		cmd := exec.CommandContext(ctx, host.Program(p.Dir, host.AgentProgram), p.args("agent")...)
		cmd.Dir, cmd.Stdout, cmd.Stderr = "/", os.Stdout, os.Stderr
		cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
		cmd.WaitDelay = endWithin
		err := cmd.Run()
		if err == nil || ctx.Err() != nil {
			return nil
		}
		if _, gone := os.Stat(p.Dir); errors.Is(gone, fs.ErrNotExist) {
			return fmt.Errorf("the folder %s is gone", p.Dir)
		}
		if time.Since(began) > time.Minute {
			pause = time.Second
		}
		slog.Warn("the agent has ended; it is started again", "node", p.Node, "how", err, "in", pause)
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(pause):
		}
		pause = min(2*pause, time.Minute)
	}
}

// Remove ends the agent of a node and what its members run, and takes away its folder, and those above it that are empty then and ours.
func Remove(ctx context.Context, p Place) error {
	if err := p.Valid(); err != nil {
		return err
	}
	if err := endAgent(p); err != nil {
		return err
	}
	return p.clear(ctx)
}

// clear ends what members run, and takes the folder away.
func (p Place) clear(ctx context.Context) error {
	if err := host.EndAll(ctx, p.Dir); err != nil {
		return err
	}
	host.RemoveGroups(p.Dir)
	if err := packetfilter.Drop(ctx, filter.TableOf(p.Field, p.Node)); err != nil {
		return err
	}
	if err := os.RemoveAll(p.Dir); err != nil {
		return err
	}
	for _, above := range []string{filepath.Dir(p.Dir), filepath.Dir(filepath.Dir(p.Dir))} { // the field's, and that of all fields
		if os.Remove(above) != nil {
			break
		}
	}
	return nil
}

// TakeAway is Remove from within the agent itself, which ends after it. It gives what is left there all the same.
func TakeAway(ctx context.Context, p Place) (left []string, err error) {
	if err := p.disable(); err != nil {
		return nil, err
	}
	if err := p.clear(ctx); err != nil {
		return nil, err
	}
	for _, name := range []string{p.Dir, p.unitFile()} {
		if _, err := os.Lstat(name); err == nil {
			left = append(left, name)
		}
	}
	if table := filter.TableOf(p.Field, p.Node); packetfilter.Stands(ctx, table) {
		left = append(left, "the table "+table+" of the packet filter")
	}
	for _, pid := range host.FindAll(p.Dir) {
		left = append(left, fmt.Sprintf("process %d of a member", pid))
	}
	return left, nil
}

// ParsePorts reads ports as args writes them.
func ParsePorts(text string) (agent.Ports, error) {
	var p agent.Ports
	if n, err := fmt.Sscanf(text, "%d-%d", &p.First, &p.Last); err != nil || n != 2 || p.First < 1 || p.Last > 65535 || p.First > p.Last || text != strconv.Itoa(p.First)+"-"+strconv.Itoa(p.Last) {
		return p, fmt.Errorf("%q are no ports; they are written like 7800-7899", text)
	}
	return p, nil
}
