package state

import (
	"reflect"
	"time"

	"lanternfield/internal/core/field"
)

// Subject is what a fact is about, as far as it is about one thing.
type Subject struct {
	Member field.MemberName
	Role   field.RoleName
	Node   field.NodeName
}

// SubjectOf finds what a fact is about by its fields of those types.
func SubjectOf(f Fact) Subject {
	var s Subject
	find(reflect.ValueOf(f), &s, 0)
	return s
}

func find(v reflect.Value, s *Subject, depth int) {
	for i := range v.NumField() {
		name := v.Type().Field(i).Name
		if !v.Type().Field(i).IsExported() {
			continue
		}
		switch x := v.Field(i).Interface().(type) {
		case time.Time:
		case field.MemberName:
			if s.Member == "" && (name == "Member" || name == "Name") {
				s.Member = x
			}
		case field.RoleName:
			if s.Role == "" {
				s.Role = x
			}
		case field.NodeName:
			if s.Node == "" {
				s.Node = x
			}
		default:
			if k := v.Field(i); k.Kind() == reflect.Struct && depth < 1 {
				find(k, s, depth+1)
			} else if k.Kind() == reflect.Pointer && !k.IsNil() && k.Elem().Kind() == reflect.Struct && depth < 1 {
				find(k.Elem(), s, depth+1)
			}
		}
	}
}

// Level tells how much a fact wants to be seen.
type Level string

// The levels of what is in a journal.
const (
	LevelInfo    Level = "info"
	LevelWarning Level = "warning"
	LevelError   Level = "error"
)

// LevelOf gives the level of a fact.
func LevelOf(f Fact) Level {
	switch f := f.(type) {
	case NoticeBegun:
		if f.Notice.Bad {
			return LevelError
		}
		return LevelWarning
	case NoticeTold:
		if f.Why != "" {
			return LevelError
		}
	case MemberExited, StartFailed, NodeDark, OrderRefused, RolloutFailed:
		return LevelError
	case LeaderSeen:
		switch {
		case len(f.Beside) > 0:
			return LevelError
		case f.Unsure != "":
			return LevelWarning
		}
	case MemberUnready, NodeFailed, LeaderLost, RosterUnread, RoleCold, ReportsDropped, OperationRetried, OperationUndone, OperationLost, RetireAsked, MemberLeaving,
		AgentBegan, LogTakenOver, StrayFound, ClockJumped:
		return LevelWarning
	case ProofEnded:
		if !f.OK {
			return LevelError
		}
	case MemberReloaded:
		if f.Why != "" {
			return LevelError
		}
	}
	return LevelInfo
}

// Rewind folds the events that had happened by that moment, in the order in which they were stored. Reports of agents may be
// stored late; they count from when they happened.
func Rewind(events []Event, at time.Time) *State {
	s := NewState()
	for _, e := range events {
		if !e.At.After(at) && s.Knows(e.Fact) {
			Apply(s, e)
		}
	}
	return s
}

// Knows tells whether what a fact is about exists yet: clocks of nodes may differ, so that a report can seem older than
// what led to it.
func (s *State) Knows(f Fact) bool {
	var members []field.MemberName
	switch f := f.(type) {
	case MemberPlanned, Accepted, Condensed, NodeAsked:
		return true
	case RoleFounded:
		members = f.Founders
	case StopAsked:
		members = f.Members
	case StartAsked:
		members = f.Members
	case RestartAsked:
		members = f.Members
	case RestartSpared:
		members = f.Members
	case ProceduresResumed:
		members = f.Members
	}
	about := SubjectOf(f)
	if about.Member != "" {
		members = append(members, about.Member)
	}
	for _, m := range members {
		if s.Member(m) == nil {
			return false
		}
	}
	return about.Node == "" || s.Nodes[about.Node] != nil
}
