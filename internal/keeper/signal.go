package keeper

import (
	"encoding/json"
	"errors"
	"io"
	"sync"

	"lanternfield/internal/control"
)

// line is what a keeper says, while it starts, to who started it: one a line, as JSON.
type line struct {
	Ready bool            `json:"ready,omitempty"`
	Done  uint64          `json:"done,omitempty"` // events of a long log that were read
	Of    uint64          `json:"of,omitempty"`
	Error json.RawMessage `json:"error,omitempty"` // see control.EncodeError
}

// signal says how far a keeper is.
type signal struct {
	mu sync.Mutex
	to io.Writer
}

func newSignal(to io.Writer) *signal { return &signal{to: to} }

func (s *signal) say(l line, last bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.to == nil {
		return
	}
	_ = json.NewEncoder(s.to).Encode(l)
	if last {
		if c, ok := s.to.(io.Closer); ok {
			c.Close()
		}
		s.to = nil
	}
}

func (s *signal) progress(done, of uint64) { s.say(line{Done: done, Of: of}, false) }
func (s *signal) ready()                   { s.say(line{Ready: true}, true) }
func (s *signal) failed(err error)         { s.say(line{Error: control.EncodeError(err)}, true) }

// hear reads what a keeper says until it is ready, or says why it cannot be.
func hear(from io.Reader, progress func(done, of uint64)) error {
	dec := json.NewDecoder(from)
	for {
		var l line
		if err := dec.Decode(&l); err != nil {
			return errEnded
		}
		switch {
		case l.Ready:
			return nil
		case len(l.Error) > 0:
			return control.DecodeError(l.Error)
		case progress != nil:
			progress(l.Done, l.Of)
		}
	}
}

// errEnded says that a keeper ended before it was ready.
var errEnded = errors.New("it ended before it was ready")
