package e2e

import (
	"crypto/tls"
	"fmt"
	"net"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"
)

// gapCaller connects to one address again and again, as clients would that know nothing else, and notes when it was served.
type gapCaller struct {
	*testing.T
	at   string
	end  chan struct{}
	gone sync.WaitGroup

	mu      sync.Mutex
	served  time.Time     // last
	longest time.Duration // between two times since it was asked last
}

func newGapCaller(t *testing.T, at string) *gapCaller {
	c := &gapCaller{T: t, at: at, end: make(chan struct{})}
	c.gone.Go(func() {
		for {
			select {
			case <-c.end:
				return
			case <-time.After(10 * time.Millisecond):
			}
			conn, err := tls.DialWithDialer(&net.Dialer{Timeout: 250 * time.Millisecond}, "tcp", at, &tls.Config{InsecureSkipVerify: true})
			if err != nil {
				continue
			}
			conn.Close()
			now := time.Now()
			c.mu.Lock()
			if !c.served.IsZero() {
				c.longest = max(c.longest, now.Sub(c.served))
			}
			c.served = now
			c.mu.Unlock()
		}
	})
	t.Cleanup(func() { close(c.end); c.gone.Wait() })
	return c
}

// gap gives the longest time without an answer since it was asked last, once it is served again for a while.
func (c *gapCaller) gap() time.Duration {
	c.Helper()
	for until := time.Now().Add(30 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		c.mu.Lock()
		fresh := time.Since(c.served) < 100*time.Millisecond
		longest := c.longest
		if fresh {
			c.longest = 0
		}
		c.mu.Unlock()
		if fresh {
			return longest
		}
		if time.Now().After(until) {
			c.Fatalf("%s has not been served for %s", c.at, time.Since(c.served))
		}
	}
}

