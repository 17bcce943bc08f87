package state

import (
	"cmp"
	"maps"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/trust"
)

// Scene is what templates see.
func (s *State) Scene() *render.Scene {
	sc := &render.Scene{Field: s.Field, Members: map[field.MemberName]render.Member{},
		Founders: map[field.RoleName][]field.MemberName{}, Joined: map[field.RoleName][]field.MemberName{},
		Wanted: map[field.RoleName][]field.MemberName{}, Authorities: s.Authorities, Secrets: map[string]render.Secret{}, Outside: map[field.RoleName]trust.Outside{},
		Links: map[field.RoleName]render.Link{}}
	for name, x := range s.Secrets {
		sc.Secrets[name] = x.InForce(name)
	}
	for i := range s.fieldRoles() {
		if role := &s.Field.Roles[i]; role.Linked() {
			if has := s.Has(role); has != nil {
				sc.Links[role.Name] = render.Link{Content: has.Content, Number: has.Number}
			}
		}
	}
	for role, members := range s.ByRole() {
		for _, m := range members {
			s.draw(sc, m)
			if via := s.Member(s.follows(m)); via != nil && via.Phase == Gone { // what it was told at its start stays so
				s.draw(sc, via)
			}
			if !m.Leaving && s.IsThere(m) {
				sc.Wanted[role] = append(sc.Wanted[role], m.Name)
			}
			if m.Joined && !m.Left && (!m.Leaving || Procedural(s.Field.Role(role))) {
				sc.Joined[role] = append(sc.Joined[role], m.Name)
			}
		}
	}
	for name, r := range s.Roles {
		if r.Outside != nil {
			sc.Outside[name] = *r.Outside
		}
		sc.Founders[name] = r.Founders
		for _, f := range r.Founders { // frozen: also those that are gone by now
			if m := s.Member(f); m != nil && m.Phase == Gone {
				s.draw(sc, m)
			}
		}
	}
	return sc
}

// draw puts what templates may know of a member into the scene.
func (s *State) draw(sc *render.Scene, m *Member) {
	n := s.Nodes[m.Node]
	if n == nil {
		return
	}
	at := m.Member
	at.Ports = s.Ports(m)
	drawn := SceneMember(s.Field.Node(m.Node), at, n.Binding(), m.Founding, s.follows(m))
	drawn.Number, drawn.Begins = m.Number, m.Begins
	drawn.Ready, drawn.Leads = s.Works(m), s.leader(m.Role) == m.Name
	drawn.Issue = m.Issue
	drawn.Leaving, drawn.Captured, drawn.ID = m.Leaving, m.Captured, m.Captured["id"]
	if e := s.Entry(m); e != nil {
		drawn.ID = e.ID
	}
	sc.Members[m.Name] = drawn
}

// leader is who leads a role; empty where nobody is known to.
func (s *State) leader(role field.RoleName) field.MemberName {
	if r := s.Roles[role]; r != nil {
		return r.Leader
	}
	return ""
}

// Ports are the ports of a member: as the field numbers them, and, of ranges, as they were given to it.
func (s *State) Ports(m *Member) map[string]int {
	r := s.Field.Role(m.Role)
	if r == nil || r.Program == nil {
		return m.Ports
	}
	same := len(m.Ports) == len(r.Program.Ports)
	for name, p := range r.Program.Ports {
		n := p.Of(m.Number)
		same = same && (n == 0 || m.Ports[name] == n)
	}
	if same {
		return m.Ports
	}
	out := map[string]int{}
	for name, p := range r.Program.Ports {
		if n := cmp.Or(p.Of(m.Number), m.Ports[name]); n != 0 {
			out[name] = n
		}
	}
	return out
}

// follows is who .Leader is for a member: who led as it was admitted; once that one is gone for good, who leads now.
func (s *State) follows(m *Member) field.MemberName {
	via := s.Member(m.Via)
	if r := s.Roles[m.Role]; via != nil && r != nil && (via.Phase == Gone || via.Left) && r.Leader != "" && r.Leader != m.Name {
		return r.Leader
	}
	return m.Via
}

// SceneMember is what templates may know of a member on a node that is there.
func SceneMember(n *field.Node, m place.Member, at Binding, founding bool, via field.MemberName) render.Member {
	out := render.Member{Name: m.Name, Role: m.Role, Node: m.Node, Address: at.Address, Addresses: maps.Clone(at.Addresses), NodeDir: at.Dir, Ports: m.Ports,
		Founding: founding, Via: via}
	if n != nil {
		out.Zone = n.Zone
		for network, address := range n.Addresses { // what the file says holds
			if out.Addresses == nil {
				out.Addresses = map[string]string{}
			}
			out.Addresses[network] = address
		}
	}
	out.Number = m.Name.Number()
	return out
}
