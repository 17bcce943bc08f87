// Package packetfilter reads the rules of this machine's packet filter (nftables), to tell which of them keeps a connection away, and keeps tables of ours in it.
// Rules of others it never changes.
package packetfilter

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"os/exec"
	"slices"
	"strings"
	"time"
)

// Conn is a new TCP connection from one machine to another.
type Conn struct {
	From netip.Addr `json:"from"`
	To   netip.Addr `json:"to"`
	Port int        `json:"port"`
	Out  bool       `json:"out,omitempty"` // this machine opens it; else it comes here
}

// Block is a place in the packet filter that keeps a connection away.
type Block struct {
	Where string `json:"where"` // table and chain
	Rule  string `json:"rule"`  // as nft lists it; or that it is the policy of the chain
	Open  string `json:"open"`  // the command that would let the connection through
	Sure  bool   `json:"sure"`  // else it may be, as far as the rule can be read
}

// lookWithin is how long nft may take.
const lookWithin = 5 * time.Second

// Blocking looks which rules of this machine keep connections away; of each, the first of every chain. Where there is no nft, or it may not be asked, it finds none.
func Blocking(ctx context.Context, conns []Conn) [][]Block {
	out := make([][]Block, len(conns))
	ctx, cancel := context.WithTimeout(ctx, lookWithin)
	defer cancel()
	data, err := exec.CommandContext(ctx, "nft", "-j", "list", "ruleset").Output()
	if err != nil {
		return out
	}
	rules, err := read(data)
	if err != nil {
		return out
	}
	texts, _ := exec.CommandContext(ctx, "nft", "-a", "list", "ruleset").Output()
	for i, c := range conns {
		for _, b := range rules.blocking(c) {
			out[i] = append(out[i], b.words(c, string(texts)))
		}
	}
	return out
}

// ruleset is what nft lists as JSON, as far as it is read here.
type ruleset struct {
	chains []*chain
}

type chain struct {
	Family, Table, Name, Hook, Type, Policy string

	rules []rule
}

type rule struct {
	Family, Table, Chain string
	Handle               int
	Expr                 []map[string]json.RawMessage
}

func read(data []byte) (*ruleset, error) {
	var doc struct {
		Nftables []struct {
			Chain *chain
			Rule  *rule
		}
	}
	if err := json.Unmarshal(data, &doc); err != nil {
		return nil, err
	}
	r := &ruleset{}
	for _, x := range doc.Nftables {
		if x.Chain != nil {
			r.chains = append(r.chains, x.Chain)
		}
	}
	for _, x := range doc.Nftables {
		if x.Rule != nil {
			if c := r.chain(x.Rule.Family, x.Rule.Table, x.Rule.Chain); c != nil {
				c.rules = append(c.rules, *x.Rule)
			}
		}
	}
	return r, nil
}

func (r *ruleset) chain(family, table, name string) *chain {
	i := slices.IndexFunc(r.chains, func(c *chain) bool { return c.Family == family && c.Table == table && c.Name == name })
	if i < 0 {
		return nil
	}
	return r.chains[i]
}

// block is where a connection is kept away.
type block struct {
	base   *chain // at which packets come in
	chain  *chain // in which the rule stands
	handle int    // of the rule; 0 for the policy
	sure   bool
}

// blocking goes through all chains that such a connection comes through.
func (r *ruleset) blocking(c Conn) []block {
	hook := "input"
	if c.Out {
		hook = "output"
	}
	var out []block
	for _, base := range r.chains {
		v6 := c.To.Is6()
		if base.Hook != hook || base.Type != "filter" || base.Family == "ip" && v6 || base.Family == "ip6" && !v6 || base.Family == "arp" || base.Family == "bridge" {
			continue
		}
		verdict, found := r.walk(base, base, c, true, 0)
		if verdict == "" && base.Policy == "drop" {
			found = &block{base, base, 0, found == nil || found.sure}
		}
		if found != nil && verdict != "accept" {
			out = append(out, *found)
		}
	}
	return out
}

