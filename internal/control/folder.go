package control

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base32"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"filippo.io/age"
	"golang.org/x/sys/unix"

	"lanternfield/internal/core/field"
	"lanternfield/internal/eventlog/lease"
	"lanternfield/internal/ground"
	"lanternfield/internal/ground/guests"
	"lanternfield/internal/ground/hosts"
	"lanternfield/internal/ground/kind"
	"lanternfield/internal/host"
	"lanternfield/internal/identity"
	"lanternfield/internal/keyring"
)

// Root is the state folder: the one given, else LANTERNFIELD_STATE, else the XDG one.
func Root(given string) (string, error) {
	dir := given
	if dir == "" {
		dir = os.Getenv("LANTERNFIELD_STATE")
	}
	if dir == "" {
		if dir = os.Getenv("XDG_STATE_HOME"); dir == "" {
			home, err := os.UserHomeDir()
			if err != nil {
				return "", fmt.Errorf("there is no place for state: %w; name one with --state", err)
			}
			dir = filepath.Join(home, ".local", "state")
		}
		dir = filepath.Join(dir, "lanternfield")
	}
	return filepath.Abs(dir)
}

// Folder is the state folder of one field.
type Folder struct {
	Dir    string
	Binary string // what agents are started from; this very program when empty
	// Grounds makes other grounds than this machine's out of it, or beside it; nil for that one alone.
	Grounds func(*ground.Local) ground.Several
	// Identity opens the keyring, where somebody has handed it over; the owner's key is looked for besides.
	Identity *age.X25519Identity
	// Passphrase asks a person for the passphrase of the keyring, and why; nil where nobody can be asked.
	Passphrase func(why string) (string, error)
	// Wake has another field kept that nobody keeps, by a process of its own; nil where nobody can.
	Wake func(ctx context.Context, other Folder) error
	// Progress hears how far the reading of a long log has come; nil for nobody.
	Progress func(done, of uint64)
}

// FolderOf gives the folder of the field of that name below the root.
func FolderOf(root, name string) Folder { return Folder{Dir: filepath.Join(root, name)} }

// other is the folder of another field of the same state folder.
func (f Folder) other(name string) Folder { return FolderOf(filepath.Dir(f.Dir), name) }

// own is the part of it that nobody else may enter. The way to the nodes may be passed: members may run as users of their own.
func (f Folder) own() string { return filepath.Join(f.Dir, ownFolder) }

func (f Folder) events() string { return f.kept("events.db") }

func (f Folder) checkpoints() string { return filepath.Join(f.own(), "checkpoints.db") }

func (f Folder) lock() string { return filepath.Join(f.own(), "lock") }

func (f Folder) secret() string { return f.kept("secret") }

func (f Folder) watch() string { return filepath.Join(f.own(), "watch.pem") }

func (f Folder) receipt() string { return filepath.Join(f.own(), "receipt.json") }

func (f Folder) nodes() string { return filepath.Join(f.Dir, "nodes") }

const ownFolder = "own"

// kept is where a file is: an older version kept it in the open.
func (f Folder) kept(name string) string {
	now, before := filepath.Join(f.own(), name), filepath.Join(f.Dir, name)
	if _, err := os.Lstat(now); err != nil {
		if _, err := os.Lstat(before); err == nil {
			return before
		}
	}
	return now
}

// socket is the path of the controller's socket. Socket paths must be short, and folders may be deep, so it goes
// through a handle of the folder.
func (f Folder) socket() (path string, done func(), err error) {
	dir, err := os.Open(f.own())
	if err != nil {
		return "", nil, err
	}
	return fmt.Sprintf("/proc/self/fd/%d/control.sock", dir.Fd()), func() { dir.Close() }, nil
}

// Make makes the folder, where it is not there, and finds out whether it can be written.
func (f Folder) Make() error { return f.make() }

// make makes the folder and finds out whether it can be written.
func (f Folder) make() error {
	root := filepath.Dir(f.Dir)
	if _, err := os.Lstat(root); errors.Is(err, fs.ErrNotExist) { // ours from here on, so that it may be passed whatever the umask is
		if err := errors.Join(os.MkdirAll(root, 0o711), os.Chmod(root, 0o711)); err != nil {
			return stateError(f.Dir, err)
		}
	}
	if err := os.MkdirAll(f.Dir, 0o711); err != nil {
		return stateError(f.Dir, err)
	}
	if err := unix.Access(f.Dir, unix.W_OK|unix.X_OK); err != nil {
		return stateError(f.Dir, err)
	}
	err := os.Mkdir(f.own(), 0o700)
	if errors.Is(err, fs.ErrExist) {
		err = nil
	}
	if err = errors.Join(err, os.Chmod(f.Dir, 0o711), os.Chmod(f.own(), 0o700)); err != nil {
		return stateError(f.Dir, err)
	}
	return f.takeOver()
}

