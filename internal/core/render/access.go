package render

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/link"
	"lanternfield/internal/core/trust"
)

// Host is where a client connects.
type Host = link.Host

// Access is how clients get at a role, in forms that are ready to be used.
type Access struct {
	Role    field.RoleName `json:"role"`
	Through field.RoleName `json:"through,omitempty"` // the entry that clients connect to; empty where it is the members themselves
	Purpose string         `json:"purpose,omitempty"`
	Write   []Host         `json:"write"`
	Read    []Host         `json:"read,omitempty"`  // where that is elsewhere
	Names   []string       `json:"names,omitempty"` // under which clients know it
	TLS     bool           `json:"tls"`
	Client  bool           `json:"client_certificate"` // clients show a certificate
	User    string         `json:"user,omitempty"`
	Secret  string         `json:"secret,omitempty"` // its name
	Value   string         `json:"value,omitempty"`  // of the secret: a mark

	Forms   []field.Form      `json:"forms,omitempty"`
	Env     map[string]string `json:"env,omitempty"`
	Files   map[string]string `json:"files,omitempty"`
	Tool    *field.Tool       `json:"tool,omitempty"`
	Command []string          `json:"command,omitempty"`
}

// AccessPaths are where a client's files are to be.
type AccessPaths struct{ Authority, Client string }

// accessScope is what forms of access see besides the member.
type accessScope struct {
	to    *Access
	paths AccessPaths
}

var errAccessOnly = errors.New("it is for access only: forms, env, files and command")

// Hosts are where a client connects to write, or for everything.
func (v *View) Hosts() ([]Host, error) {
	if v.access == nil {
		return nil, errAccessOnly
	}
	return v.access.to.Write, nil
}

// ReadHosts are where a client connects to read.
func (v *View) ReadHosts() ([]Host, error) {
	switch {
	case v.access == nil:
		return nil, errAccessOnly
	case len(v.access.to.Read) > 0:
		return v.access.to.Read, nil
	}
	return v.access.to.Write, nil
}

// User is the client's.
func (v *View) User() (string, error) {
	if v.access == nil {
		return "", errAccessOnly
	}
	return v.access.to.User, nil
}

// Password is the user's secret; a form says what it is put into, as with Secret.
func (v *View) Password(form ...string) (string, error) {
	if v.access == nil {
		return "", errAccessOnly
	}
	if v.access.to.Secret == "" {
		return "", nil
	}
	return v.Secret(v.access.to.Secret, form...)
}

// AuthorityFile is where the client has the authority.
func (v *View) AuthorityFile() (string, error) {
	if v.access == nil {
		return "", errAccessOnly
	}
	return v.access.paths.Authority, nil
}

// ClientFile is where the client has its certificate and its key.
func (v *View) ClientFile() (string, error) {
	if v.access == nil {
		return "", errAccessOnly
	}
	return v.access.paths.Client, nil
}

// AccessTo says how clients get at a role: through an entry where there is one, since that survives the loss of a member, else at all of its members.
// Nil where the role's kit says nothing of it, or where none of its members is there.
func (s *Scene) AccessTo(role *field.Role, paths AccessPaths) (*Access, error) {
	if role.Program == nil || role.Program.Access == nil || len(role.Program.Access.Passes) > 0 {
		return nil, nil
	}
	a, v, err := s.way(role)
	if a == nil {
		return nil, err
	}
	says := role.Program.Access
	v.access, v.secrets = &accessScope{a, paths}, true
	r := &renderer{view: v, at: []string{"program", "access"}}
	if err != nil {
		r.errs = append(r.errs, err)
	}
	for i, form := range says.Forms {
		a.Forms = append(a.Forms, field.Form{Name: form.Name, Text: strings.TrimSpace(r.text(form.Text, "forms", strconv.Itoa(i), "text"))})
	}
	for _, name := range slices.Sorted(maps.Keys(says.Env)) {
		if text := r.text(string(says.Env[name]), "env", name); text != "" {
			if a.Env == nil {
				a.Env = map[string]string{}
			}
			a.Env[name] = text
		}
	}
	for _, name := range slices.Sorted(maps.Keys(says.Files)) {
		if a.Files == nil {
			a.Files = map[string]string{}
		}
		a.Files[name] = r.text(says.Files[name], "files", name)
	}
	for _, word := range r.list(says.Begin, "command") {
		if word != "" {
			a.Command = append(a.Command, word)
		}
	}
	return a, errors.Join(r.errs...)
}

