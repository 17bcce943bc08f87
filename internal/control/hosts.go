package control

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/ground"
	"lanternfield/internal/ground/hosts"
	"lanternfield/internal/ground/kind"
	"lanternfield/internal/keyring"
	"lanternfield/internal/secureshell"
)

// hosts gives the ground of hosts, to look at them with or without a keyring.
func (f Folder) hosts() (*hosts.Hosts, error) {
	ring, err := f.opened()
	var sealed *SealedError
	if errors.Is(err, keyring.ErrNone) || errors.As(err, &sealed) {
		return f.bareHosts(), nil
	}
	if err != nil {
		return nil, err
	}
	g, _, err := f.groundWith(ring)
	if err != nil {
		return nil, err
	}
	several, _ := g.(ground.Several)
	if h, ok := several[kind.SSH].(*hosts.Hosts); ok {
		return h, nil
	}
	return nil, errors.New("no hosts can be reached here")
}

// hostsOf are the nodes of a draft that are hosts reached by SSH, as they are asked for.
func hostsOf(draft *field.Field, only []field.NodeName) []ground.Want {
	var wants []ground.Want
	for i := range draft.Nodes {
		n := &draft.Nodes[i]
		if draft.GroundOf(n) == kind.SSH && (len(only) == 0 || slices.Contains(only, n.Name)) {
			wants = append(wants, wanted(draft, n, 0))
		}
	}
	return wants
}

// ShownKey is a key that a host shows and that is not believed: a new one, or another than before.
type ShownKey struct {
	Node    field.NodeName      `json:"node"` // to which the way leads; the host may be one on the way
	Host    string              `json:"host"`
	Key     secureshell.HostKey `json:"key"`
	Changed bool                `json:"changed"`
	Why     string              `json:"why"`
}

// HostKeys tells which hosts of a draft show keys that are not believed, and which cannot be asked, with the reasons.
func (f Folder) HostKeys(ctx context.Context, draft *field.Field, only []field.NodeName) (shown []ShownKey, unreached []error, err error) {
	wants := hostsOf(draft, only)
	if len(wants) == 0 {
		return nil, nil, errNoHosts
	}
	h, err := f.hosts()
	if err != nil {
		return nil, nil, err
	}
	errs := h.Reach(ctx, wants)
	for i, w := range wants {
		var fault *secureshell.Fault
		switch {
		case errs[i] == nil:
		case errors.As(errs[i], &fault) && fault.Key != nil:
			shown = append(shown, ShownKey{w.Node.Name, fault.Host, *fault.Key, fault.Kind == secureshell.ChangedKey, fault.Why})
		case !errors.As(errs[i], &fault) || fault.Kind != secureshell.Login: // who may log in is another matter
			unreached = append(unreached, errs[i])
		}
	}
	return shown, unreached, nil
}

// Brought is what came of bringing a key to a host.
type Brought struct {
	Node   field.NodeName `json:"node"`
	Before bool           `json:"before,omitempty"` // it let us in already; or, where keys are taken back, none was brought
	Why    string         `json:"why,omitempty"`    // it could not be done
}

// BringKey brings the key that hosts are logged in to with to those that do not let us in. Password is asked for once, where any does not.
func (f Folder) BringKey(ctx context.Context, draft *field.Field, only []field.NodeName, password func() (string, error)) ([]Brought, error) {
	wants := hostsOf(draft, only)
	if len(wants) == 0 {
		return nil, errNoHosts
	}
	h, err := f.hosts()
	if err != nil {
		return nil, err
	}
	out := make([]Brought, len(wants))
	var to []ground.Want
	var at []int
	for i, err := range h.Reach(ctx, wants) {
		out[i].Node = wants[i].Node.Name
		var fault *secureshell.Fault
		switch {
		case err == nil:
			out[i].Before = true
		case errors.As(err, &fault) && fault.Kind == secureshell.Login:
			to, at = append(to, wants[i]), append(at, i)
		default:
			out[i].Why = err.Error()
		}
	}
	if len(to) == 0 {
		return out, nil
	}
	word, err := password()
	if err != nil {
		return nil, err
	}
	for i, err := range h.BringKey(ctx, to, word) {
		if err != nil {
			out[at[i]].Why = err.Error()
		}
	}
	return out, nil
}