// takeOver moves what an older version kept in the open, once nobody holds the field by that version's lock.
func (f Folder) takeOver() error {
	old := filepath.Join(f.Dir, "lock")
	file, err := os.OpenFile(old, os.O_RDWR, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return stateError(f.Dir, err)
	}
	defer file.Close()
	if err := unix.Flock(int(file.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		holder := Holder{}
		_ = json.NewDecoder(file).Decode(&holder)
		return &HeldError{Field: fieldName(f), Holder: holder}
	}
	// The log comes last of what is moved: where it is, everything is.
	for _, name := range []string{"secret", "receipt.json", "events.db-shm", "events.db-wal", "events.db"} {
		if err := os.Rename(filepath.Join(f.Dir, name), filepath.Join(f.own(), name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return stateError(f.Dir, err)
		}
	}
	_ = os.Remove(filepath.Join(f.Dir, "control.sock"))
	return os.Remove(old)
}

func stateError(dir string, err error) error {
	why, remedy := err.Error(), "name another folder with --state"
	switch {
	case errors.Is(err, unix.EROFS):
		why, remedy = "the disk is mounted read-only", "mount it writable again (a disk with faults is often remounted like that; the kernel's log says so), or name another folder with --state"
	case errors.Is(err, fs.ErrPermission):
		why, remedy = "no permission to write there", "make it writable, or name another folder with --state"
	case errors.Is(err, unix.ENOSPC):
		why, remedy = "the disk is full", "free some space there, or name another folder with --state"
	case errors.Is(err, unix.ENOTDIR):
		why = "a part of that path is a file"
	}
	return fmt.Errorf("the state folder %s cannot be used: %s; %s", dir, why, remedy)
}

// derive makes a secret of that name out of the key (HMAC-SHA-256).
func derive(key []byte, name string) string {
	return strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(sum(key, name)))[:32]
}

func sum(key []byte, name string) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(name))
	return h.Sum(nil)
}

// groundWith makes the field's ground. What its agents keep is sealed with keys derived from the field's. Without a keyring, agents are only watched.
func (f Folder) groundWith(ring *keyring.Keyring) (ground.Ground, *counting, error) {
	binary := f.Binary
	if binary == "" {
		binary = os.Getenv("LANTERNFIELD_BINARY")
	}
	var err error
	if binary == "" {
		if binary, err = os.Executable(); err != nil {
			return nil, nil, fmt.Errorf("this program cannot find itself to start agents: %w", err)
		}
	}
	local := &ground.Local{Dir: f.nodes(), Binary: binary, LogsLock: filepath.Join(f.own(), "logs.lock")}
	if ring == nil {
		local.Watcher, err = identity.OpenWatch(f.watch())
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, nil, err
		}
	} else {
		if local.Authority, err = authorityOf(ring); err != nil {
			return nil, nil, err
		}
		local.Seal = func(n field.NodeName) []byte { return sealOf(ring, n) }
	}
	follows := &counting{authority: local.Authority, watcher: local.Watcher, moved: map[field.NodeName]bool{}}
	if f.Grounds != nil {
		return f.Grounds(local), follows, nil
	}
	ssh := f.bareHosts()
	ssh.Authority, ssh.Watcher, ssh.Seal = local.Authority, local.Watcher, local.Seal
	joined := &guests.Guests{Cache: ground.Notes(filepath.Join(f.own(), "guests"))}
	joined.Authority, joined.Watcher, joined.Seal = local.Authority, local.Watcher, local.Seal
	return ground.Several{kind.Local: local, kind.SSH: ssh, kind.Join: joined}, follows, nil
}

// Holder finds out who holds the field; nil where nobody does. Last says who did before, where that one has not let go of it by itself.
func (f Folder) Holder() (now, last *Holder) { return lease.Look(f.lock()) }

// keysOfHosts is the file of the keys of hosts that were accepted for this field, beside those that the person knows.
func (f Folder) keysOfHosts() string { return filepath.Join(f.own(), "known_hosts") }

// broughtKeys notes the keys that were brought to hosts.
func (f Folder) broughtKeys() ground.Notes { return ground.Notes(filepath.Join(f.own(), "brought")) }

// bareHosts makes the ground of hosts, which may look at them and speak to no agent.
func (f Folder) bareHosts() *hosts.Hosts {
	return &hosts.Hosts{Field: f.Name(), Cache: ground.Notes(filepath.Join(f.own(), "hosts")), Brought: f.broughtKeys(), Known: f.keysOfHosts()}
}

// Own is the part of the folder that nobody else may enter.
func (f Folder) Own() string { return f.own() }

// Events is the file of the log.
func (f Folder) Events() string { return f.events() }

// Name is the field's name.
func (f Folder) Name() string { return fieldName(f) }

// Holder is who holds a field's lease.
type Holder = lease.Holder

// HeldError says that another controller holds the field.
type HeldError struct {
	Field   string
	Holder  Holder
	Answers bool // it does its work
}

func (e *HeldError) Error() string {
	if e.Answers {
		return fmt.Sprintf("%s is held by %s, as somebody has it open: quit that, and try again", e.Field, e.Holder)
	}
	return fmt.Sprintf("%s is held by %s, which does not answer; end that process, or wait for it. Its members go on running meanwhile",
		e.Field, e.Holder)
}

// take takes the lease, or tells who holds it.
func (f Folder) take(command string) (*lease.Lease, *Holder, error) {
	held, holder, err := lease.Acquire(f.lock(), command)
	if err != nil {
		return nil, nil, stateError(f.Dir, err)
	}
	return held, holder, nil
}

// reserveBytes is what a field keeps of its disk for being stopped and retired when that is full.
const reserveBytes = 4 << 20

func (f Folder) reserve() string { return filepath.Join(f.own(), "reserve") }

func (f Folder) keepSpace() { host.ReserveSpace(f.reserve(), reserveBytes) }

// freeSpace gives the kept space free for what ends something, where the disk is full.
func (f Folder) freeSpace() bool {
	var fs unix.Statfs_t
	if unix.Statfs(f.own(), &fs) == nil && fs.Bavail*uint64(fs.Bsize) < reserveBytes {
		return host.FreeSpace(f.reserve())
	}
	return false
}
