package leaseguard

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"reflect"
	"time"

	"lanternfield/internal/core/lease"
	"lanternfield/internal/host"
)

// kept is what a guard keeps on disk.
type kept struct {
	Number uint64     `json:"number"` // the highest that it has gone by
	Lead   lease.Name `json:"lead"`   // whose that was

	Bound time.Duration `json:"bound,omitempty"` // until when it has promised to take nothing, since this start of the machine
	Boot  string        `json:"boot,omitempty"`
}

func (g *guard) begin() error {
	if err := os.MkdirAll("data/lease", 0o700); err != nil {
		return err
	}
	if err := g.configure(); err != nil {
		return err
	}
	if data, err := os.ReadFile(keptFile); err == nil {
		if err := json.Unmarshal(data, &g.kept); err != nil {
			return fmt.Errorf("%s cannot be read, and by it this member knows whom it may follow: %w", keptFile, err)
		}
	} else if !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if g.kept.Boot == bootID() {
		g.bound = g.kept.Bound // what an earlier run has promised; no promise outlives a start of the machine, which takes longer
	}
	if err := host.AdoptOrphans(); err != nil {
		return err
	}
	return g.listen()
}

const keptFile = "data/lease/kept.json"

// keep notes by which lease the member goes, before it does.
func (g *guard) keep(number uint64, lead lease.Name) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	k := g.kept
	k.Number, k.Lead = number, lead
	return g.put(k)
}

// put writes what the guard keeps. g.mu is held.
func (g *guard) put(k kept) error {
	if k == g.kept {
		return nil
	}
	next := keptFile + ".new"
	f, err := os.OpenFile(next, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString(text(k))
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(next, keptFile)
	}
	if err == nil {
		g.kept = k
	}
	return err
}

// configure reads the configuration where it has changed.
func (g *guard) configure() error {
	info, err := os.Stat(lease.ConfigFile)
	if err != nil {
		return err
	}
	if info.ModTime().Equal(g.read) {
		if at := g.believed(); !at.Equal(g.trusted) { // another authority
			g.trusted = at
			return g.connect()
		}
		return nil
	}
	data, err := os.ReadFile(lease.ConfigFile)
	if err != nil {
		return err
	}
	var c lease.Config
	if err := json.Unmarshal(data, &c); err != nil {
		return fmt.Errorf("%s: %w", lease.ConfigFile, err)
	}
	g.mu.Lock()
	before := g.config
	g.config = &c
	g.mu.Unlock()
	g.read = info.ModTime()
	g.trusted = g.believed()
	if before == nil || !reflect.DeepEqual(before.Store, c.Store) || g.store == nil {
		return g.connect()
	}
	return nil
}

func (g *guard) settings() *lease.Config {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.config
}

// believed tells when the authority that the store is believed by was changed.
func (g *guard) believed() time.Time {
	if info, err := os.Stat(g.config.StoreAuthority()); err == nil {
		return info.ModTime()
	}
	return time.Time{}
}

// connect opens the store anew.
func (g *guard) connect() error {
	if g.store != nil {
		g.stop()
		g.store.Close()
		g.have(nil)
	}
	s, err := open(g.config)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(context.Background())
	g.have(s)
	g.stop = cancel
	go func() {
		for ctx.Err() == nil {
			s.Changes(ctx, s.prefix, g.rouse)
			select {
			case <-ctx.Done():
			case <-time.After(storeWait):
			}
		}
	}()
	return nil
}

// have notes which store is asked.
func (g *guard) have(s *store) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.store = s
}