// TakeKeysBack takes keys away from hosts that were brought there. While a field is deployed, its hosts are reached by them.
func (f Folder) TakeKeysBack(ctx context.Context, draft *field.Field, only []field.NodeName) ([]Brought, error) {
	wants := hostsOf(draft, only)
	if len(wants) == 0 {
		return nil, errNoHosts
	}
	if s, err := readState(f); err == nil {
		for _, w := range wants {
			if n := s.Nodes[w.Node.Name]; n != nil && !n.Released && !s.Retired {
				return nil, fmt.Errorf("%s is deployed, and may be reached by that key alone: take it out of the file and deploy, or retire the field, before", w.Node.Name)
			}
		}
	}
	h, err := f.hosts()
	if err != nil {
		return nil, err
	}
	had := map[field.NodeName]bool{}
	for _, node := range f.broughtKeys().Nodes() {
		had[node] = true
	}
	out := make([]Brought, len(wants))
	for i, err := range h.TakeKeysBack(ctx, wants) {
		out[i] = Brought{Node: wants[i].Node.Name, Before: !had[wants[i].Node.Name]}
		if err != nil {
			out[i].Why = err.Error()
		}
	}
	return out, nil
}

// errNoHosts says that nothing of this is about the field.
var errNoHosts = errors.New("no node of the field is a host that is reached by SSH (`ground: {kind: ssh}`)")

// GiveUp says that a node is gone for good.
func GiveUp(ctx context.Context, s Session, node field.NodeName, by string) error {
	return s.Do(ctx, Request{What: giveUp, Names: []string{string(node)}, By: by})
}

// Believe notes that hosts have the keys that they show. Of one that had another, that is forgotten.
func (f Folder) Believe(keys []ShownKey) error {
	if err := f.Make(); err != nil {
		return err
	}
	for _, k := range keys {
		if k.Changed {
			if err := secureshell.Forget(f.keysOfHosts(), k.Key.Address); err != nil {
				return err
			}
		}
		if err := k.Key.Believe(f.keysOfHosts()); err != nil {
			return err
		}
	}
	return nil
}

// CopyFromHosts fetches the copies of a field's state that agents on hosts keep, and gives the file of the newest, in this folder, with why others could not be
// fetched.
func (f Folder) CopyFromHosts(ctx context.Context, draft *field.Field) (file string, unfetched []error, err error) {
	wants := hostsOf(draft, nil)
	if len(wants) == 0 {
		return "", nil, errNoHosts
	}
	h := f.bareHosts()
	var mu sync.Mutex
	var fetching sync.WaitGroup
	var newest time.Time
	for _, w := range wants {
		fetching.Go(func() {
			name := filepath.Join(f.own(), "copy-of-"+string(w.Node.Name))
			made, err := fetch(ctx, h, w, name)
			mu.Lock()
			defer mu.Unlock()
			switch {
			case errors.Is(err, fs.ErrNotExist): // three nodes at the most have one
			case err != nil:
				unfetched = append(unfetched, fmt.Errorf("%s: %w", w.Node.Name, err))
			case made.After(newest):
				file, newest = name, made
			}
		})
	}
	fetching.Wait()
	if file == "" {
		return "", unfetched, fmt.Errorf("no host of %s that could be asked has a copy of its state", draft.Name)
	}
	return file, unfetched, nil
}

// fetch fetches the copy that the agent of one node keeps, and tells when it was made.
func fetch(ctx context.Context, h *hosts.Hosts, w ground.Want, name string) (made time.Time, err error) {
	out, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return made, err
	}
	if err := errors.Join(h.CopyTo(ctx, w, out), out.Close()); err != nil {
		return made, errors.Join(err, os.Remove(name))
	}
	head, err := headOf(name)
	if err == nil && head.Field != h.Field {
		err = fmt.Errorf("it keeps a copy of another field, %s", head.Field)
	}
	return head.Made, err
}

// TakeHostKeys takes over which host keys were accepted in another folder of the field.
func (f Folder) TakeHostKeys(from Folder) error {
	data, err := os.ReadFile(from.keysOfHosts())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil {
		err = os.WriteFile(f.keysOfHosts(), data, 0o600)
	}
	return err
}
