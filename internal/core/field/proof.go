package field

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/expr-lang/expr/types"
)

// Proof is a check that a role really does its work: steps, each with what it must answer. What it writes goes into a namespace of its own.
type Proof struct {
	About string      `json:"about,omitempty"`
	Steps []ProofStep `json:"steps"`
	// Clean removes what the steps have written. It is done before them, since an earlier proof may have been cut short, and after them.
	Clean  []ProofStep `json:"clean,omitempty"`
	Within Duration    `json:"within,omitempty"` // how long the whole of it may take; 60 s when empty
	Every  Duration    `json:"every,omitempty"`  // how often it is done while somebody keeps the field; not on a schedule when empty
}

// ProofStep is one question of a proof, asked of one member or of several. Its texts are templates over the member that is asked, with .Value,
// .Space and .Once besides.
type ProofStep struct {
	Call
	SQL  *SQLCall `json:"sql,omitempty"`
	Say  string   `json:"say,omitempty"` // what it does, for people
	To   To       `json:"to,omitempty"`
	Of   RoleName `json:"of,omitempty"`   // whose members are asked; those of the proof's own role when empty
	From RoleName `json:"from,omitempty"` // from the node of one of whose members they are asked; from their own when empty
	// AtLeast is how many of the members that are asked must answer as expected, a number; all when empty. With Different it is how many different
	// values that expression must give over the answers to asking again and again, as behind an entry each may come from somebody else.
	AtLeast   Text              `json:"at_least,omitempty"`
	Different string            `json:"different,omitempty"`
	Expect    string            `json:"expect,omitempty"`
	Capture   map[string]string `json:"capture,omitempty"` // values that later steps have by .Value
	RetryFor  Duration          `json:"retry_for,omitempty"`
	Timeout   Duration          `json:"timeout,omitempty"` // of one try; 5 s when empty
}

// SQLCall is one statement, sent to a database by the controller.
type SQLCall struct {
	Driver    string `json:"driver"` // postgres or mysql
	URL       string `json:"url"`
	Statement string `json:"statement"`
}

// To is which members of a role a step asks.
type To string

// Whom a step asks.
const (
	ToOne    To = "one"    // one that is ready, the same in the whole proof
	ToLeader To = "leader" // who leads
	ToOthers To = "others" // all that are ready but those whom earlier steps have asked by one or leader
	ToEach   To = "each"   // all that are ready
)

// Sight is what expressions see of the answer to a step of a proof.
func (s ProofStep) Sight() Sight {
	if s.SQL != nil {
		row := types.Map{types.Extra: types.Any}
		return Sight{"rows": types.Array(row), "row": row, "me": types.String}
	}
	return SightOf(s.Call)
}

// NamedProof is a proof with its name and where in the role's declaration it stands.
type NamedProof struct {
	Name string
	Proof
	Path []string // below the role: program, proofs, NAME or proofs, NAME
}

