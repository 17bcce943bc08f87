package state

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/link"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/trust"
	"lanternfield/internal/core/wording"
)

// Link is what is known of a role of another field, by the role that stands for it here.
type Link struct {
	Field   string
	Of      field.RoleName
	Content *link.Content `json:",omitzero"` // nil until it was handed over; replaced as a whole
	Number  int           `json:",omitzero"` // of what is secret of it, in the keyring
	Since   time.Time     `json:",omitzero"`
	// Why says why that field hands it over no more, or has not yet; empty where it does.
	Why   string    `json:",omitzero"`
	WhyAt time.Time `json:",omitzero"`
	Ended bool      `json:",omitzero"` // it has said so itself
}

// Grant is what another field has of a role of this one.
type Grant struct {
	By    string         // that field
	From  field.RoleName // the role that stands for it there
	Role  field.RoleName
	Since time.Time
	Issue trust.Issue `json:",omitzero"` // of the certificate that its members show; its number is 0 where the role speaks no TLS
	// Digest is of what it was handed last, and Runs the number of the newest authority that its members run with.
	Digest string `json:",omitzero"`
	Runs   int    `json:",omitzero"`
	// Barred says who has taken it back, so that it is not handed over again.
	Barred string    `json:",omitzero"`
	At     time.Time `json:",omitzero"`
}

// GrantKey is by which grants are kept.
func GrantKey(by string, from field.RoleName) string { return by + "/" + string(from) }

// LinkTold says what another field hands over of a role.
type LinkTold struct {
	Role    field.RoleName
	Field   string
	Of      field.RoleName
	Content link.Content
	Number  int
}

// LinkSilent says that another field does not hand a role over, or no longer. What it handed over last stays known.
type LinkSilent struct {
	Role  field.RoleName
	Field string
	Of    field.RoleName
	Why   string
	Ended bool `json:",omitempty"` // it says so itself
}

// LinkDropped says that what another field has handed over is not needed any more, and not kept.
type LinkDropped struct{ Role field.RoleName }

// LinkGranted says that another field is handed a role over, or that its members are given another certificate for it.
type LinkGranted struct {
	Role   field.RoleName
	By     string
	From   field.RoleName
	Number int           `json:",omitempty"` // of the certificate
	For    time.Duration `json:",omitempty"`
}

// LinkGiven says what of it the other field has been given, and which authority its members run with.
type LinkGiven struct {
	Role   field.RoleName
	By     string
	From   field.RoleName
	Digest string
	Runs   int `json:",omitempty"`
}

// LinkEnded says that another field is not handed a role over any more: somebody has taken it back, or that field needs it no longer.
type LinkEnded struct {
	Role field.RoleName
	By   string
	From field.RoleName
	Why  string
	Who  string `json:",omitempty"` // has taken it back
}

// LinkAllowed says that a role that was taken back may be handed over again.
type LinkAllowed struct {
	Role field.RoleName
	By   string
	Who  string
}

// putLink replaces what is known of a link; the map may be shared with another copy of the state.
func (s *State) putLink(role field.RoleName, x Link) {
	links := maps.Clone(s.Links)
	if links == nil {
		links = map[field.RoleName]Link{}
	}
	links[role] = x
	s.Links = links
	s.Shape++
}

func (s *State) putGrant(key string, g Grant) {
	grants := maps.Clone(s.Grants)
	if grants == nil {
		grants = map[string]Grant{}
	}
	grants[key] = g
	s.Grants = grants
}

func (f LinkTold) apply(s *State, at time.Time) {
	content := f.Content
	x := Link{Field: f.Field, Of: f.Of, Content: &content, Number: f.Number, Since: at}
	if before := s.Links[f.Role]; before.Content != nil && before.Field == f.Field && before.Of == f.Of {
		x.Since = before.Since
	}
	s.LinkCount = max(s.LinkCount, f.Number)
	s.putLink(f.Role, x)
}

// Sentence words the fact for the journal.
func (f LinkTold) Sentence() string {
	var names []field.MemberName
	for _, m := range f.Content.Members {
		names = append(names, m.Name)
	}
	text := fmt.Sprintf("%s of %s is handed over as %s: %s", f.Of, f.Field, f.Role, wording.Members(names))
	if n := f.Content.Newest(); n > 0 {
		text += fmt.Sprintf(", by its authority %d, until %s", n, f.Content.Until.Local().Format("2 Jan 2006"))
	}
	return text
}

func (f LinkSilent) apply(s *State, at time.Time) {
	x := s.Links[f.Role]
	if x.Field != f.Field || x.Of != f.Of {
		x = Link{Field: f.Field, Of: f.Of}
	}
	x.Why, x.WhyAt, x.Ended = f.Why, at, f.Ended
	s.putLink(f.Role, x)
}

// Sentence words the fact for the journal.
func (f LinkSilent) Sentence() string {
	if f.Ended {
		return fmt.Sprintf("%s of %s is handed over as %s no longer: %s", f.Of, f.Field, f.Role, f.Why)
	}
	return fmt.Sprintf("%s of %s cannot be asked about for %s: %s", f.Of, f.Field, f.Role, f.Why)
}

func (f LinkDropped) apply(s *State, _ time.Time) {
	links := maps.Clone(s.Links)
	delete(links, f.Role)
	s.Links = links
	s.Shape++
}

