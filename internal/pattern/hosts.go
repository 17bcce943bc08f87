package pattern

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
)

// hostsExample is how hosts are written.
const hostsExample = "north 10.1.0.{1..3}, south 10.2.0.1 10.2.0.2"

// ParseHosts reads zones with the addresses of their hosts, such as "north 10.1.0.{1..3}, south 10.2.0.1 10.2.0.2"; addresses alone are hosts without a zone.
func ParseHosts(text string) ([]Zone, error) {
	var zones []Zone
	owner, total := map[string]bool{}, 0
	for _, part := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ';' }) {
		words := strings.Fields(part)
		if len(words) == 0 {
			continue
		}
		z := Zone{}
		if !strings.ContainsAny(words[0], ".:") {
			z.Name, words = words[0], words[1:]
			if !field.NamePattern.MatchString(z.Name) {
				return nil, fmt.Errorf("%q cannot name a zone; %s", z.Name, field.NameRule)
			}
		}
		if slices.ContainsFunc(zones, func(o Zone) bool { return o.Name == z.Name }) {
			return nil, fmt.Errorf("the zone %s stands there twice; write its hosts one after the other, like  %s", z.Name, hostsExample)
		}
		for _, w := range words {
			addresses, err := field.ExpandRange(w)
			if err != nil {
				return nil, err
			}
			for _, a := range addresses {
				if _, err := netip.ParseAddr(a); err != nil {
					return nil, fmt.Errorf("%q is no address; write hosts like  %s", a, hostsExample)
				}
				if owner[a] {
					return nil, fmt.Errorf("%s stands there twice", a)
				}
				owner[a] = true
				z.Hosts = append(z.Hosts, a)
			}
		}
		if len(z.Hosts) == 0 {
			return nil, fmt.Errorf("the zone %s has no host; write hosts like  %s", z.Name, hostsExample)
		}
		if total += len(z.Hosts); total > field.MostNodes {
			return nil, fmt.Errorf("a field may have at most %d nodes", field.MostNodes)
		}
		z.Nodes = len(z.Hosts)
		zones = append(zones, z)
	}
	if len(zones) == 0 {
		return nil, fmt.Errorf("at least one host is needed; write them like  %s", hostsExample)
	}
	return zones, nil
}