// TestAnAddressFloats has two entries share an address. It moves when who has it is restarted, killed, hangs with its agent and all, or is cut off; never do two
// have it; and nothing of it is left in the end.
func TestAnAddressFloats(t *testing.T) {
	hosts := newMachines(t, 3)
	floating := hosts.subnet + ".100"
	file := func(members int) string {
		var text strings.Builder
		fmt.Fprintf(&text, "format: 1\nfield: far-quay\nground: {kind: ssh, user: root, key: %s}\nnodes:\n", hosts.key)
		for i, m := range hosts.list {
			fmt.Fprintf(&text, "  - {name: gull-%d, zone: quay-%d, address: %s}\n", i+1, i+1, m.address)
		}
		fmt.Fprintf(&text, `roles:
  tariffs: {kit: etcd, members: 3}
  desk:
    kit: haproxy
    members: %d
    calls: {members: tariffs}
    settings: {write_to: any}
    floating: {address: %s, store: tariffs, for: 3s}
`, members, floating)
		return text.String()
	}
	x := newTrial(t, strings.ReplaceAll(file(2), floating, "10.99.0.1"))
	x.must("nodes", "accept", x.file, "--accept-new")
	for address, why := range map[string]string{"10.99.0.1": "10.99.0.1, which one of desk has at a time, is in none of its networks: ", hosts.subnet + ".254": hosts.subnet + ".254, which one of desk has at a time, is somebody else's"} {
		x.write(strings.ReplaceAll(file(2), floating, address))
		if out, code := x.try(time.Minute, "deploy", x.file, "--yes"); code == 0 || !strings.Contains(out, why) {
			t.Errorf("an address that cannot be had is taken: %d %s", code, out)
		}
	}
	x.write(file(2))
	x.contains(x.must("deploy", x.file, "--yes", "--timeout", "90s"), "converged")
	x.contains(x.must("access", x.file, "tariffs"), floating+":7000")
	has := func(m *machine) bool {
		out, _ := exec.Command("ip", "-n", m.name, "-o", "addr", "show", "to", floating+"/32").Output()
		return len(out) > 0
	}
	who := func() (string, *machine) {
		t.Helper()
		for until := time.Now().Add(20 * time.Second); time.Now().Before(until); time.Sleep(20 * time.Millisecond) {
			for _, m := range hosts.list {
				if !has(m) {
					continue
				}
				for _, p := range x.status().Members {
					if p.Address == m.address && p.Role == "desk" {
						return p.Member, m
					}
				}
			}
		}
		t.Fatal("nobody has the address")
		return "", nil
	}
	// All the time: never two.
	end, both := make(chan struct{}), make(chan string, 1)
	var looking sync.WaitGroup
	looking.Go(func() {
		for {
			select {
			case <-end:
				return
			case <-time.After(20 * time.Millisecond):
			}
			var holders []string
			var first *machine
			for _, m := range hosts.list {
				if has(m) {
					if holders = append(holders, m.address); first == nil {
						first = m
					}
				}
			}
			if len(holders) > 1 && has(first) { // they were looked at one after the other
				select {
				case both <- strings.Join(holders, " and "):
				default:
				}
			}
		}
	})
	defer func() { close(end); looking.Wait() }()

	c := newGapCaller(t, floating+":7000")
	c.gap()
	first, m := who()
	x.until("it is said who has it", 10*time.Second, func() bool { return strings.Contains(x.must("status", x.file), "has "+floating) })
	moved := func(what string, from *machine, most time.Duration) {
		t.Helper()
		x.until("another has the address after "+what, 30*time.Second, func() bool {
			for _, o := range hosts.list {
				if o != from && has(o) {
					return true
				}
			}
			return false
		})
		gap := c.gap()
		_, now := who()
		t.Logf("%s, from %s to %s: clients were not served for %s", what, from.address, now.address, gap.Round(time.Millisecond))
		if gap > most {
			t.Errorf("%s: clients were not served for %s, and %s are the most", what, gap, most)
		}
	}
	ours := func(m *machine, program string) string {
		return `for p in /proc/[0-9]*; do if tr '\0' ' ' <$p/cmdline 2>/dev/null | grep -q '` + program + `'; then kill -%s ${p#/proc/}; fi; done; true`
	}

	x.must("restart", x.file, first, "--yes", "--timeout", "60s")
	moved("a restart", m, 3*time.Second)
	_, m = who()
	m.run(fmt.Sprintf(ours(m, "haprox[y] -W"), "9"))
	moved("the end of its program", m, 3*time.Second)

	// Its holder is killed, then its agent: another of each goes on with what is there.
	_, m = who()
	m.run(fmt.Sprintf(ours(m, "lanternfield-guar[d] float"), "9"))
	m.run(fmt.Sprintf(ours(m, "lanternfield-agen[t] agent"), "9"))
	x.until("there is another holder", 20*time.Second, func() bool {
		return strings.TrimSpace(m.run(`for p in /proc/[0-9]*; do tr '\0' ' ' <$p/cmdline 2>/dev/null | grep 'lanternfield-guar[d] float'; done | wc -l`)) == "1"
	})
	t.Logf("its holder and its agent are killed: clients were not served for %s", c.gap().Round(time.Millisecond))

	// All of ours hangs: the system itself takes the address away.
	x.until("the field is whole", 30*time.Second, func() bool { x.try(20*time.Second, "deploy", x.file, "--yes"); return x.status().State == "converged" })
	_, m = who()
	m.run(fmt.Sprintf(ours(m, "lanternfield-[ag][a-z]*d* *"), "STOP"))
	moved("everything of ours hangs", m, 8*time.Second)
	m.run(fmt.Sprintf(ours(m, "lanternfield-[ag][a-z]*d* *"), "CONT"))

	x.until("the field is whole again", 30*time.Second, func() bool { x.try(20*time.Second, "deploy", x.file, "--yes"); return x.status().State == "converged" })
	_, m = who()
	m.cutOff()
	moved("it is cut off", m, 8*time.Second)
	m.heal()
	x.until("the field is whole once more", 30*time.Second, func() bool { x.try(20*time.Second, "deploy", x.file, "--yes"); return x.status().State == "converged" })
	select {
	case two := <-both:
		t.Errorf("%s had the address at the same time", two)
	default:
	}

	x.must("retire", x.file, "--yes")
	for i, m := range hosts.list {
		if left := m.left(); left != "" || has(m) {
			t.Errorf("on host %d is left:\n%s", i+1, left)
		}
	}
}
