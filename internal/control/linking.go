package control

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/link"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wording"
	"lanternfield/internal/keyring"
)

// How often another field is asked what it hands over: where it does, and, less and less often, where it does not.
const (
	linkEvery     = 30 * time.Second
	linkAgain     = time.Second
	linkAgainMost = 15 * time.Second
	linkAskWait   = 15 * time.Second
)

// linkAsked is how far the asking for a role of another field has come. It is the linking goroutine's own.
type linkAsked struct {
	next  time.Time
	pause time.Duration
	runs  int // that was told last

	called bool // that field has called for it
}

// linkSaid is what another field was told that members run with: the number of its newest authority, and how often telling it of a newer one has failed.
type linkSaid struct{ runs, tries int }

// linking keeps what other fields hand over as it is there.
func (c *Controller) linking(ctx context.Context) {
	asks := map[field.RoleName]*linkAsked{}
	for ctx.Err() == nil {
		changed := c.Changed()
		c.mu.Lock()
		any := c.sealed == nil && (len(c.state.Links) > 0 || c.state.Field != nil && slices.ContainsFunc(c.state.Field.Roles, func(r field.Role) bool { return r.Linked() }))
		c.mu.Unlock()
		if any {
			c.linkRound(ctx, asks)
		}
		select {
		case <-ctx.Done():
			return
		case <-changed:
		case <-c.nudged:
			for _, a := range asks {
				a.next, a.pause, a.called = time.Time{}, 0, true
			}
		case <-time.After(linkAgain):
		}
	}
}

func (c *Controller) linkRound(ctx context.Context, asks map[field.RoleName]*linkAsked) {
	s := c.current()
	for _, name := range engine.LinksToDrop(s) {
		c.giveBack(ctx, s, name)
	}
	if !s.Deployed() || s.Retiring {
		c.nudgesDone()
		return
	}
	for i := range s.Field.Roles {
		role := &s.Field.Roles[i]
		if !role.Linked() {
			continue
		}
		a := asks[role.Name]
		if a == nil {
			a = &linkAsked{}
			asks[role.Name] = a
		}
		if name := role.Name; i > 0 { // what was handed over a moment ago counts
			if s = c.current(); !s.Deployed() || s.Retiring || i >= len(s.Field.Roles) || s.Field.Roles[i].Name != name {
				return
			}
			role = &s.Field.Roles[i]
		}
		runs := s.LinkRuns(role)
		if time.Now().Before(a.next) && (runs == 0 || runs == a.runs) {
			continue
		}
		if !a.called && c.nothingNew(s, role, runs) {
			a.runs, a.next = runs, time.Now().Add(linkEvery)
			c.saidRuns(role.Name, runs, true)
			continue
		}
		a.called = false
		if x, known := s.Links[role.Name]; known && x.Content != nil && s.Has(role) == nil { // it stood for another one
			c.unneeded(ctx, x, role.Name)
		}
		a.runs = runs
		handed := c.ask(ctx, s, role, runs)
		if c.saidRuns(role.Name, runs, handed); handed {
			a.pause, a.next = 0, time.Now().Add(linkEvery)
		} else {
			a.pause = min(max(linkAgain, 2*a.pause), linkAgainMost)
			a.next = time.Now().Add(a.pause)
		}
	}
	c.nudgesDone()
}

// nothingNew tells whether nobody keeps the other field, and nothing of it has changed since it was asked last: it is not woken for that.
func (c *Controller) nothingNew(s *state.State, role *field.Role, runs int) bool {
	has := s.Has(role)
	if has == nil || has.Why != "" {
		return false
	}
	other := c.folder.other(role.External.Field)
	if now, _ := other.Holder(); now != nil {
		return false
	}
	share, err := other.share()
	g, known := share.given[state.GrantKey(s.Field.Name, role.Name)]
	return err == nil && share.deployed && known && g.Digest == has.Content.Digest() && g.Runs >= runs && (g.Issue.Number == 0 || time.Now().Before(g.Issue.Due()))
}

// saidRuns notes that another field was told what members run with, or that it could not be told.
func (c *Controller) saidRuns(role field.RoleName, runs int, heard bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	said := c.ranWith[role]
	if said.tries++; heard {
		said = linkSaid{runs: runs}
	}
	c.ranWith[role] = said
}

