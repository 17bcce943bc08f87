package engine

import (
	"fmt"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/mending"
	"lanternfield/internal/core/state"
)

// BeginMending says that something is about to be done on a machine: it is in the ledger before it is done.
type BeginMending struct {
	Node    field.NodeName
	Address string
	Ground  field.Ground
	Step    mending.Step
	By      string
}

// EndMending says what came of it.
type EndMending struct {
	Node  field.NodeName
	Entry mending.Entry
	Why   string // it failed
}

// Settle says what came of undoing it.
type Settle struct {
	Node       field.NodeName
	Key        string
	Stays, Why string // what is there all the same; why it could not be undone
}

func (in BeginMending) decide(*state.State) ([]state.Fact, error) {
	if err := in.Step.Valid(); err != nil {
		return nil, err
	}
	return []state.Fact{state.MendingBegun(in)}, nil
}

func (in EndMending) decide(s *state.State) ([]state.Fact, error) {
	if _, begun := s.Ledger[in.Node].Entries[in.Entry.Key()]; !begun {
		return nil, fmt.Errorf("nothing of the kind was begun on %s", in.Node)
	}
	return []state.Fact{state.MendingDone(in)}, nil
}

func (in Settle) decide(s *state.State) ([]state.Fact, error) {
	if _, stands := s.Ledger[in.Node].Entries[in.Key]; !stands {
		return nil, nil
	}
	if in.Why != "" {
		if s.Ledger[in.Node].Owed[in.Key] == in.Why {
			return nil, nil
		}
		return []state.Fact{state.MendingOwed{Node: in.Node, Key: in.Key, Why: in.Why}}, nil
	}
	return []state.Fact{state.MendingUndone{Node: in.Node, Key: in.Key, Stays: in.Stays}}, nil
}
