package control

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"path/filepath"
	"strconv"
	"sync"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/trust"
	"lanternfield/internal/identity"
	"lanternfield/internal/keyring"
)

// membersOf makes the certificates of the field's members. The root of the first authority follows from the field's key; each further one has a root of its
// own, so that who has learned the one before knows nothing of the next.
func membersOf(ring *keyring.Keyring) *identity.Members {
	return identity.MembersOf(func(number int) ([]byte, error) {
		if number == 1 {
			return sum(ring.Key(), "members' authority"), nil
		}
		root := ring.Root(number)
		if root == nil {
			return nil, fmt.Errorf("the key of authority %d is not in the keyring: put that back from a newer copy", number)
		}
		return root, nil
	})
}

// beforeRotation makes the root of the next authority, where it has none yet, and gives its fingerprint.
func (c *Controller) beforeRotation() (string, error) {
	if c.ring == nil {
		return "", c.sealed
	}
	c.mu.Lock()
	next := c.state.AuthorityCount + 1
	c.mu.Unlock()
	if root := c.ring.Root(next); root != nil { // it was made, and the authority was not
		return identity.Fingerprint(root), nil
	}
	root := make([]byte, 32)
	if _, err := rand.Read(root); err != nil {
		return "", err
	}
	return identity.Fingerprint(root), c.ring.Change(func(k *keyring.Content) { k.Roots[next] = root })
}

// servedWithin is how long members are asked which certificate they show.
const servedWithin = 4 * time.Second

// Trust lists the field's authorities and its members' certificates, and asks every member which one it shows.
func (c *Controller) Trust(ctx context.Context) (*snapshot.Trust, error) {
	if c.sealed != nil {
		return nil, c.sealed
	}
	s := c.current()
	out, err := snapshot.TrustOf(s, time.Now().UTC())
	if err != nil {
		return nil, err
	}
	if out.Bundle, err = c.members.Authorities(s.Field.Name, s.Authorities); err != nil {
		return nil, err
	}
	agents := newReach(c.ground, s)
	defer agents.close()
	var asking sync.WaitGroup
	for i := range out.Certificates {
		cert := &out.Certificates[i]
		m := s.Member(cert.Member)
		serial, err := c.members.Serial(cert.Of)
		if err != nil {
			return nil, err
		}
		cert.Serial = serial
		if m.PID == 0 || !s.Works(m) && m.Phase != state.Unready {
			continue
		}
		for _, port := range cert.Ports {
			served := &snapshot.Served{Port: port.Name, Number: port.Number}
			cert.Served = append(cert.Served, served)
			asking.Go(func() {
				agents.shown(ctx, m, served, field.TLSCall{Port: served.Port}, serial)
			})
		}
	}
	asking.Go(func() { c.agentsShown(ctx, s, agents, out) })
	asking.Wait()
	c.outsideShown(ctx, s, agents, out)
	return out, nil
}

// shown asks a member which certificate it shows, and whether that is the one with that serial number.
func (r *reach) shown(ctx context.Context, m *state.Member, served *snapshot.Served, call field.TLSCall, serial string) {
	said, err := r.ask(ctx, m.Node, m.Name, order.Question{Call: field.Call{TLS: &call}, Timeout: servedWithin,
		Capture: map[string]string{"serial": "body.serial", "until": "body.until"}})
	switch {
	case err != nil:
		served.Why = err.Error()
	case said.Silent:
		served.Silent = true
	case !said.OK:
		served.Why = said.Why
	default:
		served.Serial = said.Captured["serial"]
		seconds, _ := strconv.ParseInt(said.Captured["until"], 10, 64)
		served.Until, served.Same = time.Unix(seconds, 0).UTC(), served.Serial == serial
	}
}

