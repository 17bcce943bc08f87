package snapshot

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/trust"
	"lanternfield/internal/core/wording"
)

// Trust is what the members of a field show each other, and their clients.
type Trust struct {
	Field        string            `json:"field"`
	At           time.Time         `json:"at"`
	Authorities  []trust.Authority `json:"authorities"` // that count, the newest last: it issues
	Bundle       string            `json:"bundle"`      // their certificates, as PEM
	Certificates []Certificate     `json:"certificates"`
	Plain        []field.RoleName  `json:"plain,omitempty"` // roles whose program can speak TLS, and does not
	Secrets      []Secret          `json:"secrets,omitempty"`
	Outside      []OutsideShown    `json:"outside,omitempty"` // certificates from outside
	Clients      []ClientsOf       `json:"clients,omitempty"` // certificates that clients were given
	Agents       []AgentShown      `json:"agents,omitempty"`
	Beside       bool              `json:"beside,omitempty"` // another authority is taking the place of the one of agents and controllers
	Askers       time.Time         `json:"askers,omitzero"`  // certificates of controllers and watchers that were issued before do not count
}

// AgentShown is the agent of a node with the certificate that it shows to controllers.
type AgentShown struct {
	Node   field.NodeName `json:"node"`
	Since  time.Time      `json:"since,omitzero"` // those that were issued before do not count
	Issued time.Time      `json:"issued,omitzero"`
	Until  time.Time      `json:"until,omitzero"`
	Newest bool           `json:"newest"`        // it is by the newest authority
	Told   bool           `json:"told"`          // it knows whose word counts
	Why    string         `json:"why,omitempty"` // it could not be asked
}

// Moved tells whether an agent shows what it should, and knows whose word counts.
func (a *AgentShown) Moved() bool { return a.Why == "" && a.Newest && a.Told }

// ClientsOf is the certificate that clients of a role were given last. It is renewed as somebody fetches it, and by nobody else.
type ClientsOf struct {
	Role   field.RoleName `json:"role"`
	Number int            `json:"number"`
	Until  time.Time      `json:"until"`
	Before bool           `json:"before,omitempty"` // an authority issued it that no longer does
}

// OutsideShown is a certificate from outside, with what the members of its role show to those who reach them by its names.
type OutsideShown struct {
	trust.Outside
	Role    field.RoleName `json:"role"`
	Missing []string       `json:"missing,omitempty"` // names that clients use and that it is not for
	Shown   []*OutsideOf   `json:"shown,omitempty"`
}

// OutsideOf is what one member shows.
type OutsideOf struct {
	Member field.MemberName `json:"member"`
	Served
}

// Certificate is a member's, with the one that it shows.
type Certificate struct {
	Member field.MemberName  `json:"member"`
	Role   field.RoleName    `json:"role"`
	Of     trust.Certificate `json:"certificate"`
	Serial string            `json:"serial"`
	Renews time.Time         `json:"renews"`
	Ports  []SecurePort      `json:"ports,omitempty"` // on which it speaks TLS
	Waits  bool              `json:"waits,omitempty"` // it does not run with it yet
	Served []*Served         `json:"served,omitempty"`
}

// SecurePort is a port on which TLS is spoken.
type SecurePort struct {
	Name   string `json:"name"`
	Number int    `json:"number"`
}

// Served is the certificate that a member has shown on a port.
type Served struct {
	Port   string    `json:"port"`
	Number int       `json:"number"`
	Serial string    `json:"serial,omitempty"`
	Until  time.Time `json:"until,omitzero"`
	Same   bool      `json:"same"`             // it is the one that was issued last
	Silent bool      `json:"silent,omitempty"` // nobody listens there now, as where only who leads does
	Why    string    `json:"why,omitempty"`    // it could not be read, or was not believed
}

// TrustOf lists what is issued in a field.
func TrustOf(s *state.State, at time.Time) (*Trust, error) {
	if !s.Deployed() {
		return nil, errors.New("the field is not deployed, so no certificate has been issued")
	}
	out := &Trust{Field: s.Field.Name, At: at, Authorities: s.Authorities, Secrets: SecretsOf(s)}
	waits := map[field.MemberName]bool{}
	for _, name := range s.TrustPending() {
		waits[name] = true
	}
	scene := s.Scene()
	for _, m := range state.SortedMembers(s) {
		role := s.Field.Role(m.Role)
		if m.Phase == state.Gone || m.Leaving || role == nil || m.Issue.Number == 0 || !s.Field.Certified(role) {
			continue
		}
		c := Certificate{Member: m.Name, Role: m.Role, Of: scene.CertificateOf(m.Name), Renews: m.Issue.Due(), Waits: waits[m.Name]}
		if spec := m.Runs(); spec != nil {
			for _, name := range role.Program.PortNames() {
				if p := spec.Ports[name]; p.TLS {
					c.Ports = append(c.Ports, SecurePort{name, p.Number})
				}
			}
		}
		out.Certificates = append(out.Certificates, c)
	}
	for _, name := range slices.Sorted(maps.Keys(s.Nodes)) {
		if n := s.Nodes[name]; !n.Released && n.There() {
			out.Agents = append(out.Agents, AgentShown{Node: name, Since: s.Counting.Agents[name]})
		}
	}
	out.Beside, out.Askers = s.Counting.Beside, s.Counting.Askers
	for i := range s.Field.Roles {
		r := &s.Field.Roles[i]
		if of := s.RoleOf(r.Name).Client; of.Number > 0 {
			out.Clients = append(out.Clients, ClientsOf{Role: r.Name, Number: of.Number, Until: of.Until, Before: of.By != s.AuthorityCount})
		}
		if r.Program.CanSecure() && !s.Field.Secure(r) {
			out.Plain = append(out.Plain, r.Name)
		}
	}
	return out, nil
}

