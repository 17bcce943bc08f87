package field

import (
	"encoding/hex"
	"fmt"
	"maps"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Trust says how the members of a field speak TLS.
type Trust struct {
	TLS      Switch   `json:"tls,omitempty"`       // of roles that say nothing of it
	ValidFor Duration `json:"valid_for,omitempty"` // of members' certificates; 90 days where nothing is said
}

// Certificate says what the certificates of a program's members must be like.
type Certificate struct {
	AddressesAsNames bool `json:"addresses_as_names,omitempty"` // addresses are in it as DNS names too
}

// Switch is on, off, or nothing said.
type Switch string

// What a switch says.
const (
	On  Switch = "on"
	Off Switch = "off"
)

// Upgrade is how TLS begins on a port where a connection begins in the clear: what the program says first, what is sent then, and what it answers to
// that. Each may be empty.
type Upgrade struct {
	Greeting string `json:"greeting,omitempty"`
	Send     string `json:"send,omitempty"`
	SendHex  string `json:"send_hex,omitempty"` // instead of Send, where that is no text
	Answer   string `json:"answer,omitempty"`
}

// Sends is what is sent, as bytes.
func (u Upgrade) Sends() ([]byte, error) {
	if u.SendHex == "" {
		return []byte(u.Send), nil
	}
	data, err := hex.DecodeString(strings.ReplaceAll(u.SendHex, " ", ""))
	switch {
	case u.Send != "":
		return nil, fmt.Errorf("send and send_hex both say what is sent; take one of them out")
	case err != nil:
		return nil, fmt.Errorf("%q is not bytes in hexadecimal digits, such as 00 1f", u.SendHex)
	}
	return data, nil
}

// TLSCall begins TLS with a member's port, and says which certificate it was shown.
type TLSCall struct {
	Port string `json:"port"`
	// Name is under which it is reached, and Believe by whom its certificate must be vouched for then, as PEM; the address and the field's authority when
	// empty. Neither is said in a field file.
	Name    string `json:"name,omitempty"`
	Believe string `json:"believe,omitempty"`
}

// CanSecure tells whether the program can speak TLS: on which of its ports it does, its kit or field says.
func (p *Program) CanSecure() bool {
	if p == nil {
		return false
	}
	for _, port := range p.Ports {
		if port.TLS != "" {
			return true
		}
	}
	return false
}

// Secure tells whether the members of a role speak TLS: as the role says, else as the field says, else where there are several nodes. What a
// role did when it was deployed it goes on to do where neither says anything; see plan.Grow.
func (f *Field) Secure(r *Role) bool {
	if r == nil || !r.Program.CanSecure() {
		return false
	}
	for _, says := range []Switch{r.TLS, f.Trust.TLS} {
		if says != "" {
			return says == On
		}
	}
	return len(f.Possible()) > 1
}

// Certified tells whether the members of a role have certificates: they speak TLS, or their files say that they want one.
func (f *Field) Certified(r *Role) bool {
	if r == nil || r.Program == nil {
		return false
	}
	if f.Secure(r) || r.Floating != nil && f.Secure(f.Role(r.Floating.Store)) { // it shows it to the store of its lease
		return true
	}
	for _, file := range r.Program.Files {
		if !file.TLS && asksFor(file.Template, "Certificate", "Key") {
			return true
		}
	}
	return false
}

// Entries are the roles through which clients get at members of a role: entries that call it, or call what calls it.
func (f *Field) Entries(of *Role) []*Role {
	var out []*Role
	var walk func(name RoleName, depth int)
	walk = func(name RoleName, depth int) {
		for i := range f.Roles {
			r := &f.Roles[i]
			if r.Kind == Entry && depth < len(f.Roles) && !slices.Contains(out, r) && (slices.Contains(r.Called(), name) || slices.Contains(r.Known(), name)) {
				out = append(out, r)
				walk(r.Name, depth+1)
			}
		}
	}
	walk(of.Name, 0)
	return out
}

// ValidFor is how long members' certificates are valid.
func (f *Field) ValidFor(usual time.Duration) time.Duration {
	if f.Trust.ValidFor > 0 {
		return time.Duration(f.Trust.ValidFor)
	}
	return usual
}

// What a field may say of how long certificates are valid.
const (
	LeastValid = time.Hour
	MostValid  = 825 * 24 * time.Hour
)

var hostLabel = regexp.MustCompile(`^(\*|[A-Za-z0-9_]([A-Za-z0-9_-]{0,61}[A-Za-z0-9_])?)$`)

// CheckHostName says what is wrong with a name under which clients reach something: a DNS name, whose first label may be *, or an address.
func CheckHostName(name string) error {
	if net.ParseIP(name) != nil {
		return nil
	}
	labels := strings.Split(strings.TrimSuffix(name, "."), ".")
	for i, l := range labels {
		if !hostLabel.MatchString(l) || l == "*" && (i > 0 || len(labels) < 3) {
			return fmt.Errorf("%q is neither a DNS name nor an address; write it like bookings.example or 10.1.0.7, without a scheme or a port", name)
		}
	}
	if len(name) > 253 {
		return fmt.Errorf("a DNS name has 253 characters at most, and this one has %d", len(name))
	}
	return nil
}

// security finds what a role says of TLS and has no meaning.
func (v *validator) security(r *Role, at func(...string) []string) {
	for i, name := range r.Names {
		if err := CheckHostName(name); err != nil {
			v.add(at("names", strconv.Itoa(i)), "", "%s", err)
		}
	}
	if r.Program == nil {
		return
	}
	can := r.Program.CanSecure()
	if r.TLS == On && !can {
		v.add(at("tls"), "say which of its ports do, and with which files: docs/programs.md, TLS", "%s is to speak TLS, and none of its program's ports can", r.Name)
	}
	for _, name := range r.Program.PortNames() {
		p := r.Program.Ports[name]
		if p.Upgrade != nil && p.TLS == "" {
			v.add(at("program", "ports", name, "upgrade"), "give the port tls, the scheme of its URL then", "upgrade says how TLS begins on port %s, and the port has none", name)
		}
		if p.Upgrade != nil {
			if _, err := p.Upgrade.Sends(); err != nil {
				v.add(at("program", "ports", name, "upgrade", "send_hex"), "", "%s", err)
			}
		}
		if p.By == ByAgent && p.TLS != "" {
			v.add(at("program", "ports", name, "tls"), "take it out", "the agent answers on port %s by plain HTTP", name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(r.Program.Files)) {
		if r.Program.Files[name].TLS && !can {
			v.add(at("program", "files", name, "tls"), "give the ports that speak TLS tls, the scheme of their URLs", "the file %s is for members that speak TLS, and none of the program's ports does", name)
		}
	}
}

// validity checks how long certificates are to be valid.
func (v *validator) validity() {
	if d := time.Duration(v.Trust.ValidFor); d != 0 && (d < LeastValid || d > MostValid) {
		v.add([]string{"trust", "valid_for"}, "", "certificates can be valid for %s at least and %s at most, and this is %s", Span(LeastValid), Span(MostValid), Span(d))
	}
}

// TakesOutside tells whether a program can show a certificate from outside, besides the field's own.
func (p *Program) TakesOutside() bool {
	if p == nil {
		return false
	}
	for _, f := range p.Files {
		if strings.Contains(f.Template, ".FromOutside") {
			return true
		}
	}
	return false
}
