package control

import (
	"context"
	"fmt"
	"sync"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/trust"
	"lanternfield/internal/identity"
	"lanternfield/internal/keyring"
)

// OutsideAsked asks for something about a role's certificate from outside.
type OutsideAsked struct {
	What   string         `json:"what"` // request, install or remove
	Role   field.RoleName `json:"role"`
	Anew   bool           `json:"anew,omitempty"`  // a request for another key than the one that was asked for before
	Chain  string         `json:"chain,omitempty"` // PEM
	Key    string         `json:"key,omitempty"`   // PEM; the one that a certificate was asked for, when empty
	By     string         `json:"by,omitempty"`
	Review bool           `json:"review,omitempty"` // only say what would follow
}

// OutsideAnswer is what comes of it.
type OutsideAnswer struct {
	Request string         `json:"request,omitempty"` // PEM
	Names   []string       `json:"names,omitempty"`   // that it is for
	Outside *trust.Outside `json:"outside,omitempty"`
	Review  *plan.Review   `json:"review,omitempty"`
}

// Outside makes a signing request for a role, installs a certificate from outside, or removes it.
func (c *Controller) Outside(ctx context.Context, ask OutsideAsked) (*OutsideAnswer, error) {
	if c.sealed != nil {
		return nil, c.sealed
	}
	if err := c.heard(ctx); err != nil {
		return nil, err
	}
	if err := c.trusted(); err != nil {
		return nil, err
	}
	s := c.current()
	if ask.What == "remove" {
		r, err := review.ChangedOutside(s, ask.Role, nil)
		if err == nil && !ask.Review {
			err = c.submit(ctx, input{in: engine.RemoveCertificate{Role: ask.Role, By: ask.By}})
		}
		return &OutsideAnswer{Review: r}, err
	}
	if err := engine.ShowsOutside(s, ask.Role); err != nil {
		return nil, err
	}
	names := s.Field.Role(ask.Role).Names
	if len(names) == 0 {
		return nil, fmt.Errorf("%s has no names under which clients reach it, and a certificate from outside is for names: say names: [%s.example] of it in the field file, and deploy", ask.Role, ask.Role)
	}
	if ask.What == "request" {
		return c.requestOutside(ask, names, s.Field.Name)
	}
	key := ask.Key
	if key == "" {
		if key = c.ring.Asked(string(ask.Role)); key == "" {
			return nil, fmt.Errorf("no certificate was asked for from here (trust request), so there is no key for %s: name the file that has it with --key", ask.Role)
		}
	}
	read, err := identity.ReadOutside(ask.Chain, key, names, time.Now())
	if err != nil {
		return nil, fmt.Errorf("the certificate cannot be shown by %s: %w; nothing has been changed", ask.Role, err)
	}
	of := trust.Outside{Number: s.RoleOf(ask.Role).OutsideCount + 1, Names: read.Names, Serial: read.Serial, Issuer: read.Issuer, From: read.From, Until: read.Until}
	out := &OutsideAnswer{Outside: &of, Names: read.Names}
	if out.Review, err = review.ChangedOutside(s, ask.Role, &of); err != nil || ask.Review {
		return out, err
	}
	if err := c.ring.Give(trust.OutsideSecret(string(ask.Role)), of.Number, read.Chain+read.Key); err != nil {
		return nil, err
	}
	return out, c.submit(ctx, input{in: engine.InstallCertificate{Role: ask.Role, Outside: of, By: ask.By}})
}

// requestOutside makes a signing request, for the key that was asked for before, where there is one.
func (c *Controller) requestOutside(ask OutsideAsked, names []string, organization string) (*OutsideAnswer, error) {
	before := ""
	if !ask.Anew {
		before = c.ring.Asked(string(ask.Role))
	}
	key, request, err := identity.Request(names, organization, before)
	if err == nil && key != before {
		err = c.ring.Change(func(k *keyring.Content) { k.Asked[string(ask.Role)] = key })
	}
	return &OutsideAnswer{Request: request, Names: names}, err
}

// outsideShown lists the certificates from outside, and asks their members, under each certificate's first name, which one they show.
func (c *Controller) outsideShown(ctx context.Context, s *state.State, agents *reach, out *snapshot.Trust) {
	var asking sync.WaitGroup
	scene := s.Scene()
	for i := range s.Field.Roles {
		role := &s.Field.Roles[i]
		of := s.RoleOf(role.Name).Outside
		if of == nil {
			continue
		}
		shown := snapshot.OutsideShown{Outside: *of, Role: role.Name, Missing: identity.Missing(of.Names, role.Names)}
		pem, _ := c.ring.Given(trust.OutsideSecret(string(role.Name)), of.Number)
		name := of.Names[0]
		if len(role.Names) > 0 {
			name = role.Names[0]
		}
		for _, m := range s.MembersOf(role.Name) {
			if m.Leaving || m.PID == 0 {
				continue
			}
			for _, port := range scene.SecuredForClients(role, m.Name) {
				served := &snapshot.OutsideOf{Member: m.Name, Served: snapshot.Served{Port: port, Number: s.Ports(m)[port]}}
				shown.Shown = append(shown.Shown, served)
				asking.Go(func() {
					agents.shown(ctx, m, &served.Served, field.TLSCall{Port: port, Name: name, Believe: identity.Vouching(pem)}, of.Serial)
				})
			}
		}
		out.Outside = append(out.Outside, shown)
	}
	asking.Wait()
}
