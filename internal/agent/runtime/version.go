package runtime

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"time"

	"lanternfield/internal/core/order"
)

// versionWithin is how long a program may take to tell its version.
const versionWithin = 10 * time.Second

// versions remembers what programs have told, as long as their files stay the same.
type versions struct {
	sync.Mutex
	known map[string]string
}

// lacks asks a program for its version where that matters, and tells what is wrong with it.
func (v *versions) lacks(l order.Lookup) error {
	if l.Tells == nil || l.Tells.Least == "" && l.Version == "" {
		return nil
	}
	program, err := LookUp(l.Tells.Exec[0], l.LookIn)
	if err != nil {
		return err
	}
	key := strings.Join(append([]string{program, l.Tells.Pattern, l.User}, l.Tells.Exec...), "\x00")
	if info, err := os.Stat(program); err == nil {
		key += info.ModTime().String()
	}
	v.Lock()
	found, known := v.known[key]
	v.Unlock()
	if !known {
		if found, err = toldBy(program, l); err != nil {
			return err
		}
		v.Lock()
		if v.known == nil || len(v.known) > 100 {
			v.known = map[string]string{}
		}
		v.known[key] = found
		v.Unlock()
	}
	return l.Tells.Suits(found, l.Version)
}

// toldBy asks a program for its version.
func toldBy(program string, l order.Lookup) (string, error) {
	ctx, cancel := context.WithTimeout(context.Background(), versionWithin)
	defer cancel()
	var out bytes.Buffer
	cmd := exec.CommandContext(ctx, program, l.Tells.Exec[1:]...)
	cmd.Stdout, cmd.Stderr, cmd.Dir, cmd.WaitDelay = &out, &out, "/", time.Second
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if who, err := accountOf(l.User, l.IfRoot); err == nil {
		cmd.SysProcAttr.Credential = who.Credential
	}
	err := cmd.Run()
	var exit *exec.ExitError
	switch {
	case ctx.Err() != nil:
		return "", fmt.Errorf("%s did not tell its version within %s", l.Tells.Exec[0], versionWithin)
	case err != nil && !errors.As(err, &exit) && !errors.Is(err, exec.ErrWaitDelay):
		return "", err
	}
	return l.Tells.Read(out.String())
}
