package state

import (
	"fmt"
	"strings"
	"time"

	"lanternfield/internal/core/field"
)

// ProofKey names a proof of a role.
type ProofKey string

// KeyOf names a proof of a role.
func KeyOf(role field.RoleName, proof string) ProofKey { return ProofKey(string(role) + "/" + proof) }

// ProofRun is a proof that was asked for: under way, or with its result.
type ProofRun struct {
	Number int            `json:",omitzero"` // rises with every one that is asked for
	Role   field.RoleName `json:",omitzero"`
	Name   string         `json:",omitzero"`
	By     string         `json:",omitzero"`
	Asked  time.Time      `json:",omitzero"`
	Ended  time.Time      `json:",omitzero"`
	ProofResult
}

// ProofResult is what came of a proof.
type ProofResult struct {
	OK    bool          `json:",omitzero"`
	Why   string        `json:",omitzero"` // why not: which step, what was expected, what came, from where to where
	Took  time.Duration `json:",omitzero"`
	Steps []StepResult  `json:",omitzero"`
}

// StepResult is what came of one step at one member.
type StepResult struct {
	Say    string           `json:",omitzero"`
	Member field.MemberName `json:",omitzero"` // that was asked; empty where nobody was there to be asked
	OK     bool             `json:",omitzero"`
	Why    string           `json:",omitzero"`
	Took   time.Duration    `json:",omitzero"`
	Tries  int              `json:",omitzero"`
	From   field.MemberName `json:",omitzero"` // from whose node it was asked, where that is not its own
	Borne  bool             `json:",omitzero"` // it did not answer as expected, and enough others did
}

// Proof is what is known of one proof: the run under way, and the last one that has ended.
type Proof struct {
	Running *ProofRun `json:",omitzero"`
	Last    *ProofRun `json:",omitzero"`
}

// ProofAsked says that a proof is to be done now.
type ProofAsked struct {
	Number int
	Role   field.RoleName
	Name   string
	By     string
}

// ProofEnded says what came of a proof.
type ProofEnded struct {
	Number int
	Role   field.RoleName
	Name   string
	ProofResult
}

func (f ProofAsked) apply(s *State, at time.Time) {
	p := s.changeProof(KeyOf(f.Role, f.Name))
	p.Running = &ProofRun{Number: f.Number, Role: f.Role, Name: f.Name, By: f.By, Asked: at}
	s.ProofCount = max(s.ProofCount, f.Number)
}

// Sentence words the fact for the journal.
func (f ProofAsked) Sentence() string {
	return fmt.Sprintf("proof %s of %s asked for by %s", f.Name, f.Role, f.By)
}

func (f ProofEnded) apply(s *State, at time.Time) {
	p := s.changeProof(KeyOf(f.Role, f.Name))
	if p.Running == nil || p.Running.Number != f.Number {
		return // another was asked for since
	}
	run := *p.Running
	run.Ended, run.ProofResult = at, f.ProofResult
	p.Running, p.Last = nil, &run
}

// Sentence words the fact for the journal.
func (f ProofEnded) Sentence() string {
	if f.OK {
		return fmt.Sprintf("proved: %s of %s, in %s", f.Name, f.Role, field.Brief(f.Took))
	}
	why, _, _ := strings.Cut(f.Why, "\n")
	return fmt.Sprintf("%s of %s is not proved: %s", f.Name, f.Role, why)
}

// changeProof gives a proof to be changed. What others have of it stays as it is.
func (s *State) changeProof(key ProofKey) *Proof {
	next := map[ProofKey]*Proof{}
	for k, p := range s.Proofs {
		next[k] = p
	}
	p := &Proof{}
	if before := next[key]; before != nil {
		*p = *before
	}
	next[key] = p
	s.Proofs = next
	return p
}

// ProofsDue lists the proofs that are asked for and not done, of roles that are there.
func (s *State) ProofsDue() []*ProofRun {
	var due []*ProofRun
	if len(s.Proofs) == 0 || s.Field == nil || s.Retiring || s.Retired {
		return nil
	}
	for i := range s.Field.Roles {
		r := &s.Field.Roles[i]
		for _, p := range r.AllProofs() {
			if known := s.Proofs[KeyOf(r.Name, p.Name)]; known != nil && known.Running != nil {
				due = append(due, known.Running)
			}
		}
	}
	return due
}

// sinceRollout tells whether a proof was asked for since the newest rollout began.
func (s *State) sinceRollout(run *ProofRun) bool { return !run.Asked.Before(s.Rollout.Began) }

// ProvedSince tells whether a proof was done, or is being done, since the newest rollout began.
func (s *State) ProvedSince(key ProofKey) bool {
	known := s.Proofs[key]
	return known != nil && (known.Running != nil || known.Last != nil && s.sinceRollout(known.Last))
}

// Proved tells whether every proof of a role has passed since the newest rollout began.
func (s *State) Proved(role *field.Role) bool {
	for _, p := range role.AllProofs() {
		known := s.Proofs[KeyOf(role.Name, p.Name)]
		if known == nil || known.Last == nil || !known.Last.OK || !s.sinceRollout(known.Last) {
			return false
		}
	}
	return true
}
