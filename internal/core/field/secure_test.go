package field

import (
	"slices"
	"strings"
	"testing"
	"time"
)

// TestWhatASetOfTLSWordsMeans validates declarations that say something of TLS.
func TestWhatASetOfTLSWordsMeans(t *testing.T) {
	secure := func() *Program {
		return &Program{Command: []string{"run"}, Ports: map[string]Port{"main": {Port: 7000, TLS: "https"}}}
	}
	for _, row := range []struct {
		name   string
		change func(*Field, *Role)
		want   string // the beginning of the problem; empty for none
	}{
		{"nothing said", func(*Field, *Role) {}, ""},
		{"on, where no port can", func(_ *Field, r *Role) { r.TLS = On; r.Program.Ports["main"] = Port{Port: 7000} }, "it is to speak TLS, and none of its program's ports can"},
		{"an upgrade without TLS", func(_ *Field, r *Role) { r.Program.Ports["other"] = Port{Port: 7001, Upgrade: &Upgrade{Send: "x"}} }, "upgrade says how TLS begins on port other"},
		{"bytes that are none", func(_ *Field, r *Role) {
			r.Program.Ports["main"] = Port{Port: 7000, TLS: "https", Upgrade: &Upgrade{SendHex: "0"}}
		}, `"0" is not bytes`},
		{"two ways to say what is sent", func(_ *Field, r *Role) {
			r.Program.Ports["main"] = Port{Port: 7000, TLS: "https", Upgrade: &Upgrade{Send: "x", SendHex: "00"}}
		}, "send and send_hex both say"},
		{"an agent's port", func(_ *Field, r *Role) { r.Program.Ports["main"] = Port{Port: 7000, TLS: "https", By: ByAgent} }, "the agent answers on port main by plain HTTP"},
		{"a file for nobody", func(_ *Field, r *Role) {
			r.Program.Ports["main"] = Port{Port: 7000}
			r.Program.Files = map[string]File{"member.pem": {Template: "x", TLS: true}}
		}, "the file member.pem is for members that speak TLS"},
		{"good names", func(_ *Field, r *Role) {
			r.Names = []string{"bookings.example", "*.ferries.example", "10.1.0.7", "fd00::7", "desk"}
		}, ""},
		{"a URL", func(_ *Field, r *Role) { r.Names = []string{"https://bookings.example"} }, `"https://bookings.example" is neither a DNS name nor an address`},
		{"a port", func(_ *Field, r *Role) { r.Names = []string{"bookings.example:443"} }, `"bookings.example:443" is neither`},
		{"everything", func(_ *Field, r *Role) { r.Names = []string{"*"} }, `"*" is neither`},
		{"too short a time", func(f *Field, _ *Role) { f.Trust.ValidFor = Duration(time.Minute) }, "certificates can be valid for 1 h 0 min at least"},
		{"too long a time", func(f *Field, _ *Role) { f.Trust.ValidFor = Duration(1000 * 24 * time.Hour) }, "certificates can be valid for 1 h 0 min at least and 825 days at most, and this is 1000 days"},
	} {
		f := &Field{Name: "saltmarsh", Nodes: []Node{{Name: "gull-1"}}, Roles: []Role{{Name: "it", Members: 1, Program: secure()}}}
		row.change(f, &f.Roles[0])
		FillDefaults(f)
		problems := Validate(f, map[string]GroundRules{"local": {}})
		if row.want == "" && len(problems) > 0 || row.want != "" && !slices.ContainsFunc(problems, func(p Problem) bool { return strings.HasPrefix(p.Text, row.want) }) {
			t.Errorf("%s: got %v, want %q", row.name, problems, row.want)
		}
	}
}

// TestEntriesAreFoundThroughEachOther has an entry before an entry.
func TestEntriesAreFoundThroughEachOther(t *testing.T) {
	f := &Field{Roles: []Role{{Name: "berths"}, {Name: "desk", Kind: Entry, Calls: map[string]RoleName{"members": "berths"}},
		{Name: "gate", Kind: Entry, Knows: map[string]RoleName{"members": "desk"}}, {Name: "crews", Kind: Worker, Calls: map[string]RoleName{"store": "berths"}}}}
	var names []string
	for _, e := range f.Entries(f.Role("berths")) {
		names = append(names, string(e.Name))
	}
	if strings.Join(names, " ") != "desk gate" {
		t.Errorf("got %v", names)
	}
}
