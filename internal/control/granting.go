package control

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/link"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/state"
)

// How often it is looked whether other fields are to be told something, at the least and at the most, and how often one that does not answer is tried.
const (
	grantLook  = 10 * time.Second
	grantPause = 200 * time.Millisecond
	grantTries = 4
)

// retired stands for the digest of what a field that is being retired hands over.
const retired = "retired"

// told is how far the telling of another field has come.
type told struct {
	digest string // of what it is told that there is
	tries  int
	next   time.Time
}

// Link hands a role of this field over to another one, which asks for it.
func (c *Controller) Link(ctx context.Context, ask link.Ask) (*link.Answer, error) {
	if c.sealed != nil {
		return nil, c.sealed
	}
	if err := c.trusted(); err != nil {
		return nil, err
	}
	if !field.NamePattern.MatchString(ask.By) {
		return nil, fmt.Errorf("%q cannot name a field; %s", ask.By, field.NameRule)
	}
	wish, err := c.folder.other(ask.By).share()
	if err != nil && !errors.Is(err, ErrNothing) {
		return nil, err
	}
	if asks := wish.links[ask.From]; asks.Field != fieldName(c.folder) || asks.Role != ask.Role {
		return nil, fmt.Errorf("%s, as it is deployed, does not ask for %s as its %s", ask.By, ask.Role, ask.From)
	}
	s := c.current()
	if err := engine.NoLink(s, ask); err != nil {
		return &link.Answer{Refused: err.Error(), Ended: true}, nil
	}
	if _, err := s.Scene().LinkTo(s.Field.Role(ask.Role)); err != nil {
		return &link.Answer{Refused: err.Error()}, nil
	}
	if err := c.submit(ctx, input{in: engine.GrantLink{Ask: ask, At: time.Now().UTC()}}); err != nil {
		return nil, err
	}
	s = c.current()
	handed, err := c.handed(s, s.Grants[state.GrantKey(ask.By, ask.From)], true)
	if err != nil {
		return nil, err
	}
	return &link.Answer{Handed: handed}, c.submit(ctx, input{in: engine.GiveLink{Ask: ask, Digest: handed.Content.Digest()}})
}

// handed is what a grant comes to now; with what is secret of it where that is asked for.
func (c *Controller) handed(s *state.State, g state.Grant, secrets bool) (*link.Handed, error) {
	role := s.Field.Role(g.Role)
	if role == nil {
		return nil, fmt.Errorf("there is no role %s", g.Role)
	}
	scene := s.Scene()
	content, err := scene.LinkTo(role)
	if err != nil {
		return nil, err
	}
	h := &link.Handed{Content: *content}
	var failed error
	kept := c.kept(&failed)
	h.Content.Authority = render.Put(content.Authority, kept) + c.vouching(s, role.Name, field.RoleName(content.Through))
	if g.Issue.Number > 0 {
		of := scene.LinkOf(g.Role, g.By, g.From, g.Issue)
		h.Content.Until = g.Issue.Until
		if h.Content.Certificate, err = c.members.Chain(of); err != nil {
			return nil, err
		}
		if h.Key, err = c.members.Key(of); err != nil {
			return nil, err
		}
	}
	if content.Secret != "" {
		h.Password = kept.Secret(s.SecretOf(content.Secret).InForce(content.Secret))
	}
	if !secrets {
		h.Key, h.Password = "", ""
	}
	return h, failed
}

// granting tells other fields when something has changed that they were handed over, and forgets those that need it no longer.
func (c *Controller) granting(ctx context.Context) {
	for ctx.Err() == nil {
		changed := c.Changed()
		c.mu.Lock()
		any := len(c.state.Grants) > 0 && c.sealed == nil
		c.mu.Unlock()
		if any {
			c.grantRound(ctx)
		}
		select {
		case <-ctx.Done():
			return
		case <-changed:
		case <-time.After(grantLook):
		}
		select { // changes come together
		case <-ctx.Done():
			return
		case <-time.After(grantPause):
		}
	}
}

