package field

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// MostNetworks is on how many networks a node may have an address.
const MostNetworks = 3

// AddressOn gives the address that a node has on a network, from its main one. On the local ground the further networks are
// 64 and 128 above in the second number, so that 127.70.1.5 has 127.134.1.5 and 127.198.1.5; a node that has no address yet
// is written with the network's name.
func (f *Field) AddressOn(main, network string) (string, error) {
	i := slices.Index(f.Networks, network)
	switch {
	case network == "" || i == 0:
		return main, nil
	case i < 0 && len(f.Networks) == 0:
		return "", fmt.Errorf("the field names no networks, and so no %q", network)
	case i < 0:
		return "", fmt.Errorf("there is no network %q; there is %s", network, strings.Join(f.Networks, ", "))
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
