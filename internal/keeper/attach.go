package keeper

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"syscall"
	"time"

	"lanternfield/internal/control"
	"lanternfield/internal/keyring"
)

// comeBack is how long somebody tries to come in while one keeper ends and the next one starts.
const comeBack = 10 * time.Second

// Attach gives a session through the field's keeper, starting one where there is none. Who says for people who is attached. A keeper of an
// older release is asked to hand over to one of this release.
func Attach(ctx context.Context, f control.Folder, who string) (control.Session, error) {
	deadline := time.Now().Add(comeBack)
	asked := false
	for {
		s, k, err := control.Attach(ctx, f, who)
		switch {
		case err == nil && newer(k):
			_ = s.Close()
			if err := control.HandOver(ctx, f); err != nil && !errors.Is(err, control.ErrNobody) {
				return nil, err
			}
			_ = Start(ctx, f, who) // who comes in next finds out
		case err == nil && k.Sealed != "" && !asked:
			asked = true
			var sealed *control.SealedError
			err := control.Unseal(ctx, f)
			if errors.As(err, &sealed) {
				return s, nil // it is watched
			}
			_ = s.Close()
			if err != nil {
				return nil, err
			}
			deadline = time.Now().Add(comeBack)
		case err == nil && k.Sealed != "": // it begins anew
			_ = s.Close()
			time.Sleep(20 * time.Millisecond)
		case err == nil:
			return s, nil
		default:
			err = Start(ctx, f, who)
			var held *control.HeldError
			switch {
			case errors.As(err, &held) && time.Now().Before(deadline) && held.Answers: // another one was there first
			case errors.Is(err, errEnded) && time.Now().Before(deadline):
			case err != nil:
				return nil, err
			}
		}
		if time.Now().After(deadline) {
			now, _ := f.Holder()
			if now == nil {
				now = &control.Holder{Command: "a process that has just ended"}
			}
			return nil, &control.HeldError{Field: f.Name(), Holder: *now}
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
}

// newer tells whether this program is of a later release than a keeper, which it must not be asked to serve.
func newer(k control.Keeper) bool {
	return !control.Release.Built.IsZero() && !k.Built.IsZero() && control.Release.Built.After(k.Built)
}

// environment are the variables that a keeper, and with it the agents that it starts, gets of whoever starts it.
var environment = []string{"PATH", "HOME", "LANG", "LC_ALL", "TZ", "TMPDIR", "USER", "LOGNAME", "XDG_CONFIG_HOME", keyring.OwnerVariable, "SSH_AUTH_SOCK", "LANTERNFIELD_BINARY", "GOTRACEBACK", "GOCOVERDIR"}

// Start starts a keeper in a process of its own, detached from this one, and waits until it is ready.
func Start(ctx context.Context, f control.Folder, who string) error {
	binary, err := os.Executable()
	if err != nil {
		return fmt.Errorf("this program cannot find itself to start a keeper: %w", err)
	}
	ours, theirs, err := os.Pipe()
	if err != nil {
		return err
	}
	defer ours.Close()
	cmd := exec.Command(binary, "keep", "--folder", f.Dir, "--for", who, "--ready-fd", "3")
	cmd.ExtraFiles = []*os.File{theirs}
	cmd.Dir = "/"
	for _, name := range environment {
		if v, ok := os.LookupEnv(name); ok {
			cmd.Env = append(cmd.Env, name+"="+v)
		}
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	err = cmd.Start()
	theirs.Close()
	if err != nil {
		return fmt.Errorf("a keeper of %s cannot be started: %w", f.Name(), err)
	}
	ended := make(chan struct{})
	go func() { _ = cmd.Wait(); close(ended) }()
	stop := context.AfterFunc(ctx, func() { _ = ours.SetReadDeadline(time.Now()) })
	defer stop()
	err = hear(ours, f.Progress)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if errors.Is(err, errEnded) {
		return fmt.Errorf("a keeper of %s did not come up: %w; its log is %s", f.Name(), err, LogFile(f))
	}
	return err
}