// Sentence words the fact for the journal.
func (f LinkDropped) Sentence() string {
	return fmt.Sprintf("what was handed over as %s is given back", f.Role)
}

func (f LinkGranted) apply(s *State, at time.Time) {
	key := GrantKey(f.By, f.From)
	g := s.Grants[key]
	if g.Role != f.Role || g.Barred != "" {
		g = Grant{By: f.By, From: f.From, Role: f.Role, Since: at}
	}
	if f.Number > 0 {
		g.Issue = trust.Issue{Number: f.Number, By: s.AuthorityCount, From: at, Until: at.Add(f.For)}
	}
	s.GrantCount = max(s.GrantCount, f.Number)
	s.putGrant(key, g)
}

// Sentence words the fact for the journal.
func (f LinkGranted) Sentence() string {
	if f.Number == 0 {
		return fmt.Sprintf("%s is handed over to %s, as its %s", f.Role, f.By, f.From)
	}
	return fmt.Sprintf("%s is handed over to %s, as its %s, with a certificate for %s", f.Role, f.By, f.From, field.Span(f.For))
}

func (f LinkGiven) apply(s *State, _ time.Time) {
	key := GrantKey(f.By, f.From)
	if g, known := s.Grants[key]; known {
		g.Digest, g.Runs = f.Digest, f.Runs
		s.putGrant(key, g)
	}
}

// Sentence words the fact for the journal.
func (f LinkGiven) Sentence() string {
	return fmt.Sprintf("%s (its %s) has been told where %s is, and as whom to ask there", f.By, f.From, f.Role)
}

func (f LinkEnded) apply(s *State, at time.Time) {
	key := GrantKey(f.By, f.From)
	g, known := s.Grants[key]
	if !known {
		return
	}
	if f.Who != "" {
		g.Barred, g.At, g.Digest = f.Who, at, ""
		s.putGrant(key, g)
		return
	}
	s.endGrant(key)
}

func (s *State) endGrant(key string) {
	grants := maps.Clone(s.Grants)
	delete(grants, key)
	s.Grants = grants
}

// Sentence words the fact for the journal.
func (f LinkEnded) Sentence() string {
	if f.Who != "" {
		return fmt.Sprintf("%s is taken back from %s (its %s) by %s", f.Role, f.By, f.From, f.Who)
	}
	return fmt.Sprintf("%s is not handed over to %s (its %s) any more: %s", f.Role, f.By, f.From, f.Why)
}

func (f LinkAllowed) apply(s *State, _ time.Time) {
	for _, key := range slices.Sorted(maps.Keys(s.Grants)) {
		if g := s.Grants[key]; g.By == f.By && g.Role == f.Role && g.Barred != "" {
			s.endGrant(key)
		}
	}
}

// Sentence words the fact for the journal.
func (f LinkAllowed) Sentence() string {
	return fmt.Sprintf("%s may be handed over to %s again, says %s", f.Role, f.By, f.Who)
}

// Has is what was handed over for a role that stands for one of another field; nil where nothing was, or of another role than it stands for now.
func (s *State) Has(role *field.Role) *Link {
	x, known := s.Links[role.Name]
	if !known || !role.Linked() || x.Content == nil || x.Field != role.External.Field || x.Of != role.External.Role {
		return nil
	}
	return &x
}

// LinkAwaited is a role of another field that a role needs and that has not been handed over, and why; nil where there is none.
func (s *State) LinkAwaited(role *field.Role) (awaited *field.Role, why string) {
	for _, r := range s.Field.Links(role) {
		if s.Has(r) == nil {
			return r, s.Links[r.Name].Why
		}
	}
	return nil, ""
}

// LinkRuns is the number of the newest authority of the other field with which everybody runs who is told of that role; 0 where somebody does not yet.
func (s *State) LinkRuns(role *field.Role) int {
	has := s.Has(role)
	if has == nil {
		return 0
	}
	var scene *render.Scene
	for _, m := range s.Members {
		of := s.Field.Role(m.Role)
		if m.Phase == Gone || m.Leaving || of == nil || !slices.Contains(s.Field.Links(of), role) || m.Ordered.Want != order.Run {
			continue
		}
		if scene == nil {
			scene = s.Scene()
		}
		if spec, err := scene.Spec(m.Name); err != nil || m.Awaited() || m.RestartDue || len(m.Pending()) > 0 || !reflect.DeepEqual(spec, m.Ordered.Spec) {
			return 0
		}
	}
	return has.Content.Newest()
}

// GrantsOf lists what other fields have of a role, or, where that is empty, of all; not what was taken back.
func (s *State) GrantsOf(role field.RoleName) []Grant {
	var out []Grant
	for _, key := range slices.Sorted(maps.Keys(s.Grants)) {
		if g := s.Grants[key]; g.Barred == "" && (role == "" || g.Role == role) {
			out = append(out, g)
		}
	}
	return out
}

// GrantsPending lists what was handed over to members that do not run yet with what the newest authority has issued.
func (s *State) GrantsPending() []Grant {
	var out []Grant
	for _, g := range s.GrantsOf("") {
		if g.Issue.Number > 0 && g.Runs < s.AuthorityCount {
			out = append(out, g)
		}
	}
	return out
}