// runsUntold tells whether another field has yet to be told that members run with what it has issued: it withdraws the authority before only then. A field
// that does not answer is tried a few times. The controller's lock is held.
func (c *Controller) runsUntold() bool {
	if c.sealed != nil || !c.state.Deployed() || c.state.Retiring {
		return false
	}
	for i := range c.state.Field.Roles {
		role := &c.state.Field.Roles[i]
		if said := c.ranWith[role.Name]; role.Linked() && said.tries < grantTries && c.state.LinkRuns(role) > said.runs {
			return true
		}
	}
	return false
}

// nudgesDone notes that whoever has called for asking anew has been heard.
func (c *Controller) nudgesDone() {
	if len(c.nudged) == 0 {
		c.heeding.Store(false)
	}
}

// Nudge has other fields asked anew at once.
func (c *Controller) Nudge() error {
	if c.sealed != nil {
		return c.sealed
	}
	c.heeding.Store(true)
	select {
	case c.nudged <- struct{}{}:
	default:
	}
	return nil
}

// ask asks for a role of another field, and takes in what comes of it. It tells whether that was handed over.
func (c *Controller) ask(ctx context.Context, s *state.State, role *field.Role, runs int) bool {
	e := role.External
	said, err := c.askOther(ctx, e.Field, link.Ask{By: s.Field.Name, From: role.Name, Role: e.Role, Runs: runs})
	if ctx.Err() != nil {
		return false
	}
	miss := engine.MissLink{Role: role.Name, Field: e.Field, Of: e.Role}
	switch {
	case err != nil:
		miss.Why = err.Error()
	case said.Handed == nil:
		miss.Why, miss.Ended = said.Refused, said.Ended && s.Has(role) != nil
	default:
		if err = c.takeIn(ctx, s, role, said.Handed); err == nil {
			c.forgetOlder(s, role, runs)
			return true
		}
		miss.Why = err.Error()
	}
	if err := c.submit(ctx, input{in: miss}); err != nil {
		slog.Warn("it cannot be noted that another field hands nothing over", "field", e.Field, "error", err)
	}
	return false
}

// askOther asks who keeps another field, having it kept where nobody does.
func (c *Controller) askOther(ctx context.Context, name string, ask link.Ask) (*link.Answer, error) {
	ctx, cancel := context.WithTimeout(ctx, linkAskWait)
	defer cancel()
	other := c.folder.other(name)
	if share, err := other.share(); errors.Is(err, ErrNothing) || err == nil && !share.deployed {
		return &link.Answer{Refused: "it is not deployed", Ended: true}, nil
	}
	r, err := other.reached(ctx, c.folder.Wake)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	said := &link.Answer{}
	return said, r.call(ctx, http.MethodPost, "/v1/link", ask, said)
}

// takeIn keeps what was handed over: what is secret in the keyring first.
func (c *Controller) takeIn(ctx context.Context, s *state.State, role *field.Role, h *link.Handed) error {
	key, password := link.KeySecret(role.Name), link.PasswordSecret(role.Name)
	number := s.LinkCount + 1
	if x := s.Has(role); x != nil {
		hadKey, _ := c.ring.Given(key, x.Number)
		hadPassword, _ := c.ring.Given(password, x.Number)
		if hadKey == h.Key && hadPassword == h.Password {
			number = x.Number
		}
	}
	if number > s.LinkCount {
		err := c.ring.Change(func(k *keyring.Content) {
			for name, value := range map[string]string{key: h.Key, password: h.Password} {
				if value == "" {
					continue
				}
				if k.Given[name] == nil {
					k.Given[name] = map[int]string{}
				}
				k.Given[name][number] = value
			}
		})
		if err != nil {
			return err
		}
	}
	return c.submit(ctx, input{in: engine.TellLink{Role: role.Name, Field: role.External.Field, Of: role.External.Role, Content: h.Content, Number: number}})
}

// forgetOlder takes out of the keyring what was secret of a link before, once everybody runs with what is now.
func (c *Controller) forgetOlder(s *state.State, role *field.Role, runs int) {
	x := s.Has(role)
	if x == nil || runs != x.Content.Newest() || runs == 0 && x.Content.TLS {
		return
	}
	c.forget(role.Name, func(number int) bool { return number < x.Number })
}

