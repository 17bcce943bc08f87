package agent

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/filter"
	"lanternfield/internal/host"
	"lanternfield/internal/host/packetfilter"
)

// Rules of the packet filter count only when whoever gave them has confirmed them over a new connection. Until then the taking back is armed: a process of its own does it, whatever becomes of
// the agent, and an agent that starts does it too.

// keptRules are rules as they lie on the disk.
type keptRules struct {
	filter.Rules
	Until time.Time `json:"until,omitzero"` // they are taken back then, where nobody confirms them
}

func rulesFile(dir string) string   { return filepath.Join(host.OwnFolder(dir), "rules.json") }
func pendingFile(dir string) string { return filepath.Join(host.OwnFolder(dir), "rules.pending.json") }

func readRules(name string) (*keptRules, error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	var k keptRules
	if err := json.Unmarshal(data, &k); err != nil {
		return nil, err
	}
	return &k, k.Valid()
}

// rulesNow is the digest of the rules that count; empty where there are none.
func (a *Agent) rulesNow() string {
	k, err := readRules(rulesFile(a.options.Dir))
	if err != nil {
		return ""
	}
	return k.Digest()
}

// How long rules may wait to be confirmed.
const (
	confirmLeast = time.Second
	confirmMost  = time.Minute
)

// takeRules puts rules in force, and arms their being taken back.
func (a *Agent) takeRules(ctx context.Context, r filter.Rules, within time.Duration) error {
	if a.kept == nil {
		return agentapi.Refuse(http.StatusNotFound, "this agent keeps no rules of the packet filter: it is of this machine")
	}
	if err := r.Valid(); err != nil {
		return agentapi.Refuse(http.StatusBadRequest, err.Error())
	}
	if err := packetfilter.MayKeep(); err != nil {
		return agentapi.Refuse(http.StatusNotImplemented, err.Error())
	}
	a.filtering.Lock()
	defer a.filtering.Unlock()
	within = min(max(within, confirmLeast), confirmMost)
	if err := writeSafe(pendingFile(a.options.Dir), keptRules{r, time.Now().Add(within)}); err != nil {
		return agentapi.Refuse(http.StatusInsufficientStorage, err.Error())
	}
	err := a.arm(within)
	if err == nil {
		err = packetfilter.Apply(ctx, r.Script())
	}
	if err != nil {
		err = errors.Join(err, TakeBackRules(context.WithoutCancel(ctx), a.options.Dir))
		return agentapi.Refuse(http.StatusConflict, err.Error())
	}
	return nil
}

// arm starts the process that takes unconfirmed rules back.
func (a *Agent) arm(within time.Duration) error {
	cmd := exec.Command(host.Program(a.options.Dir, host.AgentProgram), "unfilter", "--dir", a.options.Dir, "--after", within.String())
	cmd.Dir, cmd.Env = "/", []string{"PATH=" + host.ServicePath}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return err
	}
	go func() { _ = cmd.Wait() }()
	return nil
}

// confirmRules has rules count from now on.
func (a *Agent) confirmRules(digest string) error {
	a.filtering.Lock()
	defer a.filtering.Unlock()
	k, err := readRules(pendingFile(a.options.Dir))
	if err != nil || k.Digest() != digest {
		return agentapi.Refuse(http.StatusConflict, "there are no such rules that wait to be confirmed: they were taken back")
	}
	if err := os.Rename(pendingFile(a.options.Dir), rulesFile(a.options.Dir)); err != nil {
		return agentapi.Refuse(http.StatusInsufficientStorage, err.Error())
	}
	if err := host.SyncDir(host.OwnFolder(a.options.Dir)); err != nil {
		return agentapi.Refuse(http.StatusInsufficientStorage, err.Error())
	}
	return nil
}

// dropRules has everything be let in again.
func (a *Agent) dropRules(ctx context.Context) error {
	a.filtering.Lock()
	defer a.filtering.Unlock()
	for _, name := range []string{pendingFile(a.options.Dir), rulesFile(a.options.Dir)} {
		k, err := readRules(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err == nil {
			err = packetfilter.Drop(ctx, k.Table)
		}
		if err = errors.Join(err, os.Remove(name)); err != nil {
			return agentapi.Refuse(http.StatusInternalServerError, err.Error())
		}
	}
	return nil
}

// TakeBackRules puts the rules in force again that were before those that nobody has confirmed; where there were none, the table goes.
func TakeBackRules(ctx context.Context, dir string) error {
	pending, err := readRules(pendingFile(dir))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil {
		before, failed := readRules(rulesFile(dir))
		switch {
		case failed == nil:
			err = packetfilter.Apply(ctx, before.Script())
		default:
			err = packetfilter.Drop(ctx, pending.Table)
		}
	}
	return errors.Join(err, os.Remove(pendingFile(dir)))
}

// unfilterLook is how often it is looked whether rules were confirmed.
const unfilterLook = 100 * time.Millisecond

// Unfilter waits, and takes rules back that were not confirmed until then. Others may have been given meanwhile, which have a time of their own.
func Unfilter(ctx context.Context, dir string, after time.Duration) error {
	look := time.NewTicker(unfilterLook)
	defer look.Stop()
	for until := time.Now().Add(after); time.Now().Before(until); {
		if _, err := os.Lstat(pendingFile(dir)); errors.Is(err, fs.ErrNotExist) {
			return nil // they were confirmed
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-look.C:
		}
	}
	k, err := readRules(pendingFile(dir))
	if errors.Is(err, fs.ErrNotExist) || err == nil && time.Now().Before(k.Until) {
		return nil
	}
	return TakeBackRules(ctx, dir)
}

// filterAgain puts the rules in force that count, as after the machine was started, and takes those back that nobody has confirmed.
func (a *Agent) filterAgain(ctx context.Context) {
	if a.kept == nil {
		return
	}
	err := TakeBackRules(ctx, a.options.Dir)
	k, failed := readRules(rulesFile(a.options.Dir))
	switch {
	case errors.Is(failed, fs.ErrNotExist):
	case failed != nil:
		err = errors.Join(err, failed)
	default:
		err = errors.Join(err, packetfilter.Apply(ctx, k.Script()))
	}
	if err != nil {
		slog.Error("rules of the packet filter are not in force", "error", err)
	}
}
