package host

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"lanternfield/internal/core/render"
)

// Endpoint is where an agent answers, as it writes it to its folder.
type Endpoint struct {
	Agent     string `json:"agent"`
	URL       string `json:"url"`
	PID       int    `json:"pid"`
	StartTime int64  `json:"start_time"`
	Boot      string `json:"boot,omitempty"` // of the machine
}

// The names of the programs that are put on hosts, in a folder of the node's.
const (
	AgentProgram = "lanternfield-agent"
	GuardProgram = "lanternfield-guard"
	programs     = "bin"
)

// ServicePath is the PATH of agents on hosts, and so of their members: where programs are, whoever logs in.
const ServicePath = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"

// Program is where a program lies that was put on a host for a node.
func Program(nodeDir, name string) string { return filepath.Join(nodeDir, programs, name) }

// OwnFolder is where the agent of a node keeps what is nobody else's, in that node's folder.
func OwnFolder(nodeDir string) string { return filepath.Join(nodeDir, render.AgentFolder) }

// LockFile is what the agent of a node holds while it runs.
func LockFile(nodeDir string) string { return filepath.Join(OwnFolder(nodeDir), "agent.lock") }

// EndpointFile is where the agent of a node writes where it answers.
func EndpointFile(nodeDir string) string { return filepath.Join(OwnFolder(nodeDir), "agent.json") }

// IdentityFile is where the agent of a host keeps its key and certificate, and the key with which it seals.
func IdentityFile(nodeDir string) string { return filepath.Join(OwnFolder(nodeDir), "identity.json") }

// CopyFile is where the agent of a node keeps a sealed copy of the field's state.
func CopyFile(nodeDir string) string { return filepath.Join(OwnFolder(nodeDir), "field.backup.age") }

// OldEndpointFile is where agents of older versions wrote it.
func OldEndpointFile(nodeDir string) string { return filepath.Join(nodeDir, "agent.json") }

// UsualFolder is where what is ours lies on a machine where the field says nothing of it.
func UsualFolder() (string, error) {
	if os.Geteuid() == 0 {
		return "/var/lib/lanternfield", nil
	}
	home, err := os.UserHomeDir()
	return filepath.Join(home, ".local/state/lanternfield"), err
}

// The modes of folders: one that others may pass through, and one that they may not.
const (
	Passable = 0o711
	Private  = 0o700
)

// MakeFolders makes a node's folder, whatever the umask is: the way down to the members may be passed, and the agent's own part is
// nobody else's.
func MakeFolders(nodeDir string) error {
	return errors.Join(MakeFolder(nodeDir, Passable), MakeFolder(OwnFolder(nodeDir), Private))
}

// MakeFolder makes a folder with exactly that mode; those above it are made passable.
func MakeFolder(name string, mode fs.FileMode) error {
	if info, err := os.Lstat(name); err == nil && info.IsDir() && info.Mode().Perm() == mode {
		return nil
	}
	if _, err := os.Lstat(filepath.Dir(name)); errors.Is(err, fs.ErrNotExist) {
		if err := MakeFolder(filepath.Dir(name), Passable); err != nil {
			return err
		}
	}
	if err := os.Mkdir(name, mode); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return errors.Join(os.Chmod(name, mode), SyncDir(filepath.Dir(name)))
}

// BootOf tells one start of the machine from another.
func BootOf() string {
	data, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	return strings.TrimSpace(string(data))
}

// Rebooted tells whether the machine was started again since an agent wrote that.
func (e Endpoint) Rebooted() bool { return e.Boot != "" && e.Boot != BootOf() }
