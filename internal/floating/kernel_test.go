package floating

import (
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// cable makes two machines and a client of namespaces, joined by a bridge.
type cable struct {
	*testing.T
	names map[string]string
}

var cables atomic.Int32

func newCable(t *testing.T) *cable {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("machines are made of namespaces, for which root's rights are needed")
	}
	if _, err := exec.LookPath("ip"); err != nil {
		t.Skip("iproute2 is not there")
	}
	c := &cable{T: t, names: map[string]string{}}
	bridge := fmt.Sprintf("lfc%d%c", os.Getpid()%10000, 'a'+cables.Add(1)) // what was deleted goes a moment later
	if out, err := exec.Command("ip", "link", "add", bridge, "type", "bridge").CombinedOutput(); err != nil {
		t.Skipf("no bridge can be had here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("ip", "link", "delete", bridge).Run() })
	c.ip("link", "set", bridge, "up")
	for i, who := range []string{"one", "two", "client"} {
		name := bridge + who
		c.names[who] = name
		c.ip("netns", "add", name)
		t.Cleanup(func() { _ = exec.Command("ip", "netns", "delete", name).Run() })
		c.ip("link", "add", fmt.Sprintf("%s%d", bridge, i), "type", "veth", "peer", "name", "eth0", "netns", name)
		c.ip("link", "set", fmt.Sprintf("%s%d", bridge, i), "master", bridge, "up")
		c.ip("-n", name, "addr", "add", fmt.Sprintf("10.77.0.%d/24", i+1), "dev", "eth0")
		c.ip("-n", name, "addr", "add", fmt.Sprintf("fd77::%d/64", i+1), "dev", "eth0", "nodad")
		c.ip("-n", name, "link", "set", "lo", "up")
		c.ip("-n", name, "link", "set", "eth0", "up")
	}
	return c
}

func (c *cable) ip(args ...string) string {
	c.Helper()
	out, err := exec.Command("ip", args...).CombinedOutput()
	if err != nil {
		c.Fatalf("ip %s: %v %s", strings.Join(args, " "), err, out)
	}
	return string(out)
}

// in does something in one of the namespaces, on a thread that ends with it.
func (c *cable) in(who string, do func() error) {
	c.Helper()
	done := make(chan error)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread ends with the goroutine
		ns, err := os.Open(filepath.Join("/run/netns", c.names[who]))
		if err == nil {
			defer ns.Close()
			err = unix.Setns(int(ns.Fd()), unix.CLONE_NEWNET)
		}
		if err == nil {
			err = do()
		}
		done <- err
	}()
	if err := <-done; err != nil {
		c.Errorf("on %s: %v", who, err)
	}
}

// card is the hardware address of one of them.
func (c *cable) card(who string) (mac string) {
	c.in(who, func() error {
		i, err := net.InterfaceByName("eth0")
		if err == nil {
			mac = i.HardwareAddr.String()
		}
		return err
	})
	return mac
}

// TestOthersFollowAnAnnouncement has a client know an address as that of one machine, which another takes over: it is told, by ARP and by its IPv6 counterpart.
func TestOthersFollowAnAnnouncement(t *testing.T) {
	c := newCable(t)
	one, two := &kernel{}, &kernel{}
	for _, text := range []string{"10.77.0.50", "fd77::50"} {
		a := netip.MustParseAddr(text)
		near := map[string]netip.Addr{"one": netip.MustParseAddr("10.77.0.1"), "two": netip.MustParseAddr("10.77.0.2")}
		c.in("one", func() error { return one.Put(a, near["one"], 30*time.Second) })
		knows := func() string { return c.ip("-n", c.names["client"], "neigh", "show", text) }
		until(t, "the client knows the first machine by "+text, func() bool {
			c.in("client", func() error { // whatever comes of it, the client has asked who has the address
				conn, err := net.DialTimeout("tcp", netip.AddrPortFrom(a, 9).String(), 200*time.Millisecond)
				if err == nil {
					conn.Close()
				}
				return nil
			})
			return strings.Contains(knows(), c.card("one"))
		})
		c.in("one", func() error { return one.Remove(a) })
		c.in("two", func() error { return two.Put(a, near["two"], 30*time.Second) })
		c.in("two", func() error { return two.Announce(a) })
		until(t, "the client follows to the second by "+text, func() bool { return strings.Contains(knows(), c.card("two")) })
		c.in("two", func() error { return two.Remove(a) })
		c.in("two", func() error { return two.Remove(a) }) // again: it is away
	}
}

// TestTheSystemTakesTheAddressAway gives one a short time, and asks nobody for anything.
func TestTheSystemTakesTheAddressAway(t *testing.T) {
	c := newCable(t)
	k := &kernel{}
	for _, text := range []string{"10.77.0.50", "fd77::50"} {
		a := netip.MustParseAddr(text)
		there := func() bool { return strings.Contains(c.ip("-n", c.names["one"], "-o", "addr", "show"), text+"/") }
		c.in("one", func() error { return k.Put(a, netip.MustParseAddr("10.77.0.1"), time.Second) })
		put := time.Now()
		if !there() {
			t.Fatalf("%s is not there", text)
		}
		c.in("one", func() error { return k.Put(a, netip.MustParseAddr("10.77.0.1"), 2*time.Second) }) // it is given more
		until(t, text+" is away", func() bool { return !there() })
		if took := time.Since(put); took < 1500*time.Millisecond || took > 3*time.Second { // the system is late by up to 600 ms, and this test by what the machine is busy with
			t.Errorf("%s was there for %s", text, took)
		}
	}
}
