package agent

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/render"
)

// OwnFolder is where the agent of a node keeps what is nobody else's, in that node's folder.
func OwnFolder(nodeDir string) string { return filepath.Join(nodeDir, render.AgentFolder) }

// EndpointFile is where the agent of a node writes where it answers.
func EndpointFile(nodeDir string) string { return filepath.Join(OwnFolder(nodeDir), "agent.json") }

// OldEndpointFile is where agents of older versions wrote it.
func OldEndpointFile(nodeDir string) string { return filepath.Join(nodeDir, "agent.json") }

// LogFile is what a member writes to its standard output and error.
func LogFile(nodeDir string, m field.MemberName) string { return render.LogFile(nodeDir, m) }

// The modes of folders: one that others may pass through, and one that they may not.
const (
	passable = 0o711
	private  = 0o700
)

// MakeFolders makes a node's folder, whatever the umask is: the way down to the members may be passed, and the agent's own part is
// nobody else's.
func MakeFolders(nodeDir string) error {
	return errors.Join(makeFolder(nodeDir, passable), makeFolder(OwnFolder(nodeDir), private))
}

// makeFolder makes a folder with exactly that mode; those above it are made passable.
func makeFolder(name string, mode fs.FileMode) error {
	if info, err := os.Lstat(name); err == nil && info.IsDir() && info.Mode().Perm() == mode {
		return nil
	}
	if _, err := os.Lstat(filepath.Dir(name)); errors.Is(err, fs.ErrNotExist) {
		if err := makeFolder(filepath.Dir(name), passable); err != nil {
			return err
		}
	}
	if err := os.Mkdir(name, mode); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return errors.Join(os.Chmod(name, mode), syncDir(filepath.Dir(name)))
}

// takeOverFolder moves what an agent of an older version kept in the open into the agent's own folder. That agent has ended: whoever
// calls this holds its lock.
func (l layout) takeOverFolder() error {
	var errs []error
	move := func(from, to string) {
		_ = syscall.Rmdir(to) // an empty folder of a start that came no further
		if err := os.Rename(from, to); err != nil && !errors.Is(err, fs.ErrNotExist) {
			errs = append(errs, err)
		}
	}
	for _, name := range []string{"reports.ndjson", "operations", "keep", "memory.json"} {
		move(filepath.Join(l.dir, name), filepath.Join(l.own(), name))
	}
	logs, _ := filepath.Glob(filepath.Join(l.dir, "members", "*", "output.log*"))
	for _, log := range logs {
		if info, err := os.Lstat(log); err == nil && info.Mode().IsRegular() {
			member := field.MemberName(filepath.Base(filepath.Dir(log)))
			to := l.log(member) + strings.TrimPrefix(filepath.Base(log), "output.log")
			move(log, to)
			// Its user could have put something else there in the last moment; here it cannot.
			if info, err := os.Lstat(to); err == nil && info.Mode().IsRegular() {
				errs = append(errs, os.Chmod(to, 0o600))
			} else if err == nil {
				errs = append(errs, os.Remove(to))
			}
		}
	}
	errs = append(errs, makeFolder(filepath.Join(l.dir, "members"), passable))
	if _, err := os.Lstat(filepath.Join(l.dir, "kept")); err == nil {
		errs = append(errs, os.Chmod(filepath.Join(l.dir, "kept"), private))
	}
	for _, name := range []string{"agent.json", "token", "agent.log"} {
		errs = append(errs, removeIfThere(filepath.Join(l.dir, name)))
	}
	return errors.Join(errs...)
}
