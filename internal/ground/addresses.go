package ground

import (
	"context"
	"fmt"
	"hash/fnv"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"lanternfield/internal/ground/kind"

	"lanternfield/internal/core/state"

	"lanternfield/internal/core/field"
)

// Addresses are taken from 127.64.0.0 to 127.127.255.0, a block of 250 at a time. On further networks they are 64 and 128 above in the second
// number: 127.70.1.5 has 127.134.1.5 and 127.198.1.5.
const (
	firstBlock = 64 << 8
	blocks     = 64 << 8
	perBlock   = 250
	perNetwork = 64
)

// Check refuses addresses at which somebody else listens.
func (l *Local) Check(_ context.Context, wants []Want, have Bindings) error {
	_, taken, err := listening()
	if err != nil {
		return err
	}
	for _, w := range wants {
		if have[w.Node.Name].Address != "" || w.Address == "" {
			continue
		}
		a, err := netip.ParseAddr(w.Address)
		if err != nil {
			return fmt.Errorf("%q is no address for %s", w.Address, w.Node.Name)
		}
		if taken[a] {
			return fmt.Errorf("the address %s of %s is in use: something else listens there. Give the node another, or leave it out", w.Address, w.Node.Name)
		}
	}
	return nil
}

// Give gives a node an address out of a block in which nobody on this machine listens. The block follows from the folder, and the address in it
// from the node's place, so that a field keeps its neighbourhood when it is deployed anew.
func (l *Local) Give(_ context.Context, want Want, have Bindings) (state.Binding, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	name := want.Node.Name
	at := state.Binding{Kind: kind.Local, Address: have[name].Address, Dir: filepath.Join(l.Dir, string(name))}
	if at.Address == "" {
		at.Address = want.Address
	}
	if at.Address == "" {
		a, err := l.free(want, have)
		if err != nil {
			return state.Binding{}, err
		}
		at.Address = a.String()
	}
	var err error
	at.Addresses, err = further(at.Address, want)
	return at, err
}

// free finds an address that nobody has.
func (l *Local) free(want Want, have Bindings) (netip.Addr, error) {
	if l.given == nil {
		l.given = map[netip.Addr]field.NodeName{}
	}
	if time.Since(l.looked) > lookAfter {
		busy, _, err := listening()
		if err != nil {
			return netip.Addr{}, err
		}
		l.busy, l.looked = busy, time.Now()
	}
	ours, used := map[int]bool{}, map[netip.Addr]bool{}
	note := func(a netip.Addr) { ours[blockOf(a)], used[a] = true, true }
	for _, b := range have {
		if a, err := netip.ParseAddr(b.Address); err == nil {
			note(a)
		}
	}
	for a, node := range l.given {
		if _, bound := have[node]; !bound && node != want.Node.Name { // promised, and not stored yet
			note(a)
		}
	}
	h := fnv.New32a()
	h.Write([]byte(l.Dir))
	block, next := int(h.Sum32()%blocks)+want.Place/perBlock, want.Place%perBlock
	for range blocks {
		b := firstBlock + block%blocks
		for i := range perBlock {
			a := netip.AddrFrom4([4]byte{127, byte(b >> 8), byte(b), byte((next+i)%perBlock + 1)})
			if l.busy[b] && !ours[b] {
				break
			}
			if !used[a] {
				l.given[a] = want.Node.Name
				return a, nil
			}
		}
		block++
	}
	return netip.Addr{}, fmt.Errorf("no addresses are left between 127.64.0.0 and 127.127.255.255")
}

// further gives the addresses of a node on all networks but the first: as the file says them, or from its main one.
func further(main string, want Want) (map[string]string, error) {
	if len(want.Networks) < 2 {
		return nil, nil
	}
	a, err := netip.ParseAddr(main)
	if err != nil || !a.Is4() {
		return nil, fmt.Errorf("%q is no address for %s", main, want.Node.Name)
	}
	out := map[string]string{}
	for i, network := range want.Networks[1:] {
		b := a.As4()
		n := int(b[1]) + perNetwork*(i+1)
		if out[network] = want.Node.Addresses[network]; out[network] != "" {
			continue
		}
		if n > 255 {
			return nil, fmt.Errorf("%s has no address left on the network %s: its main one, %s, is too high", want.Node.Name, network, main)
		}
		b[1] = byte(n)
		out[network] = netip.AddrFrom4(b).String()
	}
	return out, nil
}

// lookAfter is for how long it is believed in which blocks somebody listens.
const lookAfter = time.Second

func blockOf(a netip.Addr) int {
	b := a.As4()
	return int(b[1])<<8 | int(b[2])
}

// listening finds the addresses at which some process listens, and the blocks that they are in. The kernel gives its list a page at a time and
// may leave out a socket when others close between two pages, so that it is read twice.
func listening() (blocks map[int]bool, addresses map[netip.Addr]bool, err error) {
	blocks, addresses = map[int]bool{}, map[netip.Addr]bool{}
	for range 2 {
		data, err := os.ReadFile(socketList)
		if err != nil {
			return nil, nil, fmt.Errorf("the addresses in use cannot be read: %w", err)
		}
		noteListening(string(data), blocks, addresses)
	}
	return blocks, addresses, nil
}

const socketList = "/proc/net/tcp"

// noteListening reads the kernel's list of sockets: of each line the second field is the local address in hex, its lowest byte first, and the
// fourth the state, 0A for one that listens.
func noteListening(list string, blocks map[int]bool, addresses map[netip.Addr]bool) {
	for _, line := range strings.Split(list, "\n") {
		f := strings.Fields(line)
		if len(f) < 4 || f[3] != "0A" || len(f[1]) < 8 {
			continue
		}
		if v, err := strconv.ParseUint(f[1][:8], 16, 32); err == nil && v&0xff == 127 {
			a := netip.AddrFrom4([4]byte{byte(v), byte(v >> 8), byte(v >> 16), byte(v >> 24)})
			blocks[blockOf(a)], addresses[a] = true, true
		}
	}
}
