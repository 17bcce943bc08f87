package sqlite

import (
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"fmt"

	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
)

// keepSpec stores a spec and gives what stands for it in the event.
func (s *Log) keepSpec(tx *sql.Tx, spec *order.Spec) (*order.Spec, error) {
	data, hash, err := state.EncodeSpec(spec)
	if err != nil {
		return nil, err
	}
	_, err = tx.Exec(`INSERT OR IGNORE INTO specs (hash, spec) VALUES (?, ?)`, hash, data)
	return &order.Spec{Ref: hash}, err
}

// mostSpecs is how many specs are remembered; when there are more, all are forgotten.
const mostSpecs = 4096

func (s *Log) known(hash string) *order.Spec {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.specs[hash]
}

// spec gives the spec of that hash.
func (s *Log) spec(hash string) (*order.Spec, error) {
	if spec := s.known(hash); spec != nil {
		return spec, nil
	}
	var data []byte
	if err := s.lookup.QueryRow(`SELECT spec FROM specs WHERE hash = ?`, hash).Scan(&data); err != nil {
		return nil, fmt.Errorf("what a member was to be run with (%s) is not in the log: %w", hash, err)
	}
	spec := &order.Spec{}
	if err := json.Unmarshal(data, spec); err != nil {
		return nil, err
	}
	if sum := sha256.Sum256(data); hex.EncodeToString(sum[:16]) != hash {
		return nil, fmt.Errorf("what a member was to be run with (%s) is not as it was written", hash)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.specs == nil || len(s.specs) >= mostSpecs {
		s.specs = map[string]*order.Spec{}
	}
	s.specs[hash] = spec
	return spec, nil
}

// whole gives a fact with the specs that it refers to.
func (s *Log) whole(f state.Fact) (state.Fact, error) {
	return state.WithSpecs(f, func(spec *order.Spec) (*order.Spec, error) {
		if spec.Ref == "" {
			return spec, nil
		}
		return s.spec(spec.Ref)
	})
}
