// Package control owns one field: its log, its engine, its ground. Screens and commands act and look through a Session
// and never reach past it; whether the field is held by this process or by another makes no difference to them.
package control

import (
	"context"
	"fmt"
	"strings"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/health"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

// Session is a way to a field that a controller holds.
type Session interface {
	// Snapshot gives the field as it is now.
	Snapshot(ctx context.Context) (*snapshot.Snapshot, error)
	// Watch gives a snapshot now and after every change. Slow readers miss some, never the last. The channel is closed
	// when the context ends or the controller does.
	Watch(ctx context.Context) (<-chan *snapshot.Snapshot, error)
	// Review lists what deploying the draft would change.
	Review(ctx context.Context, draft *field.Field) (*plan.Review, error)
	// Preview renders what a member would be run with by the draft, and what it runs with.
	Preview(ctx context.Context, draft *field.Field, member field.MemberName) (*review.Files, error)
	// Trust lists the authorities and the certificates of members, with those that they show.
	Trust(ctx context.Context) (*snapshot.Trust, error)
	// Access says how clients get at roles.
	Access(ctx context.Context, ask AccessAsked) ([]Access, error)
	// ChangeSecret has another secret take the place of one, and says what follows.
	ChangeSecret(ctx context.Context, ask SecretAsked) (*plan.Review, error)
	// Outside makes a signing request, installs a certificate from outside, or removes it.
	Outside(ctx context.Context, ask OutsideAsked) (*OutsideAnswer, error)
	// Seal changes how the keyring is sealed.
	Seal(ctx context.Context, s Seals) error
	// Invite lets machines join. What it gives is given once.
	Invite(ctx context.Context, ask InviteAsked) (*Invitation, error)
	// Mend does on machines what preflight has offered, and SettleLedger undoes what nobody has a use for any more, on those that are named or on all.
	Mend(ctx context.Context, ask MendAsked) ([]MendOutcome, error)
	SettleLedger(ctx context.Context, only []field.NodeName) error
	// Do carries out an order: it returns when the order is stored, not when it has come true.
	Do(ctx context.Context, o Request) error
	// Journal gives a part of the journal, oldest first.
	Journal(ctx context.Context, r Range) ([]Entry, error)
	// Past gives the field as it was at that moment, as far as is known by now.
	Past(ctx context.Context, at time.Time) (*snapshot.Snapshot, error)
	// Lines gives what members wrote: for each of them what came after the given place of its log, or, where that is
	// negative, its last lines. Members whose agents do not answer are left out.
	Lines(ctx context.Context, after map[field.MemberName]int64) (map[field.MemberName]agentapi.Log, error)
	// Search looks for lines of members on their nodes, the newest first.
	Search(ctx context.Context, ask SearchAsked) (*SearchFound, error)
	// Tide gives how many lanterns were lit over time, oldest first, since that moment.
	Tide(ctx context.Context, since time.Time) ([]Sample, error)
	// Rollout tells a rollout, or a task, from its beginning to its end, or as far as it has come.
	Rollout(ctx context.Context, ask RolloutAsked) (*rollout.Record, error)
	// Rollouts lists the rollouts that are remembered, oldest first, the one that goes on last.
	Rollouts(ctx context.Context) ([]snapshot.RolloutView, error)
	// Health tells what was measured of a role over time.
	Health(ctx context.Context, ask HealthAsked) (*health.Told, error)
	// Close lets go of the field. What runs goes on.
	Close() error
}

// Request is what a person asks for.
type Request struct {
	What  string       `json:"what"` // deploy, stop, start, restart, prove, pause, go on, renew, rotate, finish rotating, give up, revoke, retire, or what stands in counting.go
	Draft *field.Field `json:"draft,omitempty"`
	Names []string     `json:"names,omitempty"` // roles, nodes and members; all when empty
	By    string       `json:"by"`

	Accepted *plan.Review `json:"accepted,omitempty"` // the review of the draft that was seen; a deploy that would do anything else is refused
	Anyway   bool         `json:"anyway,omitempty"`   // a deploy, although machines are not ready: what would come to those waits for them
	Without  []string     `json:"without,omitempty"`  // members whose data is given up, where a start is blocked since it may be the newest

	away    []field.NodeName // whose agents have no certificate by the newest authority
	rootKey string           // the fingerprint of the root of the authority that is to be made
}

// What is asked for about other fields.
const (
	finishRotating = "finish rotating"

	takeBack = "take back" // names: a role, and the field that it is taken back from
	handOver = "hand over" // names: a role, and the field to which it may be handed over again
)

// What is asked for about what is carried out.
const (
	StopHere = "stop here" // nothing new is begun, until something is deployed
	TryAgain = "try again" // names: members that have not come to where they were to come
)

// giveUp says that a node is gone for good; names: the node.
const giveUp = "give up"

// input turns an order into what the engine decides on.
func (o Request) input(s *state.State) (engine.Input, error) {
	switch o.What {
	case "deploy":
		if o.Draft == nil {
			return nil, fmt.Errorf("there is no draft to deploy")
		}
		return engine.Deploy{Draft: o.Draft, By: o.By, Accepted: o.Accepted}, nil
	case "retire":
		return engine.Retire{By: o.By}, nil
	case "pause":
		return engine.PauseRollout{By: o.By}, nil
	case "go on":
		return engine.ResumeRollout{By: o.By}, nil
	case StopHere:
		return engine.StopRollout{By: o.By}, nil
	case "rotate":
		return engine.MakeAuthority{By: o.By, Key: o.rootKey}, nil
	case takeBack:
		if len(o.Names) != 2 {
			return nil, fmt.Errorf("say which role is taken back from which field")
		}
		return engine.TakeBack{Role: field.RoleName(o.Names[0]), By: o.Names[1], Who: o.By}, nil
	case handOver:
		if len(o.Names) != 2 {
			return nil, fmt.Errorf("say which role may be handed over again to which field")
		}
		return engine.AllowLink{Role: field.RoleName(o.Names[0]), By: o.Names[1], Who: o.By}, nil
	case giveUp:
		if len(o.Names) != 1 {
			return nil, fmt.Errorf("say which node is gone for good, one at a time")
		}
		return engine.GiveUpNode{Node: field.NodeName(o.Names[0]), By: o.By}, nil
	case revoke:
		if len(o.Names) != 1 {
			return nil, fmt.Errorf("say which invitation is revoked, one at a time")
		}
		return engine.Revoke{ID: o.Names[0], By: o.By}, nil
	case RevokeAgents:
		in := engine.RevokeAgents{By: o.By}
		for _, name := range o.Names {
			in.Nodes = append(in.Nodes, field.NodeName(name))
		}
		return in, nil
	case RevokeControllers:
		return engine.RevokeControllers{By: o.By}, nil
	case RotateAgents:
		return engine.MakeAgentsAuthority{By: o.By}, nil
	case FinishAgents:
		return engine.WithdrawAgentsAuthority{By: o.By, Away: o.away}, nil
	case finishRotating:
		return engine.WithdrawAuthority{By: o.By}, nil
	}
	if o.What == "prove" {
		roles, err := rolesOf(s, o.Names)
		return engine.Prove{Roles: roles, By: o.By}, err
	}
	members, err := engine.Choose(s, o.Names)
	if err != nil {
		return nil, err
	}
	switch o.What {
	case "stop":
		return engine.StopMembers{Members: members, By: o.By}, nil
	case "start":
		without, err := engine.Choose(s, o.Without)
		if len(o.Without) == 0 {
			without = nil
		}
		return engine.StartMembers{Members: members, Without: without, By: o.By}, err
	case TryAgain:
		return engine.TryAgain{Members: members, By: o.By}, nil
	case "renew":
		return engine.RenewCertificates{Members: members, By: o.By}, nil
	case "restart":
		return engine.RestartMembers{Members: members, By: o.By}, nil
	}
	return nil, fmt.Errorf("there is no order %q", o.What)
}

// rolesOf gives the roles that words mean.
func rolesOf(s *state.State, names []string) ([]field.RoleName, error) {
	var roles []field.RoleName
	for _, name := range names {
		if s.Field == nil || s.Field.Role(field.RoleName(name)) == nil {
			var known []string
			if s.Field != nil {
				for i := range s.Field.Roles {
					known = append(known, string(s.Field.Roles[i].Name))
				}
			}
			if near := field.Nearest(name, known); near != "" {
				return nil, fmt.Errorf("there is no role %q; did you mean %q?", name, near)
			}
			return nil, fmt.Errorf("there is no role %q; there is %s", name, strings.Join(known, ", "))
		}
		roles = append(roles, field.RoleName(name))
	}
	return roles, nil
}

// Range is a part of the journal. The zero one is all of it.
type Range struct {
	After  uint64    `json:"after,omitempty"`  // those above that number
	Before uint64    `json:"before,omitempty"` // those below that number
	Last   int       `json:"last,omitempty"`   // the newest so many of those
	Since  time.Time `json:"since,omitzero"`   // those that happened from then on
	Limit  int       `json:"limit,omitempty"`  // the oldest so many of those
}

// Entry is an event in words.
type Entry struct {
	Seq  uint64    `json:"seq"`
	At   time.Time `json:"at"`
	Kind string    `json:"kind"`
	Text string    `json:"text"`

	Level  state.Level      `json:"level,omitempty"`
	Member field.MemberName `json:"member,omitempty"` // that it is about, where it is about one
	Role   field.RoleName   `json:"role,omitempty"`
	Node   field.NodeName   `json:"node,omitempty"`
}

// Sample is how the field was from that moment on.
type Sample struct {
	At       time.Time `json:"at"`
	Lit      int       `json:"lit"`
	Want     int       `json:"want"`
	Survives int       `json:"survives"` // of the weakest voting role; -1: its quorum is lost
	Votes    bool      `json:"votes"`    // there is a voting role
	Mark     string    `json:"mark,omitempty"`
}
