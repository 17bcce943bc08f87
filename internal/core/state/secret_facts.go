package state

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/render"
)

// Secret is which of a secret is in force. What it is, nobody but the keyring knows.
type Secret struct {
	Number int       // of the newest; each change makes another
	Given  bool      `json:",omitzero"` // somebody gave that; else it is made
	Since  time.Time `json:",omitzero"`
	// Before is in force as long as the programs of the roles in Due have not taken the newest.
	Before      int              `json:",omitzero"`
	BeforeGiven bool             `json:",omitzero"`
	Due         []field.RoleName `json:",omitzero"` // by steps
}

// InForce is what templates get.
func (s Secret) InForce(name string) render.Secret {
	if len(s.Due) > 0 {
		return render.Secret{Name: name, Number: s.Before, Given: s.BeforeGiven}
	}
	return s.Newest(name)
}

// Newest is what it is to be.
func (s Secret) Newest(name string) render.Secret {
	return render.Secret{Name: name, Number: s.Number, Given: s.Given}
}

// SecretOf is which of a secret is in force: of one of which nothing was ever said, the first, which is made.
func (s *State) SecretOf(name string) Secret {
	if x, ok := s.Secrets[name]; ok {
		return x
	}
	return Secret{Number: 1}
}

// putSecret replaces what is known of a secret; the map may be shared with another copy of the state.
func (s *State) putSecret(name string, x Secret) {
	secrets := maps.Clone(s.Secrets)
	if secrets == nil {
		secrets = map[string]Secret{}
	}
	secrets[name] = x
	s.Secrets = secrets
	s.Shape++
}

// SecretChanged says that another secret takes the place of one, or that the first was given. Programs that take it by steps do so before any file has it.
type SecretChanged struct {
	Name   string
	Number int
	Given  bool `json:",omitempty"`
	By     string
}

func (f SecretChanged) apply(s *State, at time.Time) {
	before := s.SecretOf(f.Name)
	x := Secret{Number: f.Number, Given: f.Given, Since: at}
	for i := range s.fieldRoles() {
		role := &s.Field.Roles[i]
		if role.Program == nil || role.Program.Secrets[f.Name].Change != field.BySteps || !s.RoleOf(role.Name).Founded {
			continue
		}
		x.Due, x.Before, x.BeforeGiven = append(x.Due, role.Name), before.Number, before.Given
	}
	s.putSecret(f.Name, x)
}

// fieldRoles are the roles of the field that is deployed.
func (s *State) fieldRoles() []field.Role {
	if s.Field == nil {
		return nil
	}
	return s.Field.Roles
}

// Sentence words the fact for the journal.
func (f SecretChanged) Sentence() string {
	how := "made"
	if f.Given {
		how = "given"
	}
	if f.Number == 1 {
		return fmt.Sprintf("the secret %s is %s by %s", f.Name, how, f.By)
	}
	return fmt.Sprintf("another secret %s is %s, number %d, by %s", f.Name, how, f.Number, f.By)
}

// secretTaken notes that the program of a role has taken a secret.
func (s *State) secretTaken(role field.RoleName, name string, number int) {
	x := s.SecretOf(name)
	if x.Number != number {
		return
	}
	x.Due = slices.DeleteFunc(slices.Clone(x.Due), func(r field.RoleName) bool { return r == role })
	if len(x.Due) == 0 {
		x.Before, x.BeforeGiven, x.Due = 0, false, nil
	}
	s.putSecret(name, x)
}

// SecretsDue lists the secrets that the program of a role is to take by steps.
func (s *State) SecretsDue(role field.RoleName) []string {
	var out []string
	for name, x := range s.Secrets {
		if slices.Contains(x.Due, role) {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// SecretsPending tells whether a program is still to take another secret by its steps.
func (s *State) SecretsPending() bool {
	for _, x := range s.Secrets {
		if len(x.Due) > 0 {
			return true
		}
	}
	return false
}

// WithOldSecret lists the members whose files or environment have another than the newest of a secret, or that have not taken it yet.
func (s *State) WithOldSecret(name string) []field.MemberName {
	newest := s.SecretOf(name).Newest(name)
	var out []field.MemberName
	for _, m := range SortedMembers(s) {
		if m.Phase == Gone || m.Leaving || m.Ordered.Want != order.Run || m.Ordered.Spec == nil {
			continue
		}
		has, old := render.SecretsIn(m.Ordered.Spec, newest)
		if old || has && (m.RestartDue || m.Ordered.Revision > m.Taken) {
			out = append(out, m.Name)
		}
	}
	return out
}

// SupposeSecret has another secret in the place of one, as if every program had taken it already, and gives the roles whose program takes it by steps.
func (s *State) SupposeSecret(name string, given bool) []field.RoleName {
	SecretChanged{Name: name, Number: max(s.SecretOf(name).Number+1, 2), Given: given}.apply(s, time.Time{})
	x := s.SecretOf(name)
	due := x.Due
	x.Before, x.BeforeGiven, x.Due = 0, false, nil
	s.putSecret(name, x)
	return due
}

// dropDue has nobody wait for a role that is not there.
func (s *State) dropDue(role field.RoleName) {
	for _, name := range s.SecretsDue(role) {
		s.secretTaken(role, name, s.SecretOf(name).Number)
	}
}
