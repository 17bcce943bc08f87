package warden

import (
	"encoding/json"
	"io"
	"maps"
	"strings"
	"sync"

	"github.com/hashicorp/raft"
)

// change is one entry of the log.
type change struct {
	Gone  bool   `json:"gone,omitempty"`
	Key   string `json:"k"`
	Value string `json:"v"`
}

// table is what the log adds up to.
type table struct {
	mu     sync.RWMutex
	values map[string]string
}

func newTable() *table { return &table{values: map[string]string{}} }

func (t *table) get(key string) (string, bool) {
	t.mu.RLock()
	defer t.mu.RUnlock()
	v, ok := t.values[key]
	return v, ok
}

func (t *table) size() int {
	t.mu.RLock()
	defer t.mu.RUnlock()
	return len(t.values)
}

func (t *table) list(prefix string) map[string]string {
	t.mu.RLock()
	defer t.mu.RUnlock()
	out := map[string]string{}
	for k, v := range t.values {
		if strings.HasPrefix(k, prefix) {
			out[k] = v
		}
	}
	return out
}

// Apply takes in an entry that a majority has.
func (t *table) Apply(l *raft.Log) any {
	var c change
	if err := json.Unmarshal(l.Data, &c); err != nil {
		return err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if c.Gone {
		delete(t.values, c.Key)
		return nil
	}
	t.values[c.Key] = c.Value
	return nil
}

// Snapshot gives the table as it is now.
func (t *table) Snapshot() (raft.FSMSnapshot, error) {
	t.mu.RLock()
	defer t.mu.RUnlock()
	return snapshot(maps.Clone(t.values)), nil
}

// Restore replaces the table by a snapshot.
func (t *table) Restore(from io.ReadCloser) error {
	defer from.Close()
	values := map[string]string{}
	if err := json.NewDecoder(from).Decode(&values); err != nil {
		return err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.values = values
	return nil
}

type snapshot map[string]string

// Persist writes the snapshot.
func (s snapshot) Persist(to raft.SnapshotSink) error {
	if err := json.NewEncoder(to).Encode(s); err != nil {
		_ = to.Cancel()
		return err
	}
	return to.Close()
}

// Release does nothing: a snapshot is a copy.
func (s snapshot) Release() {}
