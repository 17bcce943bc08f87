package packetfilter

import (
	"net/netip"
	"os"
	"os/exec"
	"strings"
	"testing"
)

// wall has rules of every kind that is read here.
const wall = `
table inet wall {
 set friends { type ipv4_addr; elements = { 10.9.0.1 } }
 chain other { ip saddr 10.0.0.6 drop; ip saddr 10.0.0.7 accept; ip saddr 10.0.0.8 return; tcp dport 9999 reject; }
 chain in { type filter hook input priority 0
  iifname "lo" accept
  ct state established,related accept
  ip saddr 10.0.0.3 tcp dport 2380 drop
  ip saddr { 10.0.0.4, 10.1.0.0/16 } tcp dport { 22, 2380-2390 } counter reject
  ct state invalid drop
  meta l4proto udp drop
  udp dport 2380 drop
  ip saddr 10.0.0.5 limit rate 1/second accept
  ip saddr 10.0.0.5 drop
  iifname != "lo" jump other
  ip saddr @friends drop
  ip6 saddr fd00::7 tcp dport != 22 drop
 }
 chain out { type filter hook output priority 0; policy drop
  ip daddr 10.0.0.5 accept
 }
}
table ip nat { chain pre { type nat hook prerouting priority 0; tcp dport 1 drop; } }
table inet second { chain in { type filter hook input priority 10; ip saddr 10.0.0.7 tcp dport 5432 drop; } }
`

// ruled has a network of its own with those rules, and gives what nft lists of it.
func ruled(t *testing.T) (data []byte, texts string) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("rules are made by root")
	}
	cmd := exec.Command("unshare", "-n", "sh", "-c", "nft -f - && nft -j list ruleset && echo && echo ------ && nft -a list ruleset")
	cmd.Stdin = strings.NewReader(strings.ReplaceAll(wall, "; }", "\n}"))
	out, err := cmd.Output()
	if err != nil {
		t.Skipf("nft cannot be used here: %v", err)
	}
	a, b, _ := strings.Cut(string(out), "------\n")
	return []byte(a), b
}

func TestTheRuleThatKeepsAConnectionAwayIsFound(t *testing.T) {
	data, texts := ruled(t)
	rules, err := read(data)
	if err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		from string
		port int
		out  bool
		want string
	}{
		{"10.0.0.1", 2380, false, ""},
		{"10.0.0.3", 2380, false, "table inet wall, chain in: ip saddr 10.0.0.3 tcp dport 2380 drop: nft insert rule inet wall in ip saddr 10.0.0.3 tcp dport 2380 accept"},
		{"10.0.0.3", 2381, false, ""},
		{"10.0.0.4", 2385, false, "table inet wall, chain in: ip saddr { 10.0.0.4, 10.1.0.0/16 } tcp dport { 22, 2380-2390 } counter packets 0 bytes 0 reject"},
		{"10.1.200.1", 22, false, "tcp dport { 22, 2380-2390 } counter packets 0 bytes 0 reject"},
		{"10.1.200.1", 23, false, ""},
		{"10.0.0.5", 80, false, "table inet wall, chain in: ip saddr 10.0.0.5 drop"},
		{"10.0.0.6", 80, false, "table inet wall, chain other: ip saddr 10.0.0.6 drop"},
		{"10.0.0.7", 9999, false, ""},
		{"10.0.0.7", 5432, false, "table inet second, chain in: ip saddr 10.0.0.7 tcp dport 5432 drop"},
		{"10.0.0.8", 9999, false, ""},
		{"10.0.0.9", 9999, false, "table inet wall, chain other: tcp dport 9999 reject"},
		{"10.9.0.1", 80, false, "perhaps table inet wall, chain in: ip saddr @friends drop"},
		{"fd00::7", 80, false, "table inet wall, chain in: ip6 saddr fd00::7 tcp dport != 22 drop: nft insert rule inet wall in ip6 saddr fd00::7 tcp dport 80 accept"},
		{"fd00::7", 22, false, ""},
		{"10.0.0.1", 80, true, "table inet wall, chain out: its policy is drop: nft insert rule inet wall out ip daddr 10.0.0.2 tcp dport 80 accept"},
	} {
		c := Conn{From: netip.MustParseAddr(test.from), To: netip.MustParseAddr("10.0.0.2"), Port: test.port, Out: test.out}
		if c.From.Is6() {
			c.To = netip.MustParseAddr("fd00::2")
		}
		got := ""
		for _, b := range rules.blocking(c) {
			w := b.words(c, texts)
			if !w.Sure && !strings.Contains(test.want, "10.0.0.5") {
				got += "perhaps "
			}
			got += w.Where + ": " + w.Rule + ": " + w.Open + "\n"
		}
		if test.want == "" && got != "" || !strings.Contains(got, test.want) {
			t.Errorf("from %s to port %d: %s\nwant %s", test.from, test.port, got, test.want)
		}
	}
	if got := rules.blocking(Conn{From: netip.MustParseAddr("10.0.0.2"), To: netip.MustParseAddr("10.0.0.5"), Port: 1, Out: true}); len(got) > 0 {
		t.Errorf("what is let out is said to be kept in: %+v", got)
	}
}

// TestWhatIsNoListIsNoReason reads what nft would never write.
func TestWhatIsNoListIsNoReason(t *testing.T) {
	for _, text := range []string{"", "{", `{"nftables": 7}`, `{"nftables": [{"rule": {"chain": "x"}}, {"chain": {"hook": "input", "type": "filter", "family": "inet", "name": "in"}},
		{"rule": {"family": "inet", "chain": "in", "expr": [{"match": 7}, {"match": {"op": "==", "left": {"payload": 7}, "right": {"x": []}}}, {"jump": {"target": "in"}}]}}]}`} {
		rules, err := read([]byte(text))
		if err == nil {
			if got := rules.blocking(Conn{From: netip.MustParseAddr("10.0.0.1"), To: netip.MustParseAddr("10.0.0.2"), Port: 1}); len(got) > 0 {
				t.Errorf("%s: %+v", text, got)
			}
		}
	}
}
