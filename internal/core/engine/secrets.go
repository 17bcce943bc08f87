package engine

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wording"
)

// NewSecret is the variable in which a command of change_secret finds the secret that its program is to take.
const NewSecret = "NEW_SECRET"

// ChangeSecret has another secret take the place of one. Where it is given, whoever asks has put it into the keyring under the number that it gets.
type ChangeSecret struct {
	Name  string
	Given bool
	By    string
}

func (in ChangeSecret) decide(s *state.State) ([]state.Fact, error) {
	number, err := NextSecret(s, in.Name)
	if err != nil {
		return nil, err
	}
	if number == 1 && !in.Given {
		return nil, fmt.Errorf("nothing that is deployed has a secret %s, so there is none to change", in.Name)
	}
	return []state.Fact{state.SecretChanged{Name: in.Name, Number: number, Given: in.Given, By: in.By}}, nil
}

// NextSecret is the number that the next change of a secret makes; 1 where nothing that is deployed has it. It refuses what cannot be changed.
func NextSecret(s *state.State, name string) (int, error) {
	known, said := s.Secrets[name]
	var users []field.RoleName
	if s.Deployed() {
		if err := guardOrder(s, "change a secret of"); err != nil {
			return 0, err
		}
		users = s.Field.UsersOf(name)
	}
	if len(known.Due) > 0 {
		return 0, fmt.Errorf("the secret %s is being changed already, and %s is still to take it; wait for that, or mend what keeps it", name, known.Due[0])
	}
	for _, role := range users {
		if s.Field.Role(role).Program.Secrets[name].Change == field.Never {
			return 0, fmt.Errorf("the secret %s cannot be changed: the program of %s takes it when the role is founded, and never again", name, role)
		}
	}
	switch {
	case said:
		return known.Number + 1, nil
	case len(users) > 0:
		return 2, nil
	}
	return 1, nil
}

// UngivenIn lists the secrets that a draft says are given, and that have not been. One that was made before, and is in use, stays as it is.
func UngivenIn(s *state.State, draft *field.Field) []string {
	var names []string
	for _, name := range slices.Sorted(maps.Keys(draft.Secrets)) {
		if !s.SecretOf(name).Given && !s.SecretOf(name).BeforeGiven && !inUse(s, name) {
			names = append(names, name)
		}
	}
	return names
}

// ungiven refuses a draft whose secrets are to be given and have not been.
func ungiven(s *state.State, draft *field.Field) error {
	if names := UngivenIn(s, draft); len(names) > 0 {
		return &UngivenError{Names: names}
	}
	return nil
}

// inUse tells whether something that is deployed has a secret.
func inUse(s *state.State, name string) bool {
	return s.Deployed() && len(s.Field.UsersOf(name)) > 0
}

// UngivenError says which secrets have to be given first.
type UngivenError struct {
	Names []string `json:"names"`
}

func (e *UngivenError) Error() string {
	return fmt.Sprintf("%s %s to be given, and %s not been: `lanternfield deploy` asks for what the file says, and `lanternfield trust change FILE %s` does; nothing has been changed",
		strings.TrimSpace(wording.Plural(len(e.Names), "the secret ", "the secrets ")+wording.And(e.Names)), wording.Plural(len(e.Names), "is", "are"), wording.Plural(len(e.Names), "has", "have"), e.Names[0])
}

// changeSecrets has programs take another secret by their steps: one role, and one step, after the other.
func (w *pass) changeSecrets() []state.Fact {
	for _, name := range slices.Sorted(maps.Keys(w.members)) {
		if len(w.SecretsDue(name)) == 0 || w.RoleOf(name).Op != nil {
			continue
		}
		role := w.Field.Role(name)
		m := w.Members[w.RoleOf(name).Leader]
		if m == nil || !w.Works(m) {
			m = nil
			for _, o := range w.members[name] {
				if w.Works(o) && !o.Leaving && !w.Nodes[o.Node].Unreachable {
					m = o
					break
				}
			}
		}
		if m == nil {
			continue // it waits for somebody who works
		}
		if facts := w.ask(role, m, order.ChangeSecret, m.Steps[order.ChangeSecret], ""); len(facts) > 0 {
			return facts
		}
	}
	return nil
}
