package field

import (
	"cmp"
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

// OnNetwork gives the address of a node on a network out of its main one and those on the others. No network stands for the main one.
func (f *Field) OnNetwork(node NodeName, main string, others map[string]string, network string) (string, error) {
	i := slices.Index(f.Networks, network)
	switch {
	case network == "" || i == 0:
		return main, nil
	case i < 0 && len(f.Networks) == 0:
		return "", fmt.Errorf("the field names no networks, and so no %q", network)
	case i < 0:
		return "", fmt.Errorf("there is no network %q; there is %s", network, strings.Join(f.Networks, ", "))
	case others[network] == "":
		return "", fmt.Errorf("%s has no address on the network %s", node, network)
	}
	return others[network], nil
}

// GroundRules is what the ground that a node comes from has to say of how it is declared.
type GroundRules struct {
	// Address says why nodes of that kind cannot have an address, and what to do; nothing where they can.
	Address func(netip.Addr) (problem, hint string)
	// Node says why a node cannot come from there as it is declared, and where that stands: in what is said of it, or of its ground.
	Node func(Node, Ground) (path []string, problem, hint string)
	// Example is how an address begins that such nodes may have, up to the last number.
	Example string
}

// GroundOf is the kind of ground that a node comes from.
func (f *Field) GroundOf(n *Node) string { return cmp.Or(n.Ground.Kind, f.Ground.Kind) }

// GroundFor is the ground that a node comes from, with how it is reached.
func (f *Field) GroundFor(n *Node) Ground { return n.Ground.over(f.Ground) }

// addresses checks the addresses that the file gives.
func (v *validator) addresses() {
	if v.Rules != "" && !slices.ContainsFunc(v.Possible(), func(n Node) bool { g := v.GroundOf(&n); return g == GroundSSH || g == GroundJoin }) {
		v.add([]string{"rules"}, "leave that out, or say `ground: {kind: ssh}`", "rules of the packet filter are managed on hosts, and no node is one")
	}
	owner := map[string]NodeName{}
	for i, n := range v.Possible() {
		at := func(rest ...string) []string { return append([]string{"nodes", strconv.Itoa(i)}, rest...) }
		rules, known := v.grounds[v.GroundOf(&n)]
		rules.Example = cmp.Or(rules.Example, "192.0.2.")
		if !known && n.Ground.Kind != "" {
			v.add(at("ground", "kind"), "there is "+strings.Join(slices.Sorted(maps.Keys(v.grounds)), ", "), "there is no ground of the kind %q, which %s is to come from", n.Ground.Kind, n.Name)
		}
		if rules.Node != nil {
			if path, problem, hint := rules.Node(n, v.GroundFor(&n)); problem != "" {
				v.add(at(path...), hint, "%s %s", n.Name, problem)
			}
		}
		if n.Address == "" && len(n.Addresses) == 0 {
			continue
		}
		one := func(text string, path []string) {
			a, err := netip.ParseAddr(text)
			switch {
			case err != nil:
				v.add(path, fmt.Sprintf("an address is written like %s1, for a range like %s{1..3}", rules.Example, rules.Example), "%q is no address", text)
			case owner[text] != "":
				v.add(path, "give one of them another", "%s and %s both have the address %s", owner[text], n.Name, text)
			default:
				owner[text] = n.Name
				if rules.Address == nil {
					return
				}
				if problem, hint := rules.Address(a); problem != "" {
					v.add(path, hint, "%s of %s %s", text, n.Name, problem)
				}
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