// forget takes what is secret of a link out of the keyring, of those numbers.
func (c *Controller) forget(role field.RoleName, which func(number int) bool) {
	names := []string{link.KeySecret(role), link.PasswordSecret(role)}
	found := false
	for _, name := range names {
		for _, number := range c.ring.Numbers(name) {
			found = found || which(number)
		}
	}
	if !found {
		return
	}
	err := c.ring.Change(func(k *keyring.Content) {
		for _, name := range names {
			maps.DeleteFunc(k.Given[name], func(number int, _ string) bool { return which(number) })
			if len(k.Given[name]) == 0 {
				delete(k.Given, name)
			}
		}
	})
	if err != nil {
		slog.Warn("what another field had handed over cannot be taken out of the keyring", "role", role, "error", err)
	}
}

// unneeded tells another field that something of it is not needed any more. Where nobody can be told, that field finds out by itself.
func (c *Controller) unneeded(ctx context.Context, x state.Link, role field.RoleName) {
	ctx, cancel := context.WithTimeout(ctx, linkAskWait)
	defer cancel()
	other := c.folder.other(x.Field)
	if share, err := other.share(); err != nil || !share.deployed {
		return
	}
	r, err := other.reached(ctx, c.folder.Wake)
	if err == nil {
		err = r.call(ctx, http.MethodPost, "/v1/unlink", link.Ask{By: fieldName(c.folder), From: role, Role: x.Of}, &struct{}{})
		r.Close()
	}
	if err != nil {
		slog.Warn("another field cannot be told that something of it is not needed any more", "field", x.Field, "error", err)
	}
}

// giveBack gives back what another field had handed over.
func (c *Controller) giveBack(ctx context.Context, s *state.State, name field.RoleName) {
	c.unneeded(ctx, s.Links[name], name)
	if ctx.Err() != nil {
		return
	}
	c.forget(name, func(int) bool { return true })
	if err := c.submit(ctx, input{in: engine.DropLink{Role: name}}); err != nil {
		slog.Warn("it cannot be noted that something was given back", "role", name, "error", err)
	}
}

// Unlink notes that another field needs something of this one no longer.
func (c *Controller) Unlink(ctx context.Context, ask link.Ask) error {
	return c.submit(ctx, input{in: engine.EndLink{By: ask.By, From: ask.From, Why: "that field says that it needs it no longer"}})
}

// unlinked says which roles of other fields, that a draft names anew, would not be handed over.
func (f Folder) unlinked(live *state.State, draft *field.Field) error {
	var errs []error
	for i := range draft.Roles {
		role := &draft.Roles[i]
		if !role.Linked() || live != nil && live.Deployed() && live.Has(role) != nil {
			continue
		}
		e := role.External
		s, err := readState(f.other(e.Field))
		switch {
		case errors.Is(err, ErrNothing):
			names := f.siblings()
			text := "no other field is kept in " + filepath.Dir(f.Dir)
			if near := field.Nearest(e.Field, names); near != "" {
				text = fmt.Sprintf("did you mean %q?", near)
			} else if len(names) > 0 {
				text = "in " + filepath.Dir(f.Dir) + " there " + wording.Plural(len(names), "is ", "are ") + wording.And(names)
			}
			err = fmt.Errorf("there is no field %q; %s", e.Field, text)
		case err == nil:
			if err = engine.NoLink(s, link.Ask{By: draft.Name, From: role.Name, Role: e.Role}); err != nil {
				err = fmt.Errorf("%s does not hand it over: %w", e.Field, err)
			}
		}
		if err != nil {
			errs = append(errs, fmt.Errorf("%s is %s of %s: %w; nothing has been changed", role.Name, e.Role, e.Field, err))
		}
	}
	return errors.Join(errs...)
}

// siblings names the other fields of the state folder.
func (f Folder) siblings() []string {
	var names []string
	folders, _ := filepath.Glob(filepath.Join(filepath.Dir(f.Dir), "*"))
	for _, dir := range folders {
		other := Folder{Dir: dir}
		if _, err := os.Stat(other.events()); err == nil && dir != f.Dir {
			names = append(names, fieldName(other))
		}
	}
	return names
}
