package e2e

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"
)

// Machines are hosts made of namespaces: each has its own network with an address on a common bridge, its own processes, its own files over those of this
// machine, and an SSH server. Clock, boot id and most settings of the kernel are shared. An end of its first process ends all of it; starting it again finds
// the files that were written.
type machines struct {
	*testing.T
	dir, bridge string
	subnet      string // "10.213.7"
	key         string // of who may log in
	list        []*machine
}

type machine struct {
	all        *machines
	name       string // of the network namespace
	address    string
	dir        string
	init       *exec.Cmd
	before     map[string]bool // files
	serverArgs []string        // further ones of the SSH server
}

var networks atomic.Int32

// bootScript makes the files and starts the SSH server; it runs as the first process of a machine.
const bootScript = `set -e
cd "$1"
mount --make-rprivate /
mount -t overlay overlay -o "lowerdir=/,upperdir=$1/upper,workdir=$1/work" root
cd root
mount --rbind /sys sys; mount --rbind /dev dev; mount -t proc proc proc
mount -t tmpfs tmpfs run; mount -t tmpfs tmpfs tmp; chmod 1777 tmp
mkdir -p run/sshd root/.ssh; chmod 700 root/.ssh
rm -rf root/.config var/lib/lanternfield-none
cp "$2" root/.ssh/authorized_keys; cp "$1/hostkey" etc/ssh/lf_host_key; chmod 600 etc/ssh/lf_host_key
shift 2
exec chroot . /usr/sbin/sshd -D -e -f /dev/null -o HostKey=/etc/ssh/lf_host_key -o PidFile=none -o UsePAM=no -o StrictModes=no "$@"
`

