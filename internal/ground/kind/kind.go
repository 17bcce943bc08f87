// Package kind says what each kind of ground has to say of how a node is declared. It is read with the file, before there is any ground.
package kind

import (
	"net/netip"

	"lanternfield/internal/core/field"
)

// The kinds of ground.
const Local = "local" // this machine

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
	}},
}
