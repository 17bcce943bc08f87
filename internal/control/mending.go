package control

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"sync"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/mending"
	"lanternfield/internal/core/preflight"
	"lanternfield/internal/core/state"
	"lanternfield/internal/ground"
	"lanternfield/internal/ground/hosts"
	"lanternfield/internal/ground/kind"
	"lanternfield/internal/inspect"
	"lanternfield/internal/secureshell"
)

// MendAsked is what is to be done on machines of a draft.
type MendAsked struct {
	Draft *field.Field        `json:"draft"`
	Steps []preflight.Mending `json:"steps"`
	By    string              `json:"by"`
}

// MendOutcome is what came of a step; Why is empty where it was done.
type MendOutcome struct {
	preflight.Mending
	Entry mending.Entry `json:"entry"`
	Why   string        `json:"why,omitempty"`
}

// mendWithin is how long a machine may take: package managers fetch what they install.
const mendWithin = 15 * time.Minute

// Mend does on machines what preflight has offered. It is in the ledger before it is done. One machine that fails stops no other.
func (c *Controller) Mend(ctx context.Context, ask MendAsked) ([]MendOutcome, error) {
	if c.sealed != nil {
		return nil, c.sealed
	}
	if err := c.trusted(); err != nil {
		return nil, err
	}
	p, err := c.folder.flight(c.current(), ask.Draft, c.ground)
	if err != nil {
		return nil, err
	}
	out := make([]MendOutcome, len(ask.Steps))
	by := map[field.NodeName][]int{}
	for i, m := range ask.Steps {
		out[i].Mending = m
		by[m.Node] = append(by[m.Node], i)
	}
	p.nodes = slices.DeleteFunc(p.nodes, func(n *looked) bool { return len(by[n.Name]) == 0 || !kind.Machines(n.Ground) })
	known := map[field.NodeName]bool{}
	for _, n := range p.nodes {
		known[n.Name] = true
	}
	for i := range out {
		if !known[out[i].Node] {
			out[i].Why = fmt.Sprintf("%s is no machine of its own in this draft", out[i].Node)
		}
	}
	ctx, cancel := context.WithTimeout(ctx, mendWithin)
	defer cancel()
	p.each(func(n *looked) {
		p.reach(ctx, n)
		if n.ask != nil {
			defer n.ask.Close()
		}
		for _, i := range by[n.Name] {
			out[i].Entry, out[i].Why = c.mend(ctx, p.draft, n, ask.Steps[i].Step, ask.By)
		}
	})
	return out, nil
}

// mend does one step on a machine.
func (c *Controller) mend(ctx context.Context, draft *field.Field, n *looked, step mending.Step, by string) (e mending.Entry, why string) {
	if n.ask == nil {
		_, cell := n.Worst()
		if len(cell.Problems) > 0 {
			return e, cell.Problems[0].Why
		}
		return e, "it cannot be reached"
	}
	begin := engine.BeginMending{Node: n.Name, Address: n.Address, Ground: draft.GroundFor(n.declared), Step: step, By: by}
	if err := c.submit(ctx, input{in: begin}); err != nil {
		return e, err.Error()
	}
	a, err := n.ask.Ask(ctx, inspect.Request{Field: draft.Name, Mend: []mending.Step{step}})
	if err != nil {
		return e, err.Error() // what came of it is not known, which stands in the ledger
	}
	if len(a.Mended) != 1 {
		return e, "its agent is of an older lanternfield, and cannot do that: deploy once, which replaces it"
	}
	if err := c.submit(ctx, input{in: engine.EndMending{Node: n.Name, Entry: a.Mended[0].Entry, Why: a.Mended[0].Why}}); err != nil {
		return e, err.Error()
	}
	return a.Mended[0].Entry, a.Mended[0].Why
}

// settle undoes what was done on a machine, entry by entry, over a connection to it. What cannot be undone stays owed.
func (c *Controller) settle(ctx context.Context, node field.NodeName, conn *inspect.Client) (owed int) {
	account := c.current().Ledger[node]
	for _, e := range c.current().Mended() {
		if e.Node != node {
			continue
		}
		said := engine.Settle{Node: node, Key: e.Key()}
		a, err := conn.Ask(ctx, inspect.Request{Field: fieldName(c.folder), Undo: []mending.Entry{account.Entries[e.Key()]}})
		switch {
		case err != nil:
			said.Why = err.Error()
		case len(a.Undone) != 1:
			said.Why = "its agent is of an older lanternfield"
		default:
			said.Stays, said.Why = a.Undone[0].Stays, a.Undone[0].Why
		}
		if said.Why != "" {
			owed++
		}
		if err := c.submit(ctx, input{in: said}); err != nil {
			slog.Warn("what was undone on a machine cannot be noted", "node", node, "error", err)
		}
	}
	return owed
}

