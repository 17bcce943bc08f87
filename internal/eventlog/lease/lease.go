// Package lease is the right to be the one that writes a log: a file that is locked for as long as its holder lives, with who that is. It
// ends with the process, however that ends.
package lease

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// Holder is who holds a lease.
type Holder struct {
	PID     int       `json:"pid"`
	Command string    `json:"command"`
	Since   time.Time `json:"since"`
}

func (h Holder) String() string {
	return fmt.Sprintf("process %d (%s) since %s", h.PID, h.Command, h.Since.Local().Format("15:04:05"))
}

// starting is who holds a lease and has not said yet who it is.
var starting = Holder{Command: "just starting"}

// Lease is held until it is released.
type Lease struct {
	name string
	file *os.File
}

// Acquire takes the lease of that name for this process. Where somebody else holds it, it gives who that is instead.
func Acquire(name, command string) (*Lease, *Holder, error) {
	file, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, nil, err
	}
	if err := unix.Flock(int(file.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		defer file.Close()
		holder := starting
		if json.NewDecoder(file).Decode(&holder) != nil {
			holder = starting
		}
		return nil, &holder, nil
	}
	data, err := json.Marshal(Holder{PID: os.Getpid(), Command: command, Since: time.Now()})
	if err == nil {
		_, err = file.WriteAt(data, 0)
		err = errors.Join(err, file.Truncate(int64(len(data))))
	}
	if err != nil && !errors.Is(err, unix.ENOSPC) { // who holds it is for people; that it is held is what counts
		return nil, nil, errors.Join(err, file.Close())
	}
	return &Lease{name, file}, nil, nil
}

// Look finds out who holds a lease; nil where nobody does. Last is who did before, as far as that is written.
func Look(name string) (now, last *Holder) {
	file, err := os.Open(name)
	if err != nil {
		return nil, nil
	}
	defer file.Close()
	holder := starting
	said := json.NewDecoder(file).Decode(&holder) == nil
	if unix.Flock(int(file.Fd()), unix.LOCK_SH|unix.LOCK_NB) != nil {
		return &holder, nil
	}
	if !said {
		return nil, nil
	}
	return nil, &holder
}

// Lost tells whether the lease is not where it was taken: its folder was moved or removed, and somebody else may hold what is there now.
func (l *Lease) Lost() bool {
	held, err := l.file.Stat()
	if err != nil {
		return true
	}
	there, err := os.Stat(l.name)
	return err == nil && !os.SameFile(held, there) || errors.Is(err, fs.ErrNotExist)
}

// Release gives the lease up.
func (l *Lease) Release() error { return l.file.Close() }
