package fit

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"lanternfield/internal/core/order"
)

// versionWithin is how long a program may take to tell its version.
const versionWithin = 10 * time.Second

// Versions remembers what programs have told, as long as their files stay the same.
type Versions struct {
	sync.Mutex
	known map[string]string
}

// Pick chooses, where the version matters, among the programs of a name that are here: the first that suits. It gives the folder that it
// is in; none where any will do.
func (v *Versions) Pick(l order.Lookup) (folder string, err error) {
	if l.Tells == nil || l.Tells.Least == "" && l.Version == "" {
		return "", nil
	}
	first, err := LookUp(l.Tells.Exec[0], l.LookIn)
	if err != nil {
		return "", err
	}
	programs := []string{first}
	if !strings.ContainsRune(l.Tells.Exec[0], '/') && l.Tells.Exec[0] != ownName {
		programs = all(l.Tells.Exec[0], l.LookIn)
	}
	var others []string
	var unsuited error
	for i, program := range programs {
		found, err := v.of(program, l)
		if err == nil {
			if err = l.Tells.Suits(found, l.Version); err == nil {
				return filepath.Dir(program), nil
			}
			if i > 0 {
				others = append(others, fmt.Sprintf("%s in %s", found, filepath.Dir(program)))
			}
		}
		if i == 0 {
			unsuited = err
		}
	}
	if len(others) > 0 {
		unsuited = fmt.Errorf("%w; there is also %s", unsuited, strings.Join(others, ", "))
	}
	return "", unsuited
}

// of asks a program for its version.
func (v *Versions) of(program string, l order.Lookup) (string, error) {
	key := strings.Join(append([]string{program, l.Tells.Pattern, l.User}, l.Tells.Exec...), "\x00")
	if info, err := os.Stat(program); err == nil {
		key += info.ModTime().String()
	}
	v.Lock()
	found, known := v.known[key]
	v.Unlock()
	if !known {
		var err error
		if found, err = toldBy(program, l); err != nil {
			return "", err
		}
		v.Lock()
		if v.known == nil || len(v.known) > 100 {
			v.known = map[string]string{}
		}
		v.known[key] = found
		v.Unlock()
	}
	return found, nil
}

// toldBy asks a program for its version.
func toldBy(program string, l order.Lookup) (string, error) {
	ctx, cancel := context.WithTimeout(context.Background(), versionWithin)
	defer cancel()
	var out bytes.Buffer
	cmd := exec.CommandContext(ctx, program, l.Tells.Exec[1:]...)
	cmd.Stdout, cmd.Stderr, cmd.Dir, cmd.WaitDelay = &out, &out, "/", time.Second
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if who, err := AccountFor(l.User, l.IfRoot); err == nil {
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