func (c *Controller) grantRound(ctx context.Context) {
	s := c.current()
	if !s.Deployed() || s.Retiring {
		for _, g := range s.GrantsOf("") {
			c.tell(ctx, g, retired)
		}
		return
	}
	for _, g := range s.GrantsOf("") {
		wish, err := c.folder.other(g.By).share()
		if err != nil && !errors.Is(err, ErrNothing) {
			slog.Warn("another field cannot be read", "field", g.By, "error", err)
			continue
		}
		if asks := wish.links[g.From]; asks.Field != s.Field.Name || asks.Role != g.Role {
			why := "its field file does not name it any more"
			if !wish.deployed {
				why = "that field is not deployed any more"
			}
			_ = c.submit(ctx, input{in: engine.EndLink{By: g.By, From: g.From, Why: why}})
			continue
		}
		h, err := c.handed(s, g, false)
		if err != nil {
			continue // those who have it go on with it
		}
		digest := h.Content.Digest()
		if digest == g.Digest && !engine.LinkDue(s, g, time.Now()) {
			c.untold(g, nil)
			continue
		}
		c.tell(ctx, g, digest)
	}
}

// untold notes how far the telling of a field has come; nil where there is nothing to be told.
func (c *Controller) untold(g state.Grant, t *told) {
	c.mu.Lock()
	defer c.mu.Unlock()
	key := state.GrantKey(g.By, g.From)
	if t == nil {
		delete(c.telling, key)
		return
	}
	c.telling[key] = *t
}

// tell tells another field that there is something new, so that it asks. It is tried a few times: a field that does not answer asks when it is kept again.
func (c *Controller) tell(ctx context.Context, g state.Grant, digest string) {
	c.mu.Lock()
	t, known := c.telling[state.GrantKey(g.By, g.From)]
	c.mu.Unlock()
	if !known || t.digest != digest {
		t = told{digest: digest}
	}
	if t.tries >= grantTries || time.Now().Before(t.next) {
		return
	}
	t.tries++
	t.next = time.Now().Add(time.Duration(t.tries) * time.Second)
	c.untold(g, &t)
	err := c.nudge(ctx, g.By)
	if err == nil && digest == retired { // it is heard by what it finds, and has nothing to ask for
		t.tries = grantTries
		c.untold(g, &t)
	}
	if err != nil {
		slog.Warn("another field cannot be told that something it calls has changed", "field", g.By, "error", err)
	}
}

// tellingOthers tells whether other fields are still to be told something.
func (c *Controller) tellingOthers() bool {
	for _, t := range c.telling {
		if t.tries < grantTries {
			return true
		}
	}
	return false
}

// nudge has another field ask anew for what it calls of this one.
func (c *Controller) nudge(ctx context.Context, name string) error {
	r, err := c.folder.other(name).reached(ctx, c.folder.Wake)
	if err != nil {
		return err
	}
	defer r.Close()
	return r.call(ctx, http.MethodPost, "/v1/nudge?field="+url.QueryEscape(fieldName(c.folder)), nil, &struct{}{})
}

// wakeWait is how long a field that is woken may take to answer.
const wakeWait = 20 * time.Second

// reached gives a way to who keeps a field, having it kept where nobody does.
func (f Folder) reached(ctx context.Context, wake func(context.Context, Folder) error) (*remote, error) {
	r, err := dial(ctx, f)
	if err == nil {
		return r, nil
	}
	if wake == nil {
		return nil, fmt.Errorf("nobody keeps %s", fieldName(f))
	}
	ctx, cancel := context.WithTimeout(ctx, wakeWait)
	defer cancel()
	woken := wake(ctx, f)
	for {
		if r, err = dial(ctx, f); err == nil {
			return r, nil
		}
		var held *HeldError
		if woken != nil && !errors.As(woken, &held) {
			return nil, woken
		}
		select {
		case <-ctx.Done():
			return nil, errors.Join(woken, fmt.Errorf("who keeps %s does not answer", fieldName(f)))
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// takenBack has another field notice that something was taken back from it, or may be handed over to it again.
func (c *Controller) takenBack(ctx context.Context, o Request) {
	if err := c.nudge(ctx, o.Names[len(o.Names)-1]); err != nil {
		slog.Warn("another field cannot be told that something was taken back, or is handed over again", "field", o.Names, "error", err)
	}
}

// askPending has fields ask anew whose members, as far as is known, do not run yet with what the newest authority has issued: they may, and have not said it.
func (c *Controller) askPending(ctx context.Context) {
	for _, g := range c.current().GrantsPending() {
		if err := c.nudge(ctx, g.By); err != nil {
			slog.Warn("another field cannot be asked what its members run with", "field", g.By, "error", err)
		}
	}
}