// newMachines makes so many machines, and skips the test where that is not allowed.
func newMachines(t *testing.T, n int) *machines {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("hosts are made of namespaces, for which root's rights are needed")
	}
	if out, err := exec.Command("unshare", "-n", "-m", "-p", "-f", "true").CombinedOutput(); err != nil {
		t.Skipf("hosts are made of namespaces, which cannot be had here: %s", out)
	}
	number := os.Getpid()%200*100/100 + int(networks.Add(1))%50
	x := &machines{T: t, bridge: fmt.Sprintf("lfb%d", number), subnet: fmt.Sprintf("10.213.%d", number)}
	var err error
	if x.dir, err = os.MkdirTemp("", "lf-machines-"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(x.clean)
	x.do("mount", "-t", "tmpfs", "tmpfs", x.dir)
	x.do("ip", "link", "add", x.bridge, "type", "bridge")
	x.do("ip", "addr", "add", x.subnet+".254/24", "dev", x.bridge)
	x.do("ip", "link", "set", x.bridge, "up")
	x.key = filepath.Join(x.dir, "id")
	x.do("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", x.key)
	for i := 1; i <= n; i++ {
		m := &machine{all: x, name: fmt.Sprintf("%sh%d", x.bridge, i), address: fmt.Sprintf("%s.%d", x.subnet, i), dir: filepath.Join(x.dir, fmt.Sprint(i))}
		x.list = append(x.list, m)
		for _, d := range []string{"upper", "work", "root"} {
			if err := os.MkdirAll(filepath.Join(m.dir, d), 0o755); err != nil {
				t.Fatal(err)
			}
		}
		x.do("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(m.dir, "hostkey"))
		cable := fmt.Sprintf("%sv%d", x.bridge, i)
		x.do("ip", "netns", "add", m.name)
		x.do("ip", "link", "add", cable, "type", "veth", "peer", "name", "eth0", "netns", m.name)
		x.do("ip", "link", "set", cable, "master", x.bridge, "up")
		x.do("ip", "-n", m.name, "addr", "add", m.address+"/24", "dev", "eth0")
		x.do("ip", "-n", m.name, "link", "set", "eth0", "up")
		x.do("ip", "-n", m.name, "link", "set", "lo", "up")
	}
	for _, m := range x.list {
		m.boot()
	}
	for _, m := range x.list {
		m.answers()
		m.remember()
	}
	return x
}

func (x *machines) do(name string, args ...string) {
	x.Helper()
	if out, err := exec.Command(name, args...).CombinedOutput(); err != nil {
		x.Fatalf("%s %s: %v %s", name, strings.Join(args, " "), err, out)
	}
}

// clean ends the machines and takes everything of them away.
func (x *machines) clean() {
	for _, m := range x.list {
		m.halt()
		_ = exec.Command("ip", "netns", "delete", m.name).Run()
	}
	_ = exec.Command("ip", "link", "delete", x.bridge).Run()
	var err error
	for range 50 { // what was ended lets go of the files in a moment
		if err = syscall.Unmount(x.dir, 0); err == nil || err == syscall.EINVAL {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if err != nil {
		x.Errorf("%s cannot be unmounted: %v", x.dir, err)
	}
	_ = os.RemoveAll(x.dir)
}

// boot starts the machine.
func (m *machine) boot() {
	m.all.Helper()
	args := append([]string{"--net=/run/netns/" + m.name, "unshare", "-m", "-p", "-f", "--kill-child", "sh", "-c", bootScript, "boot", m.dir, m.all.key + ".pub"}, m.serverArgs...)
	m.init = exec.Command("nsenter", args...)
	log, err := os.OpenFile(filepath.Join(m.dir, "sshd.log"), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		m.all.Fatal(err)
	}
	defer log.Close()
	m.init.Stdout, m.init.Stderr = log, log
	m.init.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := m.init.Start(); err != nil {
		m.all.Fatal(err)
	}
}

// answers waits until the SSH server listens.
func (m *machine) answers() {
	m.all.Helper()
	for until := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		conn, err := net.DialTimeout("tcp", m.address+":22", time.Second)
		if err == nil {
			conn.Close()
			return
		}
		if time.Now().After(until) {
			log, _ := os.ReadFile(filepath.Join(m.dir, "sshd.log"))
			m.all.Fatalf("%s does not come up: %v\n%s", m.name, err, log)
		}
	}
}

// halt ends all processes of the machine at once.
func (m *machine) halt() {
	if m.init == nil {
		return
	}
	_ = m.init.Process.Kill()
	_ = m.init.Wait()
	m.init = nil
}

// first is the first process of the machine, as this machine counts.
func (m *machine) first() string {
	m.all.Helper()
	if m.init == nil {
		m.all.Fatalf("%s does not run", m.name)
	}
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", m.init.Process.Pid, m.init.Process.Pid))
	if err != nil || len(strings.Fields(string(data))) != 1 {
		m.all.Fatalf("the first process of %s cannot be found: %v %q", m.name, err, data)
	}
	return strings.Fields(string(data))[0]
}

// run runs a script on the machine, as its root.
func (m *machine) run(script string) string {
	m.all.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, "nsenter", "-t", m.first(), "-m", "-n", "-p", "--root", "env", "-C", "/", "sh", "-c", script).CombinedOutput()
	if err != nil {
		m.all.Fatalf("%s: %v\n%s", script, err, out)
	}
	return string(out)
}

// cutOff has the machine hear and be heard by none but those named.
func (m *machine) cutOff(but ...*machine) {
	m.all.Helper()
	set := []string{m.address}
	for _, o := range but {
		set = append(set, o.address)
	}
	m.all.do("ip", "netns", "exec", m.name, "nft", fmt.Sprintf(`table inet cut { chain in { type filter hook input priority 0; iif != lo ip saddr != { %[1]s } drop; }; chain out { type filter hook output priority 0; oif != lo ip daddr != { %[1]s } drop; }; }`, strings.Join(set, ", ")))
}

// heal ends that.
func (m *machine) heal() {
	m.all.Helper()
	m.all.do("ip", "netns", "exec", m.name, "nft", "delete", "table", "inet", "cut")
}

// files are those that were written on the machine over the files of this one.
func (m *machine) files() map[string]bool {
	m.all.Helper()
	upper := filepath.Join(m.dir, "upper")
	found := map[string]bool{}
	err := filepath.WalkDir(upper, func(name string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		name = strings.TrimPrefix(name, upper)
		if _, below := os.Lstat("/" + name); err == nil && (!d.IsDir() || below != nil) { // a folder of this machine is there when something in it is
			found[name] = true
		}
		return err
	})
	if err != nil {
		m.all.Fatal(err)
	}
	return found
}

// bring puts a program of this machine on one that does not run; it counts as having been there.
func (m *machine) bring(from, to string) {
	m.all.Helper()
	data, err := os.ReadFile(from)
	name := filepath.Join(m.dir, "upper", to)
	if err = errors.Join(err, os.MkdirAll(filepath.Dir(name), 0o755), os.WriteFile(name, data, 0o755)); err != nil {
		m.all.Fatal(err)
	}
	m.before[to] = true
}

// remember takes what is on the machine now for what was there before.
func (m *machine) remember() { m.before = m.files() }

// left is everything that is on the machine and was not there before: files, processes but the SSH server, rules of the packet filter.
func (m *machine) left() string {
	m.all.Helper()
	var left []string
	for name := range m.files() {
		if !m.before[name] {
			left = append(left, name)
		}
	}
	slices.Sort(left)
	left = append(left, strings.TrimSpace(m.run(`exec 2>/dev/null; for p in /proc/[0-9]*; do tr '\0' ' ' <$p/cmdline | grep -v '^sshd\|^sh -c\|^tr \|^grep \|^$' ; done; nft list ruleset; ls /tmp; true`)))
	return strings.TrimSpace(strings.Join(left, "\n"))
}