// Waiting lists the members that do not run with their newest certificate yet, or do not show it.
func (t *Trust) Waiting() []field.MemberName {
	var out []field.MemberName
	for _, c := range t.Certificates {
		waits := c.Waits
		for _, s := range c.Served {
			waits = waits || !s.Same && !s.Silent
		}
		if waits {
			out = append(out, c.Member)
		}
	}
	return out
}

// SoonToEnd is how near its end a certificate is something to be told of: it should have been renewed by then.
const SoonToEnd = 6

// Wrong words what is wrong with certificates.
func (t *Trust) Wrong() []string {
	var out []string
	for _, c := range t.Certificates {
		left := c.Of.Issue.Until.Sub(t.At)
		switch {
		case left <= 0:
			out = append(out, fmt.Sprintf("the certificate of %s has run out on %s; renew it: lanternfield trust renew %s", c.Member, c.Of.Issue.Until.Local().Format("2 Jan 2006"), c.Member))
		case left < c.Of.Issue.Until.Sub(c.Of.Issue.From)/SoonToEnd:
			out = append(out, fmt.Sprintf("the certificate of %s runs out in %s and has not been renewed; renew it: lanternfield trust renew %s", c.Member, field.Span(left), c.Member))
		}
		for _, s := range c.Served {
			switch {
			case s.Silent:
			case s.Why != "":
				out = append(out, fmt.Sprintf("%s on port %s (%d): %s", c.Member, s.Port, s.Number, s.Why))
			case !s.Same && c.Waits:
				out = append(out, fmt.Sprintf("%s on port %s (%d) still shows the certificate before, until %s; it is to be given the new one", c.Member, s.Port, s.Number, s.Until.Local().Format("2 Jan 2006")))
			case !s.Same:
				out = append(out, fmt.Sprintf("%s on port %s (%d) shows another certificate (until %s) than the one that it was given: it has not read that; lanternfield restart %s", c.Member, s.Port, s.Number, s.Until.Local().Format("2 Jan 2006"), c.Member))
			}
		}
	}
	for _, o := range t.Outside {
		if text := Ending(o.Role, o.Outside, t.At); text != "" {
			out = append(out, text)
		}
		if len(o.Missing) > 0 {
			out = append(out, fmt.Sprintf("the certificate from outside of %s is not for %s, which clients use: they are shown the field's own there; ask for another: lanternfield trust request %s", o.Role, wording.And(o.Missing), o.Role))
		}
		for _, s := range o.Shown {
			switch {
			case s.Silent:
			case s.Why != "":
				out = append(out, fmt.Sprintf("%s on port %s (%d), asked under a name of the certificate from outside: %s", s.Member, s.Port, s.Number, s.Why))
			case !s.Same:
				out = append(out, fmt.Sprintf("%s on port %s (%d) shows another certificate (until %s) than the one from outside that was installed; lanternfield restart %s", s.Member, s.Port, s.Number, s.Until.Local().Format("2 Jan 2006"), s.Member))
			}
		}
	}
	return out
}

// Ending says that a certificate from outside ends soon, or has; empty where it does not.
func Ending(role field.RoleName, of trust.Outside, at time.Time) string {
	return EndingWithin(role, of, at, trust.Soon)
}

// EndingWithin says that a certificate from outside ends within some time; empty where it does not.
func EndingWithin(role field.RoleName, of trust.Outside, at time.Time, within time.Duration) string {
	left := of.Until.Sub(at)
	switch {
	case left <= 0:
		return fmt.Sprintf("the certificate from outside of %s has run out, on %s: clients refuse it; install another: lanternfield trust install %s", role, of.Until.Local().Format("2 Jan 2006"), role)
	case left < within:
		return fmt.Sprintf("the certificate from outside of %s runs out in %s, and nobody here can renew it: have another issued, and install it: lanternfield trust install %s", role, field.Span(left), role)
	}
	return ""
}

// endings says which certificates from outside end soon.
func endings(s *state.State, at time.Time) []string {
	var out []string
	for i := range s.Field.Roles {
		name := s.Field.Roles[i].Name
		if r := s.Roles[name]; r != nil && r.Outside != nil {
			if text := Ending(name, *r.Outside, at); text != "" {
				out = append(out, text)
			}
		}
	}
	return out
}
