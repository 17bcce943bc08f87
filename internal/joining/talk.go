package joining

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
)

// Protocol is what is spoken at the door, beside HTTP, by the name that TLS knows it by (ALPN).
const Protocol = "lanternfield-join/1"

// What passes over the connection, in this order, one JSON value each: the machine says Hello; it is told its Place, or why not; then its agent is enrolled as
// one is that was brought by SSH (identity.Agent.Enrol); last it is told what came of it (Welcome).
type (
	// Hello is what a machine says that knocks.
	Hello struct {
		ID      string `json:"id"`     // of the invitation
		Secret  []byte `json:"secret"` // of it
		Machine string `json:"machine"`
		Address string `json:"address"` // at which others reach it, as it thinks
		Folder  string `json:"folder"`  // in which what is ours would lie there
	}
	// Place is where it is to put its agent.
	Place struct {
		Why     string `json:"why,omitempty"` // it is not let in
		Field   string `json:"field,omitempty"`
		Node    string `json:"node,omitempty"`
		Address string `json:"address,omitempty"`
		Folder  string `json:"folder,omitempty"`
		First   int    `json:"first,omitempty"` // of the ports of which the agent takes one
		Last    int    `json:"last,omitempty"`
	}
	// Welcome ends it.
	Welcome struct {
		Why string `json:"why,omitempty"` // the agent runs, and something is in the way all the same
	}
)

// mostSaid bounds what is read of one value.
const mostSaid = 64 << 10

// Say writes one value, and Hear reads one.
func Say(with io.Writer, value any) error { return json.NewEncoder(with).Encode(value) }

// Hear reads one value. It reads no further than that, as the other side says nothing more before it is answered.
func Hear(with io.Reader, into any) error {
	err := json.NewDecoder(io.LimitReader(with, mostSaid)).Decode(into)
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return fmt.Errorf("the other side has gone away")
	}
	return err
}
