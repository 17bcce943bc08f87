package service

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"time"

	"lanternfield/internal/agent"
	"lanternfield/internal/core/field"
	"lanternfield/internal/host"
	"lanternfield/internal/identity"
	"lanternfield/internal/joining"
	"lanternfield/internal/netfault"
)

// How long a machine waits for who it knocks at, and for all of it.
const (
	knockWithin = 10 * time.Second
	joinWithin  = 2 * time.Minute
)

// Joining is what somebody may say on the machine.
type Joining struct {
	Invitation string
	Address    string // at which others reach this machine; the one from which it knocks where that is empty
	Programs   string // the folder in which the programs lie that are to be put in place
	Out        io.Writer
}

// Join has this machine be a node of the field that the invitation is from: it puts the agent in place, has it run from now on, and waits until who keeps the
// field has spoken with it.
func Join(ctx context.Context, o Joining) error {
	token, err := joining.ParseToken(o.Invitation)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, joinWithin)
	defer cancel()
	knocking, done := context.WithTimeout(ctx, knockWithin)
	defer done()
	dialer := tls.Dialer{Config: identity.Knock(token.Print, joining.Protocol)}
	conn, err := dialer.DialContext(knocking, "tcp", token.At.String())
	switch {
	case errors.Is(err, identity.ErrOtherDoor):
		return fmt.Errorf("%s: %w", token.At, err)
	case err != nil:
		return fmt.Errorf("%w. Is the invitation still good (`lanternfield invite list`), and can this machine connect to %s?", netfault.Of("nobody answers at "+token.At.String(), err), token.At)
	}
	defer conn.Close()
	if until, set := ctx.Deadline(); set {
		_ = conn.SetDeadline(until)
	}
	from, err := netip.ParseAddrPort(conn.LocalAddr().String())
	if err != nil {
		return err
	}
	hello := joining.Hello{ID: token.ID, Secret: token.Secret, Machine: thisMachine(from.Addr()), Address: o.Address}
	if hello.Folder, err = host.UsualFolder(); err != nil {
		return err
	}
	if hello.Address == "" {
		hello.Address = from.Addr().Unmap().String()
	}
	if err := joining.Say(conn, hello); err != nil {
		return err
	}
	var at joining.Place
	if err := joining.Hear(conn, &at); err != nil {
		return err
	}
	if at.Why != "" {
		return errors.New(at.Why)
	}
	p, err := placeOf(at)
	if err != nil {
		return err
	}
	if err := put(o.Programs, p.Dir); err != nil {
		return host.DiskError(err)
	}
	if err := Start(ctx, p, conn); err != nil {
		return fmt.Errorf("this machine may join as %s, and its agent cannot be started: %w", p.Node, err)
	}
	var said joining.Welcome
	if err := joining.Hear(conn, &said); err != nil {
		return fmt.Errorf("the agent of %s runs here, and the keeper of %s has not said whether it can reach it: %w", p.Node, p.Field, err)
	}
	if said.Why != "" {
		return fmt.Errorf("the agent of %s runs here, and %s", p.Node, said.Why)
	}
	fmt.Fprintf(o.Out, "This machine is %s of %s now, at %s. What is ours lies in %s.\n", p.Node, p.Field, p.Address, p.Dir)
	return nil
}

// placeOf is where on this machine the agent is to be.
func placeOf(at joining.Place) (Place, error) {
	p := Place{Dir: filepath.Join(at.Folder, at.Field, at.Node), Field: at.Field, Node: field.NodeName(at.Node), Address: at.Address, Ports: agent.Ports{First: at.First, Last: at.Last}}
	if err := p.Valid(); err != nil {
		return p, err
	}
	own, err := net.InterfaceAddrs()
	if err != nil {
		return p, err
	}
	var have []string
	for _, a := range own {
		n, is := a.(*net.IPNet)
		if !is {
			continue
		}
		if n.IP.String() == at.Address || n.IP.IsLoopback() && strings.HasPrefix(at.Address, "127.") {
			return p, nil
		}
		have = append(have, n.IP.String())
	}
	return p, fmt.Errorf("%s is to be at %s, which is no address of this machine; it has %s. Correct `address:` in the file, or join with --address", at.Node, at.Address, strings.Join(have, ", "))
}

// put puts the programs into a node's folder, each as a whole.
func put(from, dir string) error {
	if err := host.MakeFolders(dir); err != nil {
		return err
	}
	for _, name := range []string{host.AgentProgram, host.GuardProgram} {
		in, err := os.Open(filepath.Join(from, name))
		if errors.Is(err, fs.ErrNotExist) && name == host.GuardProgram {
			continue
		}
		if err != nil {
			return err
		}
		err = host.PutProgram(dir, name, in, "")
		in.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

// thisMachine is by what this machine is known from others: its name, and a number that is the same each time it is asked for, made of what the installation
// and the card are known by through which it knocks.
func thisMachine(from netip.Addr) string {
	name, _ := os.Hostname()
	id, _ := os.ReadFile("/etc/machine-id")
	sum := sha256.New()
	fmt.Fprintf(sum, "%s\n%s\n", strings.TrimSpace(string(id)), name)
	cards, _ := net.Interfaces()
	for _, c := range cards {
		own, _ := c.Addrs()
		for _, a := range own {
			if n, is := a.(*net.IPNet); is && n.IP.String() == from.Unmap().String() {
				fmt.Fprintln(sum, c.HardwareAddr)
			}
		}
	}
	return fmt.Sprintf("%s-%s", plainName(name), hex.EncodeToString(sum.Sum(nil))[:8])
}

// plainName keeps of a machine's name what may stand in a line.
func plainName(name string) string {
	name, _, _ = strings.Cut(name, ".")
	name = strings.Map(func(r rune) rune {
		if r == '-' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' {
			return r
		}
		return -1
	}, name)
	if len(name) > 40 {
		name = name[:40]
	}
	if name == "" {
		return "machine"
	}
	return name
}
