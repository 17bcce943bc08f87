package field

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// MostNetworks is on how many networks a node may have an address.
const MostNetworks = 3

// Given is the main address that the file gives a node; empty where the ground is to choose one.
func (f *Field) Given(n *Node) string {
	if n.Address == "" && len(f.Networks) > 0 {
		return n.Addresses[f.Networks[0]]
	}
	return n.Address
}

// AddressOn gives the address that a node has on a network: as the file says it, or from its main one. On the local ground
// the further networks are 64 and 128 above in the second number, so that 127.70.1.5 has 127.134.1.5 and 127.198.1.5; a
// node that has no address yet is written with the network's name.
func (f *Field) AddressOn(node NodeName, main, network string) (string, error) {
	i := slices.Index(f.Networks, network)
	switch {
	case network == "" || i == 0:
		return main, nil
	case i < 0 && len(f.Networks) == 0:
		return "", fmt.Errorf("the field names no networks, and so no %q", network)
	case i < 0:
		return "", fmt.Errorf("there is no network %q; there is %s", network, strings.Join(f.Networks, ", "))
	}
	if n := f.Node(node); n != nil && n.Addresses[network] != "" {
		return n.Addresses[network], nil
	}
	a, err := netip.ParseAddr(main)
	if err != nil || !a.Is4() {
		return strings.TrimSuffix(main, ">") + " on " + network + ">", nil
	}
	b := a.As4()
	if n := int(b[1]) + 64*i; n < 256 {
		b[1] = byte(n)
		return netip.AddrFrom4(b).String(), nil
	}
	return "", fmt.Errorf("%s has no address left on the network %s", main, network)
}

// The addresses that the local ground gives out itself, on all networks. Those that a file gives lie below.
var (
	localGiven = netip.MustParsePrefix("127.0.0.0/8")
	localFirst = netip.MustParseAddr("127.64.0.0")
)

// addresses checks the addresses that the file gives.
func (v *validator) addresses() {
	owner := map[string]NodeName{}
	for i, n := range v.Possible() {
		at := func(rest ...string) []string { return append([]string{"nodes", strconv.Itoa(i)}, rest...) }
		if n.Address == "" && len(n.Addresses) == 0 {
			continue
		}
		one := func(text string, path []string) {
			a, err := netip.ParseAddr(text)
			switch {
			case err != nil:
				v.add(path, "an address is written like 127.10.0.1, for a range like 127.10.0.{1..3}", "%q is no address", text)
			case !localGiven.Contains(a) || a.Compare(localFirst) >= 0:
				v.add(path, "take one from 127.0.0.2 to 127.63.255.255, or leave it out: the ground gives every node one", "%s of %s is not on this machine, or is one that the local ground gives out itself", text, n.Name)
			case owner[text] != "":
				v.add(path, "give one of them another", "%s and %s both have the address %s", owner[text], n.Name, text)
			default:
				owner[text] = n.Name
			}
		}
		if n.Address != "" {
			one(n.Address, at("address"))
			if len(n.Addresses) > 0 && len(v.Networks) > 0 && n.Addresses[v.Networks[0]] != "" {
				v.add(at("address"), "say one of them", "%s has both an address and one on the network %s, which is its main one", n.Name, v.Networks[0])
			}
		}
		for _, network := range slices.Sorted(maps.Keys(n.Addresses)) {
			if !slices.Contains(v.Networks, network) {
				v.add(at("addresses", network), "name it under networks at the top of the file", "%s has an address on a network %q, and there is none", n.Name, network)
				continue
			}
			one(n.Addresses[network], at("addresses", network))
		}
		for _, network := range v.Networks {
			if network != v.Networks[0] && n.Addresses[network] == "" || network == v.Networks[0] && v.Given(&n) == "" {
				v.add(at("name"), "give it one on each network, or on none", "%s has an address of its own on some networks and none on %s", n.Name, network)
			}
		}
	}
}