// mostJumps bounds how deep chains may lead.
const mostJumps = 16

// walk goes through a chain. It gives accept or drop where that is decided, and the first rule that drops, or may.
func (r *ruleset) walk(base, at *chain, c Conn, sure bool, depth int) (verdict string, found *block) {
	if depth > mostJumps {
		return "", nil
	}
	for _, x := range at.rules {
		matches, does, target := x.judge(c)
		if matches == never {
			continue
		}
		here := sure && matches == always
		switch does {
		case "accept":
			if here {
				return "accept", nil
			}
		case "drop", "reject":
			if found == nil {
				found = &block{base, at, x.Handle, here}
			}
			if here {
				return "drop", found
			}
		case "return":
			if here {
				return "", found
			}
		case "jump", "goto":
			to := r.chain(at.Family, at.Table, target)
			if to == nil {
				continue
			}
			v, f := r.walk(base, to, c, here, depth+1)
			if found == nil {
				found = f
			}
			if v != "" && here {
				return v, found
			}
			if does == "goto" && here {
				return "", found
			}
		}
	}
	return "", found
}

// matching is whether a rule is about a connection.
type matching int

const (
	never matching = iota
	perhaps
	always
)

// judge tells whether a rule is about a connection, and what it does then.
func (x rule) judge(c Conn) (m matching, does, target string) {
	m = always
	for _, e := range x.Expr {
		for name, data := range e {
			switch name {
			case "match":
				var match struct {
					Op    string
					Left  map[string]json.RawMessage
					Right json.RawMessage
				}
				if json.Unmarshal(data, &match) != nil {
					m = min(m, perhaps)
					continue
				}
				m = min(m, matchOf(match.Op, match.Left, match.Right, c))
			case "accept", "drop", "reject", "return":
				does = name
			case "jump", "goto":
				var to struct{ Target string }
				_ = json.Unmarshal(data, &to)
				does, target = name, to.Target
			case "counter", "log", "limit", "quota":
				if name == "limit" || name == "quota" {
					m = min(m, perhaps)
				}
			default: // a map of verdicts, or what is not known here
				m = min(m, perhaps)
			}
		}
	}
	return m, does, target
}

// matchOf compares one property of a connection.
func matchOf(op string, left map[string]json.RawMessage, right json.RawMessage, c Conn) matching {
	var is func(value string) (yes, known bool)
	var property struct{ Protocol, Field, Key string }
	for kind, data := range left {
		_ = json.Unmarshal(data, &property)
		switch {
		case kind == "payload" && (property.Protocol == "ip" || property.Protocol == "ip6") && property.Field == "saddr":
			is = addressIs(c.From)
		case kind == "payload" && (property.Protocol == "ip" || property.Protocol == "ip6") && property.Field == "daddr":
			is = addressIs(c.To)
		case kind == "payload" && (property.Protocol == "tcp" || property.Protocol == "th") && property.Field == "dport":
			is = numberIs(c.Port)
		case kind == "payload" && property.Protocol == "udp":
			return not(op, never)
		case kind == "meta" && (property.Key == "l4proto" || property.Key == "nfproto"):
			own := map[string]string{"l4proto": "tcp", "nfproto": map[bool]string{true: "ipv6", false: "ipv4"}[c.To.Is6()]}[property.Key]
			is = func(v string) (bool, bool) { return v == own, true }
		case kind == "meta" && (property.Key == "iifname" || property.Key == "oifname" || property.Key == "iif" || property.Key == "oif"):
			is = func(v string) (bool, bool) { return false, v == "lo" } // it comes from another machine, by whichever card
		case kind == "ct" && property.Key == "state":
			is = func(v string) (bool, bool) { return v == "new", true }
		}
	}
	if is == nil {
		return perhaps
	}
	best := never
	for _, v := range values(right) {
		yes, known := v.within(is)
		switch {
		case yes:
			best = always
		case !known:
			best = max(best, perhaps)
		}
	}
	return not(op, best)
}

