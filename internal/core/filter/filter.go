// Package filter says what the packet filter of each machine is to let in to the ports of its members: who calls them, and, where clients get in, anybody. It
// follows from the topology, and restricts nothing but those ports.
package filter

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
)

// Rules are what one machine lets in. They stand in a table of their own, whose name is nobody else's.
type Rules struct {
	Table string `json:"table"`
	Ports []Port `json:"ports"`
}

// Port is a port that only some may reach.
type Port struct {
	Port   int              `json:"port"`
	At     []string         `json:"at"`   // the machine's addresses
	From   []string         `json:"from"` // whose connections are let in, besides the machine's own
	Member field.MemberName `json:"member"`
	Name   string           `json:"name"`
}

// TableOf is the name of the table of a node.
func TableOf(name string, node field.NodeName) string {
	return fmt.Sprintf("lanternfield-%s-%s", name, node)
}

// Plain gives addresses once each, in their order, without what is none.
func Plain(addresses []string) []string {
	var out []netip.Addr
	for _, text := range addresses {
		if a, err := netip.ParseAddr(text); err == nil {
			out = append(out, a)
		}
	}
	slices.SortFunc(out, netip.Addr.Compare)
	texts := []string{}
	for _, a := range slices.Compact(out) {
		texts = append(texts, a.String())
	}
	return texts
}

var tableName = regexp.MustCompile(`^lanternfield-[a-z0-9-]{1,140}$`)

// Digest tells rules apart from others.
func (r Rules) Digest() string {
	sum := sha256.Sum256([]byte(r.Script()))
	return hex.EncodeToString(sum[:8])
}

// Valid refuses what would say something else than rules of ours when it is read by nft.
func (r Rules) Valid() error {
	if !tableName.MatchString(r.Table) {
		return fmt.Errorf("%q is no table of ours", r.Table)
	}
	for _, p := range r.Ports {
		if p.Port < 1 || p.Port > 65535 || !field.NamePattern.MatchString(string(p.Member)) || !field.NamePattern.MatchString(p.Name) {
			return fmt.Errorf("port %d of %q is none", p.Port, p.Member)
		}
		for _, a := range append(slices.Clone(p.At), p.From...) {
			if _, err := netip.ParseAddr(a); err != nil {
				return fmt.Errorf("%q is no address", a)
			}
		}
	}
	return nil
}

// Script writes the rules as nft reads them: all at once, in the place of those that were there. Connections that are open stay open.
func (r Rules) Script() string {
	var b strings.Builder
	fmt.Fprintf(&b, "table inet %[1]s\ndelete table inet %[1]s\ntable inet %[1]s {\n\tchain members {\n\t\ttype filter hook input priority 10; policy accept;\n", r.Table)
	b.WriteString("\t\tiifname \"lo\" accept\n\t\tct state established,related accept\n")
	for _, p := range r.Ports {
		for _, family := range []string{"ip", "ip6"} {
			at, from := of(family, p.At), of(family, p.From)
			if len(at) == 0 {
				continue
			}
			to := fmt.Sprintf("%s daddr %s tcp dport %d", family, set(at), p.Port)
			if len(from) > 0 {
				fmt.Fprintf(&b, "\t\t%s %s saddr %s accept comment \"%s of %s\"\n", to, family, set(from), p.Name, p.Member)
			}
			fmt.Fprintf(&b, "\t\t%s counter drop comment \"%s of %s\"\n", to, p.Name, p.Member)
		}
	}
	b.WriteString("\t}\n}\n")
	return b.String()
}

// of gives the addresses of a family.
func of(family string, addresses []string) []string {
	return slices.DeleteFunc(slices.Clone(addresses), func(text string) bool {
		a, err := netip.ParseAddr(text)
		return err != nil || a.Is4() != (family == "ip")
	})
}

func set(addresses []string) string {
	if len(addresses) == 1 {
		return addresses[0]
	}
	return "{ " + strings.Join(addresses, ", ") + " }"
}
