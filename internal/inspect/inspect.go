// Package inspect looks at a machine for what speaks against members running there: what it is, what programs lack, which ports are free, and whether other
// machines can be reached from it. Who wants to know asks over a connection, one request a line; it is answered on the machine itself, by its agent or by
// the agent's program that was brought there for the purpose.
package inspect

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"sync"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/machine"
	"lanternfield/internal/core/mending"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host/packetfilter"
)

// Request is what is asked of a machine. What is empty is not asked.
type Request struct {
	Folder  string              `json:"folder,omitempty"` // what is the machine, with the disk on which that folder lies or would
	Lookups []order.Lookup      `json:"lookups,omitempty"`
	Listen  []machine.Socket    `json:"listen,omitempty"`  // to be listened at until the connection ends
	Connect []machine.Socket    `json:"connect,omitempty"` // to be connected to
	Filter  []packetfilter.Conn `json:"filter,omitempty"`  // which rules of the packet filter keep these connections away
	Field   string              `json:"field,omitempty"`   // for which something is done
	Mend    []mending.Step      `json:"mend,omitempty"`    // to be done there
	Undo    []mending.Entry     `json:"undo,omitempty"`    // to be undone
	Free    bool                `json:"free,omitempty"`    // what was listened at is to be free when this is answered
}

// Answer is what the machine says, in the order in which it was asked.
type Answer struct {
	Machine *machine.Machine       `json:"machine,omitempty"`
	Lacks   []Lack                 `json:"lacks,omitempty"`
	Listens []Outcome              `json:"listens,omitempty"`
	Connect []Outcome              `json:"connect,omitempty"`
	Filter  [][]packetfilter.Block `json:"filter,omitempty"`
	Mended  []Mended               `json:"mended,omitempty"`
	Undone  []Undone               `json:"undone,omitempty"`
	Error   string                 `json:"error,omitempty"`
}

// Mended is what came of something that was to be done: what was made of it even where it failed.
type Mended struct {
	mending.Entry
	Why string `json:"why,omitempty"` // it failed
}

// Undone is what came of something that was to be undone.
type Undone struct {
	Stays string `json:"stays,omitempty"` // what is there all the same, and why
	Why   string `json:"why,omitempty"`   // it failed
}

// What is lacking.
type What string

// What a member may lack on a machine.
const (
	Program What = "program" // or the version of it
	User    What = "user"
	Limit   What = "limit"
	Kernel  What = "kernel"
)

// Lack is what a member would lack.
type Lack struct {
	Member field.MemberName `json:"member"`
	What   What             `json:"what"`
	Why    string           `json:"why"`
	Step   *mending.Step    `json:"step,omitempty"` // by which it can be mended there
}

// Outcome is what came of listening or connecting.
type Outcome struct {
	machine.Socket
	Why     string        `json:"why,omitempty"`     // it did not work; empty where it did
	Taken   bool          `json:"taken,omitempty"`   // somebody else listens there, whom the socket names
	Refused bool          `json:"refused,omitempty"` // the other side answered that nobody listens
	Took    time.Duration `json:"took,omitempty"`
}

// Client asks a machine.
type Client struct {
	conn io.ReadWriteCloser
	mu   sync.Mutex
	in   *json.Decoder
}

// NewClient asks over a connection.
func NewClient(conn io.ReadWriteCloser) *Client {
	return &Client{conn: conn, in: json.NewDecoder(conn)}
}

// Ask puts one request. A context that ends closes the connection.
func (c *Client) Ask(ctx context.Context, r Request) (*Answer, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	stop := context.AfterFunc(ctx, func() { c.conn.Close() })
	defer stop()
	if err := json.NewEncoder(c.conn).Encode(r); err != nil {
		return nil, err
	}
	var a Answer
	if err := c.in.Decode(&a); err != nil {
		return nil, errors.Join(ctx.Err(), err)
	}
	if a.Error != "" {
		return nil, errors.New(a.Error)
	}
	return &a, nil
}

// freeWithin is how long a machine may take to say that what was listened at is free.
const freeWithin = 2 * time.Second

// Close ends it. What was listened at is free again when it returns, if the machine still answers.
func (c *Client) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), freeWithin)
	defer cancel()
	_, _ = c.Ask(ctx, Request{Free: true}) // one that does not answer any more has let go too
	return c.conn.Close()
}