// settle undoes what was done on the node's machine, through its agent, before it is freed.
func (d *driver) settle(ctx context.Context) {
	c := d.control
	c.mu.Lock()
	any := len(c.state.Ledger[d.node].Entries) > 0
	c.mu.Unlock()
	if !any || c.sealed != nil || d.at.Address == "" {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, mendWithin)
	defer cancel()
	client, err := c.ground.Ensure(ctx, d.node, d.at)
	if err != nil {
		return // the release is tried again when it can be reached
	}
	defer client.Close()
	conn, err := client.Inspect(ctx)
	if err != nil {
		slog.Warn("what was done on a machine cannot be undone through its agent", "node", d.node, "error", err)
		return
	}
	ask := inspect.NewClient(conn)
	defer ask.Close()
	c.settle(ctx, d.node, ask)
}

// SettleLedger undoes what nobody has a use for any more on the machines that are named, or on all: of nodes that were given up, and of fields that were retired.
func (c *Controller) SettleLedger(ctx context.Context, only []field.NodeName) error {
	if c.sealed != nil {
		return c.sealed
	}
	s := c.current()
	var nodes []field.NodeName
	for _, e := range s.Mended() {
		named := slices.Contains(only, e.Node)
		if n := s.Nodes[e.Node]; named && n != nil && !n.Released && !s.Retired {
			return fmt.Errorf("%s is in the field: take it out of the file and deploy, or retire the field, and what was done there is undone", e.Node)
		}
		if (e.Due || s.Field == nil) && (len(only) == 0 || named) && !slices.Contains(nodes, e.Node) {
			nodes = append(nodes, e.Node)
		}
	}
	ctx, cancel := context.WithTimeout(ctx, mendWithin)
	defer cancel()
	var mu sync.Mutex
	var failed []error
	var working sync.WaitGroup
	for _, node := range nodes {
		working.Go(func() {
			err := c.settleLater(ctx, node, s.Ledger[node])
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				failed = append(failed, fmt.Errorf("%s: %w", node, err))
			}
		})
	}
	working.Wait()
	return errors.Join(failed...)
}

// settleLater undoes what was done on a machine on which nothing else of ours is any more.
func (c *Controller) settleLater(ctx context.Context, node field.NodeName, account state.Account) error {
	if account.Ground.Kind != kind.SSH {
		return errors.New("nobody can log in there from here: undo it there by hand, as the ledger says")
	}
	h, err := c.folder.hosts()
	if err != nil {
		return err
	}
	want := ground.Want{Node: field.Node{Name: node, Ground: account.Ground, Address: account.Address}, Address: account.Address}
	conn, _, err := h.Inspect(ctx, want)
	if err != nil {
		for key := range account.Entries {
			_ = c.submit(ctx, input{in: engine.Settle{Node: node, Key: key, Why: err.Error()}})
		}
		return err
	}
	defer conn.Close()
	if owed := c.settle(ctx, node, conn); owed > 0 {
		return fmt.Errorf("%d things could not be undone; `lanternfield ledger` says which, and why", owed)
	}
	return nil
}

// Ledger lists what was done on machines and not undone.
func (f Folder) Ledger() ([]state.LedgerEntry, error) {
	s, err := readState(f)
	if err != nil && !errors.Is(err, ErrNothing) {
		return nil, err
	}
	var list []state.LedgerEntry
	if err == nil {
		list = s.LedgerOf()
	}
	for _, node := range f.broughtKeys().Nodes() { // which may have been before anything was deployed
		var b hosts.Brought
		if f.broughtKeys().Read(node, &b) {
			list = append(list, state.LedgerEntry{Node: node, Entry: mending.Entry{At: b.At},
				What: fmt.Sprintf("the key %s, by which %s lets us in", secureshell.Fingerprint(b.Public), b.Host)})
		}
	}
	if err != nil && len(list) == 0 {
		return nil, err
	}
	return list, nil
}

// Mend does on machines what preflight has offered.
func (r *remote) Mend(ctx context.Context, ask MendAsked) ([]MendOutcome, error) {
	var out []MendOutcome
	return out, r.call(ctx, http.MethodPost, "/v1/mend", ask, &out)
}

// SettleLedger undoes what nobody has a use for any more.
func (r *remote) SettleLedger(ctx context.Context, only []field.NodeName) error {
	return r.call(ctx, http.MethodPost, "/v1/settle", only, &struct{}{})
}