// way says where one connects to get at a role, and as whom, without any forms; nil where none of its members is there. The view is that of one of
// its members.
func (s *Scene) way(role *field.Role) (*Access, *View, error) {
	members := s.Joined[role.Name]
	if len(members) == 0 {
		members = s.Wanted[role.Name]
	}
	if len(members) == 0 || role.Program == nil {
		return nil, nil, nil
	}
	a, v := &Access{Role: role.Name, Names: role.KnownAs()}, s.view(members[0])
	a.TLS = v.TLS()
	says := role.Program.Access
	if says == nil || len(says.Passes) > 0 {
		port, err := v.PortNamed(clientPorts(role)...)
		if err == nil {
			a.Write = s.floatingFirst(role, s.hosts(members, port))
		}
		if says != nil && says.Passes["read"] != "" {
			a.Read = s.floatingFirst(role, s.hosts(members, says.Passes["read"]))
		}
		return a, v, nil
	}
	a.Purpose, a.Secret, a.Tool = says.Purpose, says.Secret, says.Tool
	a.Write = s.floatingFirst(role, s.hosts(members, says.ClientPort()))
	for _, entry := range s.Field.Entries(role) {
		if entry.Program == nil || entry.Program.Access == nil || !slices.Contains(entry.Called(), role.Name) && !slices.Contains(entry.Known(), role.Name) {
			continue
		}
		through := s.Wanted[entry.Name]
		if passes := entry.Program.Access.Passes; passes["write"] != "" && len(through) > 0 {
			a.Through, a.Names = entry.Name, append(entry.KnownAs(), role.KnownAs()...)
			a.Write = s.floatingFirst(entry, s.hosts(through, passes["write"]))
			if passes["read"] != "" {
				a.Read = s.floatingFirst(entry, s.hosts(through, passes["read"]))
			}
			break
		}
	}
	scoped := *v
	scoped.access, scoped.secrets = &accessScope{to: a}, true
	r := &renderer{view: &scoped, at: []string{"program", "access"}}
	a.User = r.text(says.User, "user")
	if says.Secret != "" {
		value, err := scoped.Secret(says.Secret)
		r.fail(err, "secret")
		a.Value = value
	}
	if a.TLS && says.Client != "" {
		text := r.text(says.Client, "client")
		var err error
		if a.Client, err = strconv.ParseBool(strings.TrimSpace(text)); err != nil {
			r.fail(fmt.Errorf("it must give true or false, and gives %q", text), "client")
		}
	}
	return a, v, errors.Join(r.errs...)
}

// floatingFirst puts before a role's members the address that one of them has at a time: whoever tries it first needs no other.
func (s *Scene) floatingFirst(role *field.Role, hosts []Host) []Host {
	if role.Floating == nil || len(hosts) == 0 {
		return hosts
	}
	return append([]Host{{Member: field.MemberName(role.Name), Address: role.Floating.Address, Port: hosts[0].Port}}, hosts...)
}

// hosts are where members listen on a port.
func (s *Scene) hosts(members []field.MemberName, port string) []Host {
	var out []Host
	for _, name := range members {
		v := s.view(name)
		address, err := v.addressOf(port)
		number, missing := v.port(port)
		if m := s.Members[name]; err == nil && missing == nil && !m.Leaving {
			out = append(out, Host{Member: name, Address: address, Port: number})
		}
	}
	return out
}

// ClientOf is the certificate of a role's clients. It can be used to ask only.
func (s *Scene) ClientOf(role field.RoleName, issue trust.Issue) trust.Certificate {
	c := trust.Certificate{Field: s.Field.Name, Holder: string(role) + "-client", Client: true, Issue: issue}
	s.signed(&c)
	return c
}

// signed says who has issued a certificate, and who vouches for that.
func (s *Scene) signed(c *trust.Certificate) {
	for i, a := range s.Authorities {
		if a.Number != c.Issue.By {
			continue
		}
		if c.By = a; i > 0 {
			c.Before = &s.Authorities[i-1]
		}
	}
}
