package state

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/core/wording"
)

// Condensed stands for older detail that is not kept: what had happened up to its time. It carries the state that all of it led to, so that
// whoever folds the log goes on from there. What stays beside it (see Stays) is for the journal.
type Condensed struct {
	Version int            // of what this event holds, not of the folding
	Until   time.Time      // the newest of what was condensed
	Counts  map[string]int `json:",omitempty"` // of what is not kept, by kind
	State   []byte         // see Encode
	Sum     int64          `json:",omitempty"` // of the log as it was before, up to here: with it the events after this one go on
}

// CondensedVersion is the newest version of a Condensed event.
const CondensedVersion = 1

func (f Condensed) apply(s *State, _ time.Time) {
	then, err := Decode(f.State)
	if err != nil {
		return // see Check
	}
	*s = *then
	s.Condensed = f.Until
}

// Check tells whether the event can be folded by this version.
func (f Condensed) Check() error {
	if f.Version > CondensedVersion {
		return fmt.Errorf("a newer version has condensed this log")
	}
	_, err := Decode(f.State)
	return err
}

// Sentence words the fact for the journal.
func (f Condensed) Sentence() string {
	n := 0
	for _, c := range f.Counts {
		n += c
	}
	return fmt.Sprintf("detail from before is condensed: %s", wording.Counted(n, "event"))
}

// Plus counts what an earlier event condensed too.
func (f Condensed) Plus(counts map[string]int) Condensed {
	sum := maps.Clone(counts)
	if sum == nil {
		sum = map[string]int{}
	}
	for kind, n := range f.Counts {
		sum[kind] += n
	}
	f.Counts = sum
	return f
}

// Stays tells whether a fact is kept when older detail is condensed: what was deployed, who came and went, who votes, what was taken
// down, who held the field.
func Stays(f Fact) bool {
	switch f := f.(type) {
	case Accepted, MemberPlanned, MemberGone, MemberLeaving, RoleFounded, RoleDissolved, MemberAdmitted, MemberLeft, StopAsked, StartAsked, RetireAsked,
		NodeAsked, NodeBound, NodeReleased, NodeAccounted, FieldRetired, RolloutEnded, RolloutFailed, LogTakenOver, StrayFound, StrayGone, ReportsDropped:
		return true
	case AgentsRevoked, ControllersRevoked, AgentsAuthorityMade, AgentsAuthorityWithdrawn:
		return true
	case AuthorityMade, AuthorityWithdrawn, SecretChanged, CertificateInstalled, CertificateRemoved:
		return true
	case OperationDone, ProofEnded, NoticeBegun, NoticeOver, ClockJumped:
		return true
	case RestartAsked:
		return !f.Part
	}
	return false
}

// Kinds lists the names of all kinds of facts.
func Kinds() []string { return slices.Sorted(maps.Keys(kinds)) }

// Zero gives an empty fact of a kind; nil where there is no such kind.
func Zero(kind string) Fact {
	f, err := DecodeFact(strings.TrimSpace(kind), []byte("{}"))
	if err != nil {
		return nil
	}
	return f
}
