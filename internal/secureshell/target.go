package secureshell

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/kevinburke/ssh_config"

	"lanternfield/internal/core/field"
)

// Target is a host as SSH reaches it.
type Target struct {
	Name    string // by which it was asked for
	Host    string // a name or an address
	Port    int
	User    string
	Keys    []string  // files of private keys, in the order in which they are tried
	Known   []string  // files of host keys that are believed
	Through []*Target // the hosts on the way, nearest first
	// Password is tried after the keys, where a person was asked for it: to bring a key, and for nothing else.
	Password string
	Only     bool // keys of the SSH agent are not tried that are in no file of Keys
}

// Address is where its SSH server listens.
func (t *Target) Address() string { return net.JoinHostPort(t.Host, strconv.Itoa(t.Port)) }

// String names it with who logs in.
func (t *Target) String() string {
	at := t.Host
	if t.Port != 22 {
		at = t.Address()
	}
	if t.Name != t.Host {
		return fmt.Sprintf("%s (%s@%s)", t.Name, t.User, at)
	}
	return t.User + "@" + at
}

// Settings are what a person's SSH configuration says of hosts, and that of the machine where the person's says nothing.
type Settings struct {
	files []*ssh_config.Config
	home  string
}

// Configuration reads both.
func Configuration() (*Settings, error) {
	home, err := os.UserHomeDir()
	if err != nil {
		return nil, err
	}
	s := &Settings{home: home}
	for _, name := range []string{filepath.Join(home, ".ssh", "config"), "/etc/ssh/ssh_config"} {
		f, err := os.Open(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("the SSH configuration cannot be read: %w", err)
		}
		c, err := ssh_config.Decode(f)
		f.Close()
		if err != nil {
			return nil, fmt.Errorf("the SSH configuration %s cannot be read: %w", name, err)
		}
		s.files = append(s.files, c)
	}
	return s, nil
}

// get asks for one value; the first that is said counts.
func (s *Settings) get(name, key string) (string, error) {
	for _, c := range s.files {
		if value, err := c.Get(name, key); err != nil || value != "" {
			return value, err
		}
	}
	return "", nil
}

// mostHops is over how many hosts a way may go.
const mostHops = 8

// Resolve finds how a host is reached: by what the field file says of it, and where that says nothing, by the SSH configuration.
func (s *Settings) Resolve(name string, g field.Ground, known []string) (*Target, error) {
	t, err := s.resolve(name, g, known, 0)
	if err != nil {
		return nil, &Fault{Kind: Config, Host: name, Why: "cannot be reached as it is written: " + err.Error(), Do: "correct that in the field file or in the SSH configuration"}
	}
	return t, nil
}

func (s *Settings) resolve(name string, g field.Ground, known []string, hops int) (*Target, error) {
	if hops > mostHops {
		return nil, fmt.Errorf("the way to it goes over more than %d hosts: does it go in a circle?", mostHops)
	}
	said := map[string]string{}
	for _, key := range []string{"HostName", "Port", "User", "ProxyJump", "ProxyCommand", "IdentitiesOnly", "UserKnownHostsFile"} {
		value, err := s.get(name, key)
		if err != nil {
			return nil, err
		}
		said[key] = value
	}
	t := &Target{Name: name, Host: strings.ReplaceAll(cmp.Or(said["HostName"], name), "%h", name), Port: g.Port, User: cmp.Or(g.User, said["User"]), Known: known,
		Only: strings.EqualFold(said["IdentitiesOnly"], "yes")}
	if t.Port == 0 {
		port, err := strconv.Atoi(cmp.Or(said["Port"], "22"))
		if err != nil || port < 1 || port > 65535 {
			return nil, fmt.Errorf("%q is no port", said["Port"])
		}
		t.Port = port
	}
	if t.User == "" {
		who, err := user.Current()
		if err != nil {
			return nil, fmt.Errorf("no user is said, and who runs this cannot be found out: %w", err)
		}
		t.User = who.Username
	}
	if err := s.keys(t, g.Key); err != nil {
		return nil, err
	}
	if file := said["UserKnownHostsFile"]; file != "" {
		for _, f := range strings.Fields(file) {
			t.Known = append(t.Known, s.path(f))
		}
	} else {
		t.Known = append(slices.Clone(t.Known), filepath.Join(s.home, ".ssh", "known_hosts"))
	}
	t.Known = append(t.Known, "/etc/ssh/ssh_known_hosts")
	jumps := cmp.Or(g.Through, said["ProxyJump"])
	if command := said["ProxyCommand"]; command != "" && !strings.EqualFold(command, "none") && g.Through == "" {
		return nil, fmt.Errorf("the SSH configuration has a ProxyCommand for it, which is not carried out here; say `through:` with a host instead")
	}
	if jumps == "" || strings.EqualFold(jumps, "none") {
		return t, nil
	}
	for _, jump := range strings.Split(jumps, ",") {
		over, err := s.jump(strings.TrimSpace(jump), g, known, hops+1)
		if err != nil {
			return nil, err
		}
		t.Through = append(t.Through, over...)
	}
	return t, nil
}

// jump finds how a host on the way is reached: [USER@]HOST[:PORT].
func (s *Settings) jump(text string, g field.Ground, known []string, hops int) ([]*Target, error) {
	who, at, named := strings.Cut(text, "@")
	if !named {
		who, at = "", text
	}
	over := field.Ground{User: who, Key: g.Key}
	name := at
	if host, port, err := net.SplitHostPort(at); err == nil {
		n, err := strconv.Atoi(port)
		if err != nil || n < 1 || n > 65535 {
			return nil, fmt.Errorf("%q, through which it is reached, has no port", text)
		}
		name, over.Port = host, n
	}
	if name == "" {
		return nil, fmt.Errorf("%q, through which it is reached, names no host", text)
	}
	t, err := s.resolve(name, over, known, hops)
	if err != nil {
		return nil, err
	}
	way := append(slices.Clone(t.Through), t)
	t.Through = nil
	return way, nil
}

// keys finds the files of private keys for a host.
func (s *Settings) keys(t *Target, file string) error {
	if file != "" {
		t.Keys = []string{s.path(file)}
		if _, err := os.Stat(t.Keys[0]); err != nil {
			return fmt.Errorf("the key %s cannot be read: %w", file, err)
		}
		return nil
	}
	for _, c := range s.files {
		said, err := c.GetAll(t.Name, "IdentityFile")
		if err != nil {
			return err
		}
		for _, f := range said {
			t.Keys = append(t.Keys, s.path(f))
		}
	}
	if len(t.Keys) == 0 {
		for _, f := range []string{"id_ed25519", "id_ecdsa", "id_rsa"} {
			t.Keys = append(t.Keys, filepath.Join(s.home, ".ssh", f))
		}
	}
	return nil
}

// path is a file as the SSH configuration and field files name it.
func (s *Settings) path(name string) string {
	name = strings.ReplaceAll(strings.Trim(name, `"`), "%d", s.home)
	if rest, ok := strings.CutPrefix(name, "~/"); ok {
		return filepath.Join(s.home, rest)
	}
	if !filepath.IsAbs(name) {
		return filepath.Join(s.home, ".ssh", name)
	}
	return name
}
