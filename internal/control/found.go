package control

import (
	"context"
	"encoding/json"
	"log/slog"
	"math"
	"os"
	"path/filepath"
	"sync"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/preflight"
	"lanternfield/internal/ground/kind"
	"lanternfield/internal/identity"
	"lanternfield/internal/inspect"
)

// What machines have is noted as they are looked at, in a file that may be lost: the next look brings it back.

func (f Folder) machines() string { return filepath.Join(f.own(), "machines.json") }

// found gives what machines have that were looked at.
func (f Folder) found() map[field.NodeName]field.Size {
	name := f.machines()
	info, err := os.Stat(name)
	if err != nil {
		return nil
	}
	lastFound.Lock()
	defer lastFound.Unlock()
	if lastFound.name == name && lastFound.at.Equal(info.ModTime()) {
		return lastFound.sizes
	}
	var sizes map[field.NodeName]field.Size
	if data, err := os.ReadFile(name); err != nil || json.Unmarshal(data, &sizes) != nil {
		return nil
	}
	lastFound.name, lastFound.at, lastFound.sizes = name, info.ModTime(), sizes
	return sizes
}

// lastFound keeps what was read last. It is never changed.
var lastFound struct {
	sync.Mutex
	name  string
	at    time.Time
	sizes map[field.NodeName]field.Size
}

// noteFound notes what machines have. What differs by little, as free memory does from start to start, is left as it was: placement follows from it.
func (f Folder) noteFound(m *preflight.Matrix) {
	if _, err := os.Stat(f.own()); err != nil {
		return // nothing of the field is there yet
	}
	sizes := map[field.NodeName]field.Size{}
	for node, size := range f.found() {
		sizes[node] = size
	}
	changed := false
	for _, n := range m.Nodes {
		if n.Found == nil || !kind.Machines(n.Ground) || alike(sizes[n.Name], n.Found.Size()) {
			continue
		}
		sizes[n.Name], changed = n.Found.Size(), true
	}
	if !changed {
		return
	}
	data, err := json.Marshal(sizes)
	if err == nil {
		err = identity.WriteSynced(f.machines(), data)
	}
	if err != nil {
		slog.Warn("what machines have cannot be noted", "error", err)
	}
}

// findAgain looks at what a machine has whose agent has just been heard: it may be another one by now.
func (c *Controller) findAgain(ctx context.Context, d *driver, client agentapi.Agent) {
	if !kind.Machines(d.at.Kind) {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, lookWithin)
	defer cancel()
	conn, err := client.Inspect(ctx)
	if err != nil {
		return // whether it answers, the conversation finds out
	}
	ask := inspect.NewClient(conn)
	defer ask.Close()
	a, err := ask.Ask(ctx, inspect.Request{Folder: d.at.Dir})
	if err != nil || a.Machine == nil {
		return
	}
	c.noting.Lock()
	defer c.noting.Unlock()
	c.folder.noteFound(&preflight.Matrix{Nodes: []preflight.Node{{Name: d.node, Ground: d.at.Kind, Found: a.Machine}}})
}

// alike tells whether two sizes are the same for placing members.
func alike(a, b field.Size) bool {
	near := func(x, y float64) bool { return math.Abs(x-y) <= 0.05*max(x, y) }
	return near(a.CPU, b.CPU) && near(float64(a.Memory), float64(b.Memory)) && near(float64(a.Disk), float64(b.Disk))
}