// Access says how clients get at roles, or at one of them: in forms that name files in that folder. Secrets are in them only where they are asked for.
func (c *Controller) Access(ctx context.Context, ask AccessAsked) ([]Access, error) {
	if c.sealed != nil {
		return nil, c.sealed
	}
	s := c.current()
	if !s.Deployed() {
		return nil, errors.New("the field is not deployed, so there is no way in yet")
	}
	var out []Access
	for i := range s.Field.Roles {
		role := &s.Field.Roles[i]
		if ask.Role != "" && role.Name != ask.Role {
			continue
		}
		a, err := c.accessTo(ctx, s, role, ask)
		if err != nil {
			return nil, err
		}
		if a != nil {
			out = append(out, *a)
		}
	}
	return out, nil
}

// AccessAsked is what is asked of how clients get in.
type AccessAsked struct {
	Role    field.RoleName `json:"role,omitempty"`   // all when empty
	Folder  string         `json:"folder,omitempty"` // where a client's files are, or are to be
	Secrets bool           `json:"secrets,omitempty"`
	Files   bool           `json:"files,omitempty"` // what is to be in those files too
	By      string         `json:"by,omitempty"`
}

// Access is how clients get at a role.
type Access struct {
	render.Access
	Until time.Time         `json:"until,omitzero"`  // of the certificate that clients show
	Bring map[string]string `json:"bring,omitempty"` // the files that a client needs, by name
}

// The files of a client that the field makes.
const (
	AuthorityFile = "authority.pem"
	ClientFile    = "client.pem"
)

func (c *Controller) accessTo(ctx context.Context, s *state.State, role *field.Role, ask AccessAsked) (*Access, error) {
	paths := render.AccessPaths{Authority: filepath.Join(ask.Folder, AuthorityFile), Client: filepath.Join(ask.Folder, ClientFile)}
	found, err := s.Scene().AccessTo(role, paths)
	if found == nil || err != nil {
		return nil, err
	}
	a := &Access{Access: *found}
	kept := c.kept(nil)
	if !ask.Secrets {
		kept.Secret = func(render.Secret) string { return Hidden }
	}
	if ask.Files {
		if err := c.bring(ctx, s, role, a, ask.By); err != nil {
			return nil, err
		}
	}
	put := func(text string) string { return render.Put(text, kept) }
	a.Value = put(a.Value)
	for i := range a.Forms {
		a.Forms[i].Text = put(a.Forms[i].Text)
	}
	for name, value := range a.Env {
		a.Env[name] = put(value)
	}
	for name, text := range a.Files {
		a.Files[name] = put(text)
	}
	for i := range a.Command {
		a.Command[i] = put(a.Command[i])
	}
	return a, nil
}

// Hidden stands where a secret is not shown.
const Hidden = "••••••••"

// bring makes what is in a client's files.
func (c *Controller) bring(ctx context.Context, s *state.State, role *field.Role, a *Access, by string) error {
	a.Bring = map[string]string{}
	if !a.TLS {
		return nil
	}
	defer func() { a.Bring[AuthorityFile] += c.vouching(s, role.Name, a.Through) }()
	var err error
	if a.Bring[AuthorityFile], err = c.members.Authorities(s.Field.Name, s.Authorities); err != nil || !a.Client {
		return err
	}
	if err := c.submit(ctx, input{in: engine.CertifyClient{Role: role.Name, By: by, At: time.Now().UTC()}}); err != nil {
		return err
	}
	now := c.current()
	of := now.Scene().ClientOf(role.Name, now.RoleOf(role.Name).Client)
	chain, err := c.members.Chain(of)
	if err != nil {
		return err
	}
	key, err := c.members.Key(of)
	a.Bring[ClientFile], a.Until = chain+key, of.Issue.Until
	return err
}

// vouching is whom clients have to believe besides, where roles show certificates from outside to those who reach them by their names, as PEM.
func (c *Controller) vouching(s *state.State, roles ...field.RoleName) string {
	text := ""
	for _, of := range roles {
		if shown := s.RoleOf(of).Outside; of != "" && shown != nil {
			pem, _ := c.ring.Given(trust.OutsideSecret(string(of)), shown.Number)
			text += identity.Certificates(identity.Vouching(pem))
		}
	}
	return text
}
