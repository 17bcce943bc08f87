package state

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"time"
	"unicode"
)

// Event is a fact with its time. Events are what is stored; see package store for their numbers.
type Event struct {
	At   time.Time
	Fact Fact
}

// Apply folds the event into the state. It never decides and never fails.
func Apply(s *State, e Event) {
	if !s.Reactive {
		e.Fact.apply(s, e.At)
		return
	}
	before := s.standing()
	e.Fact.apply(s, e.At)
	if s.standing() != before {
		s.Shape++
	}
}

// kinds maps the stored name of each fact to its type. Names are never changed: old logs must stay readable.
var kinds = func() map[string]reflect.Type {
	m := map[string]reflect.Type{}
	for _, f := range []Fact{TermRaised{}, Accepted{}, MemberPlanned{}, RoleFounded{}, MemberOrdered{}, OrderTaken{},
		OrderRefused{}, MemberStarted{}, StartFailed{}, MemberReady{}, MemberUnready{}, MemberExited{}, MemberReloaded{},
		MemberStopped{}, MemberGone{}, MemberLeaving{}, LeaderSeen{}, LeaderLost{}, RosterSeen{}, NodeDark{}, NodeBack{}, Heard{}, ReportsDropped{}, MemberVisited{}, VersionSeen{}, ProofAsked{}, ProofEnded{},
		StopAsked{}, StartAsked{}, RestartAsked{}, RetireAsked{}, NodeReleasing{}, NodeReleased{}, FieldRetired{}, RolloutPaused{}, RolloutResumed{}, RolloutEnded{},
		MemberAdmitted{}, MemberLeft{}, RoleDissolved{}, OperationAsked{}, OperationRetried{}, OperationDone{}, OperationUndone{}, OperationLost{},
		ChangeWaits{}, ProceduresResumed{}, RestartSpared{}, RolloutFailed{}, RosterUnread{}, RoleCold{}, MemberBegins{}, RoleWarm{}, StepsSkipped{},
		AgentBegan{}, LogTakenOver{}, StrayFound{}, StrayTaken{}, StrayGone{}, NodeAccounted{}, Condensed{}, NodeAsked{}, NodeBound{}, NodeFailed{},
		AuthorityMade{}, AuthorityWithdrawn{}, CertificateIssued{}, ClientCertified{}, SecretChanged{}, CertificateInstalled{}, CertificateRemoved{},
		LinkTold{}, LinkSilent{}, LinkDropped{}, LinkGranted{}, LinkGiven{}, LinkEnded{}, LinkAllowed{},
		Invited{}, MachineAdmitted{}, InvitationRevoked{}, MendingBegun{}, MendingDone{}, MendingUndone{}, MendingOwed{}, RulesKept{}, RulesRefused{},
		AgentsRevoked{}, ControllersRevoked{}, AgentsAuthorityMade{}, AgentsAuthorityWithdrawn{},
		NoticeBegun{}, NoticeOver{}, NoticeTold{}, ClockJumped{}} {
		m[KindOf(f)] = reflect.TypeOf(f)
	}
	return m
}()

// KindOf is the stored name of a fact, e.g. member-ready.
func KindOf(f Fact) string {
	var b strings.Builder
	for i, r := range reflect.TypeOf(f).Name() {
		if unicode.IsUpper(r) && i > 0 {
			b.WriteByte('-')
		}
		b.WriteRune(unicode.ToLower(r))
	}
	return b.String()
}

// EncodeFact gives a fact's stored name and content.
func EncodeFact(f Fact) (kind string, data []byte, err error) {
	data, err = json.Marshal(f)
	return KindOf(f), data, err
}

// DecodeFact reads what EncodeFact wrote.
func DecodeFact(kind string, data []byte) (Fact, error) {
	t, ok := kinds[kind]
	if !ok {
		return nil, fmt.Errorf("an event of kind %q is unknown to this version: a newer version has written it", kind)
	}
	v := reflect.New(t)
	if err := json.Unmarshal(data, v.Interface()); err != nil {
		return nil, fmt.Errorf("event of kind %q: %w", kind, err)
	}
	fact := v.Elem().Interface().(Fact)
	if c, is := fact.(Condensed); is && len(c.State) > 0 {
		if err := c.Check(); err != nil {
			return nil, fmt.Errorf("event of kind %q: %w", kind, err)
		}
	}
	return fact, nil
}
