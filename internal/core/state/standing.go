package state

import (
	"bytes"
	"encoding/json"
	"hash/fnv"

	"lanternfield/internal/core/field"
)

// reactive tells whether templates of a field say who of those that are called leads, or is ready: then files follow that too.
func reactive(f *field.Field) bool {
	if f == nil {
		return false
	}
	for i := range f.Roles {
		r := &f.Roles[i]
		if r.Program == nil || len(r.Calls)+len(r.Knows) == 0 {
			continue
		}
		text, err := json.Marshal(r.Program)
		if err == nil && (bytes.Contains(text, []byte(".Leads")) || bytes.Contains(text, []byte(".Ready"))) {
			return true
		}
	}
	return false
}

// standing sums up who works and who leads. It is the same as long as both are.
func (s *State) standing() uint64 {
	var sum uint64
	note := func(what, name string) {
		h := fnv.New64a()
		h.Write([]byte(what + " " + name))
		sum += h.Sum64() // in whatever order
	}
	for name, m := range s.Members {
		if s.Works(m) {
			note("works", string(name))
		}
	}
	for _, r := range s.Roles {
		if r.Leader != "" {
			note("leads", string(r.Leader))
		}
	}
	return sum
}