// not turns a comparison round where the rule does.
func not(op string, m matching) matching {
	if op == "!=" {
		return always - m
	}
	return m
}

func addressIs(a netip.Addr) func(string) (bool, bool) {
	return func(v string) (bool, bool) {
		if p, err := netip.ParsePrefix(v); err == nil {
			return p.Contains(a), true
		}
		other, err := netip.ParseAddr(v)
		return err == nil && other == a, err == nil
	}
}

func numberIs(n int) func(string) (bool, bool) {
	return func(v string) (bool, bool) {
		var other int
		_, err := fmt.Sscan(v, &other)
		return err == nil && other == n, err == nil
	}
}

// value is one of those that a property is compared with: a text, or a range.
type value struct{ text, to string }

func (v value) within(is func(string) (bool, bool)) (yes, known bool) {
	if v.to == "" {
		return is(v.text)
	}
	var from, to int
	_, err := fmt.Sscan(v.text+" "+v.to, &from, &to)
	if err != nil || to-from > 1<<16 {
		return false, false
	}
	for n := from; n <= to; n++ {
		if yes, _ := is(fmt.Sprint(n)); yes {
			return true, true
		}
	}
	return false, true
}

// values reads what a property is compared with.
func values(right json.RawMessage) []value {
	var list []json.RawMessage
	var object map[string]json.RawMessage
	var text any
	switch {
	case json.Unmarshal(right, &list) == nil:
	case json.Unmarshal(right, &object) == nil:
		if set, is := object["set"]; is {
			return values(set)
		}
		if prefix, is := object["prefix"]; is {
			var p struct {
				Addr string
				Len  int
			}
			_ = json.Unmarshal(prefix, &p)
			return []value{{text: fmt.Sprintf("%s/%d", p.Addr, p.Len)}}
		}
		if data, is := object["range"]; is {
			var ends []any
			if json.Unmarshal(data, &ends) == nil && len(ends) == 2 {
				return []value{{fmt.Sprint(ends[0]), fmt.Sprint(ends[1])}}
			}
		}
		return []value{{text: "?"}}
	case json.Unmarshal(right, &text) == nil:
		return []value{{text: fmt.Sprint(text)}}
	}
	var out []value
	for _, x := range list {
		out = append(out, values(x)...)
	}
	return out
}

// words says where a connection is kept away, and what would let it through.
func (b block) words(c Conn, texts string) Block {
	family := "ip"
	if c.To.Is6() {
		family = "ip6"
	}
	match := fmt.Sprintf("%s saddr %s", family, c.From)
	if c.Out {
		match = fmt.Sprintf("%s daddr %s", family, c.To)
	}
	out := Block{Where: fmt.Sprintf("table %s %s, chain %s", b.chain.Family, b.chain.Table, b.chain.Name), Sure: b.sure,
		Open: fmt.Sprintf("nft insert rule %s %s %s %s tcp dport %d accept", b.chain.Family, b.chain.Table, b.chain.Name, match, c.Port), Rule: "its policy is drop"}
	if b.handle > 0 {
		out.Rule = ruleText(texts, b.chain, b.handle)
	}
	return out
}

// ruleText finds a rule in what nft lists for people.
func ruleText(texts string, c *chain, handle int) string {
	in := false
	for line := range strings.Lines(texts) {
		if strings.HasPrefix(line, "table ") {
			in = strings.HasPrefix(line, fmt.Sprintf("table %s %s ", c.Family, c.Table))
		}
		if text, found := strings.CutSuffix(strings.TrimSpace(line), fmt.Sprintf(" # handle %d", handle)); in && found && !strings.HasSuffix(text, "{") {
			return text
		}
	}
	return fmt.Sprintf("the rule with the handle %d", handle)
}
