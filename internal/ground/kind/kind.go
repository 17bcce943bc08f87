// Package kind says what each kind of ground has to say of how a node is declared. It is read with the file, before there is any ground.
package kind

import (
	"net/netip"
	"path"

	"lanternfield/internal/core/field"
)

// The kinds of ground.
const (
	Local = "local"          // this machine
	SSH   = field.GroundSSH  // hosts that are reached by SSH
	Join  = field.GroundJoin // machines that join by an invitation
)

// The addresses of the local ground: all of LocalAll are this machine; from LocalFirst on it gives them out itself.
var (
	LocalAll   = netip.MustParsePrefix("127.0.0.0/8")
	LocalFirst = netip.MustParseAddr("127.64.0.0")
)

// Rules are those of each kind.
var Rules = map[string]field.GroundRules{
	Local: {Example: "127.10.0.", Address: func(a netip.Addr) (problem, hint string) {
		if !LocalAll.Contains(a) || a.Compare(LocalFirst) >= 0 {
			return "is not on this machine, or is one that the local ground gives out itself", "take one from 127.0.0.2 to 127.63.255.255, or leave it out: the ground gives every node one"
		}
		return "", ""
	}, Node: onThisMachine},
	SSH:  {Example: "10.1.0.", Node: onHost, Address: ofOneHost},
	Join: {Example: "10.1.0.", Node: onGuest, Address: ofOneHost},
}

// Machines tells whether nodes of a kind are machines of their own, on which nothing of this machine can be seen.
func Machines(kind string) bool { return kind == SSH || kind == Join }

func ofOneHost(a netip.Addr) (problem, hint string) {
	if a.IsUnspecified() || a.IsMulticast() {
		return "is no address of one host", "give it the address at which the other members reach it"
	}
	return "", ""
}

// onThisMachine refuses what only hosts can have.
func onThisMachine(_ field.Node, g field.Ground) (at []string, problem, hint string) {
	if g.Kind = ""; g != (field.Ground{}) {
		return []string{"name"}, "is to be made of this machine, and its ground says how a host is reached", "say kind: ssh with it, or leave the rest out"
	}
	return nil, "", ""
}

// onHost refuses what no host can have.
func onHost(n field.Node, g field.Ground) (at []string, problem, hint string) {
	switch {
	case n.Set != "":
		return []string{"name"}, "is of a set of nodes that are made as members want them, and hosts are not made", "name the hosts one by one"
	case n.Address == "" && len(n.Addresses) == 0:
		return []string{"name"}, "is a host and has no address", "say `address:`, at which the other members reach it"
	}
	return inFolder(g)
}

// onGuest refuses what no machine can have that joins by an invitation.
func onGuest(n field.Node, g field.Ground) (at []string, problem, hint string) {
	if n.Set != "" {
		return []string{"name"}, "is of a set of nodes that are made as members want them, and machines that join are not made", "name the nodes one by one"
	}
	if g != (field.Ground{Kind: g.Kind, Folder: g.Folder, AgentPort: g.AgentPort}) {
		return []string{"name"}, "is to join by invitation, and its ground says how a host is reached by SSH", "leave that out, but for `folder` and `agent_port`"
	}
	return inFolder(g)
}

func inFolder(g field.Ground) (at []string, problem, hint string) {
	if g.Folder != "" && (!path.IsAbs(g.Folder) || path.Clean(g.Folder) != g.Folder || g.Folder == "/") {
		return []string{"name"}, "is to have what is ours in " + g.Folder + ", which is no absolute path of a folder", "write it like /srv/lanternfield"
	}
	return nil, "", ""
}