// AllProofs lists the proofs of a role, those of its kit and those of the field, in the order of their names. The field's hide the kit's.
func (r *Role) AllProofs() []NamedProof {
	var out []NamedProof
	for _, name := range slices.Sorted(maps.Keys(r.Proofs)) {
		out = append(out, NamedProof{name, r.Proofs[name], []string{"proofs", name}})
	}
	if r.Program != nil {
		for _, name := range slices.Sorted(maps.Keys(r.Program.Proofs)) {
			if _, hidden := r.Proofs[name]; !hidden {
				out = append(out, NamedProof{name, r.Program.Proofs[name], []string{"program", "proofs", name}})
			}
		}
	}
	slices.SortFunc(out, func(a, b NamedProof) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// Proof finds a proof of the role by name.
func (r *Role) Proof(name string) (NamedProof, bool) {
	for _, p := range r.AllProofs() {
		if p.Name == name {
			return p, true
		}
	}
	return NamedProof{}, false
}

// ProofPart is steps of a proof under their key in the field file.
type ProofPart struct {
	Key   string
	Steps []ProofStep
}

// Parts lists the steps of a proof, in the order in which they are done at first.
func (p Proof) Parts() []ProofPart { return []ProofPart{{"clean", p.Clean}, {"steps", p.Steps}} }

// proofs checks what the schema cannot about the proofs of a role.
func (v *validator) proofs(r *Role) {
	for _, on := range slices.Sorted(maps.Keys(r.After)) {
		if target := v.Role(on); r.After[on] == GateProof && target != nil && len(target.AllProofs()) == 0 {
			v.add([]string{"roles", string(r.Name), "after", string(on)}, "give it a proof (proofs:), or wait for quorum, all, first or a number", "%s waits until %s is proved, and %s has no proofs", r.Name, on, on)
		}
	}
	for _, p := range r.AllProofs() {
		for _, part := range p.Parts() {
			for i, s := range part.Steps {
				at := func(rest ...string) []string {
					return slices.Concat([]string{"roles", string(r.Name)}, p.Path, []string{part.Key, strconv.Itoa(i)}, rest)
				}
				ways := 0
				for _, set := range []bool{s.HTTP != nil, s.TCP != nil, len(s.Exec) > 0, s.SQL != nil} {
					if set {
						ways++
					}
				}
				if ways != 1 {
					v.add(at(), "", "a step of a proof must say exactly one of http, tcp, exec and sql")
				}
				asked := r
				if s.Of != "" {
					if asked = v.Role(s.Of); asked == nil {
						v.add(at("of"), didYouMean(string(s.Of), v.roleNames()), "a step of the proof %s asks members of %q, and there is no such role", p.Name, s.Of)
						continue
					}
				}
				if asked.External != nil {
					v.add(at("of"), "", "%s is not ours, so that none of its members can be asked", asked.Name)
				}
				if s.To == ToLeader && (asked.Program == nil || asked.Program.Leader == nil) {
					v.add(at("to"), "ask one, others or each", "nobody is known to lead %s: its program has no leader probe", asked.Name)
				}
				for name, text := range s.Capture {
					v.proofExpression(at("capture", name), text, s, YieldsAny)
				}
				v.proofExpression(at("expect"), s.Expect, s, YieldsTruth)
				v.proofExpression(at("different"), s.Different, s, YieldsAny)
				v.proofCount(at, s)
				if from := v.Role(s.From); s.From != "" && (from == nil || from.External != nil) {
					v.add(at("from"), didYouMean(string(s.From), v.roleNames()), "a step of the proof %s is asked from %q, and there is no such role here", p.Name, s.From)
				}
				if s.From != "" && s.SQL != nil {
					v.add(at("from"), "take it out", "sql is sent by whoever keeps the field, from nowhere else")
				}
			}
		}
		if p.Every > 0 && time.Duration(p.Every) < leastEvery {
			v.add(slices.Concat([]string{"roles", string(r.Name)}, p.Path, []string{"every"}), "", "the proof %s is to be done every %s; %s is the least, since each is told in the journal", p.Name, Span(time.Duration(p.Every)), Span(leastEvery))
		}
		if len(p.Steps) == 0 {
			v.add(slices.Concat([]string{"roles", string(r.Name)}, p.Path), "", "the proof %s has no steps", p.Name)
		}
	}
}

// leastEvery is the shortest time between two runs of a proof on a schedule: each is told in the journal.
const leastEvery = 10 * time.Second

// proofCount checks how many must answer.
func (v *validator) proofCount(at func(...string) []string, s ProofStep) {
	switch _, err := s.Count(); {
	case s.Different != "" && s.AtLeast == "":
		v.add(at("different"), "say at_least", "different says what must differ, and nothing says how many values there must be")
	case s.Different != "" && (s.To == ToOthers || s.To == ToEach):
		v.add(at("different"), "ask one", "different is for asking one member again and again")
	case s.Different == "" && s.AtLeast != "" && s.To != ToOthers && s.To != ToEach:
		v.add(at("at_least"), "ask each or others, or say what must differ (different)", "at_least says how many must answer, and one is asked")
	case err != nil && !strings.Contains(string(s.AtLeast), "{{"):
		v.add(at("at_least"), "", "%s", err)
	}
}

// Count is how many must answer as expected; 0 where it says nothing.
func (s ProofStep) Count() (int, error) {
	if s.AtLeast == "" {
		return 0, nil
	}
	n, err := strconv.Atoi(strings.TrimSpace(string(s.AtLeast)))
	if err != nil || n < 0 {
		return 0, fmt.Errorf("%q is not a number of members or values", string(s.AtLeast))
	}
	return n, nil
}

// proofExpression compiles an expression of a step, unless it has first to be rendered.
func (v *validator) proofExpression(at []string, text string, s ProofStep, yields Yields) {
	if text == "" || strings.Contains(text, "{{") {
		return
	}
	if err := CheckExpression(text, s.Sight(), yields); err != nil {
		v.add(at, "", "this expression cannot be used: %s", err)
	}
}
