package runtime

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
)

// carried is what connections have carried, in bytes.
type carried struct{ received, sent int64 }

// connections are the TCP connections of the machine's network that an agent is in, by the inodes of their sockets. They are listed for all members at once.
type connections struct {
	mu   sync.Mutex
	at   time.Time
	list map[uint64]carried
}

// listedFor is how long a list of connections counts: members are weighed at about the same time.
const listedFor = time.Second

// tcp is the list for the members of this process's agent.
var tcp connections

// now lists what each connection has carried since it was opened: what the other side has confirmed, and what has come from there (RFC 4898; Linux tells it of each
// socket, see sock_diag(7)). Where the system does not tell, it is empty.
func (c *connections) now() map[uint64]carried {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.at) < listedFor {
		return c.list
	}
	list := map[uint64]carried{}
	for _, family := range []uint8{unix.AF_INET, unix.AF_INET6} {
		sockets, err := netlink.SocketDiagTCPInfo(family)
		if err != nil {
			continue // what one family tells is better than nothing
		}
		for _, s := range sockets {
			if s.InetDiagMsg != nil && s.TCPInfo != nil && s.InetDiagMsg.INode != 0 {
				list[uint64(s.InetDiagMsg.INode)] = carried{received: int64(s.TCPInfo.Bytes_received), sent: int64(s.TCPInfo.Bytes_acked)}
			}
		}
	}
	c.list, c.at = list, time.Now()
	return c.list
}

// traffic counts what the connections of one member carry. What one carries that is opened and closed between two looks is not seen.
type traffic struct {
	known map[uint64]seen // its sockets at the look before; nil before the first
	total carried
	next  time.Time // when it is looked at again
}

// seen is a socket at a look, and what it had carried as far as the system has told: a list may be cut short.
type seen struct {
	carried
	told bool
}

// How often a member's connections are looked at, and how many times as long as a look takes at the least: one of very many takes a hundredth of a processor.
const (
	lookEvery = 4 * time.Second
	lookShare = 100
)

// due gives a set for the member's sockets where they are to be looked at; nil where it is not time yet.
func (t *traffic) due(now time.Time) map[uint64]bool {
	if now.Before(t.next) {
		return nil
	}
	return map[uint64]bool{}
}

// took notes how long a look took.
func (t *traffic) took(begin, end time.Time) {
	t.next = begin.Add(max(lookEvery, lookShare*end.Sub(begin)))
}

// look adds what the member's sockets have carried since the look before. What those carried that were open at the first look, or of which the system has not told before,
// is not known to have been carried since then, and does not count.
func (t *traffic) look(inodes map[uint64]bool, list map[uint64]carried) carried {
	now := make(map[uint64]seen, len(inodes))
	for inode := range inodes {
		before, was := t.known[inode]
		c, told := list[inode]
		if !told {
			now[inode] = before
			continue
		}
		now[inode] = seen{c, true}
		if t.known == nil || was && !before.told {
			continue
		}
		if c.received < before.received || c.sent < before.sent {
			before = seen{} // another connection has that inode
		}
		t.total.received += c.received - before.received
		t.total.sent += c.sent - before.sent
	}
	t.known = now
	return t.total
}

// socketsOf adds the inodes of the sockets that a process has open; none where that may not be seen.
func socketsOf(proc string, inodes map[uint64]bool) {
	dir, err := os.Open(proc + "/fd")
	if err != nil {
		return
	}
	defer dir.Close()
	names, _ := dir.Readdirnames(-1)
	for _, name := range names {
		to, err := os.Readlink(filepath.Join(proc, "fd", name))
		if err != nil {
			continue
		}
		if number, is := strings.CutPrefix(to, "socket:["); is {
			if inode, err := strconv.ParseUint(strings.TrimSuffix(number, "]"), 10, 64); err == nil {
				inodes[inode] = true
			}
		}
	}
}
