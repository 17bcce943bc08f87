// Package agentapi is what passes between a controller and the agents of nodes: orders and operations down (their types are in package
// order), reports, measures and logs up. Agent is one node's agent as who drives it sees it; Client is the one that is reached by HTTP
// over mutual TLS.
package agentapi

import (
	"context"
	"crypto/x509"
	"io"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/journal"
	"lanternfield/internal/core/logline"
	"lanternfield/internal/core/order"
	"lanternfield/internal/series"
)

// Refused is an order that is not taken, with the reason.
type Refused struct {
	Status int
	Why    string
}

// Refuse makes the answer of an agent that does not take something; status is that of HTTP.
func Refuse(status int, why string) *Refused { return &Refused{Status: status, Why: why} }

func (r *Refused) Error() string { return r.Why }

// Certified is an agent that shows a certificate, and hears whose certificates count.
type Certified interface {
	// Shown is the certificate that it has shown last; nil before it has answered. Current tells whether that need not be replaced.
	Shown() *x509.Certificate
	Current() bool
	// Follow tells it whose word counts, where it was told something earlier: what it was told has that number.
	Follow(ctx context.Context, told int64) error
}

// Agent is the agent of one node. Errors of type *Refused are its answers; any other means that it could not be asked.
type Agent interface {
	// Standing asks who the agent is, and how far it has come; ErrUntrusted says that it cannot show that it is this node's agent.
	Standing(ctx context.Context) (order.Standing, error)
	// Claim has the agent obey a controller. An error of type *Lacks is its refusal.
	Claim(ctx context.Context, claim order.Claim) error
	// Put sends an order, Operate an operation. Both may be repeated.
	Put(ctx context.Context, o order.Order) error
	Operate(ctx context.Context, o order.Operation) error
	// Reports waits for reports that come after that number of that life, and acknowledges those up to ack; 0 acknowledges none.
	Reports(ctx context.Context, life string, after, ack uint64, wait time.Duration) (*News, error)
	// Series gives what was measured after a moment; the newest of each member alone where that is zero.
	Series(ctx context.Context, after time.Time) (Series, error)
	// Samples gives what was measured of its members after a moment, summed up every few seconds; an hour of it at most is there.
	Samples(ctx context.Context, after time.Time) (Samples, error)
	// Log reads a member's output from that place on, or its last lines when after is -1.
	Log(ctx context.Context, m field.MemberName, after int64, most int) (*Log, error)
	// Search looks for lines of members, the newest first.
	Search(ctx context.Context, s Search) (*Found, error)
	// Ask puts a question to a member once, and gives what came of it.
	Ask(ctx context.Context, m field.MemberName, q order.Question) (order.Said, error)
	// Visit begins something at a member: a command, a shell, a connection to one of its ports.
	Visit(ctx context.Context, m field.MemberName, v Visit) (*Frames, error)
	// Inspect opens a connection over which the machine is looked at (package inspect).
	Inspect(ctx context.Context) (io.ReadWriteCloser, error)
	// Lookups asks whether what members need is on the node, and gives what is missing.
	Lookups(ctx context.Context, lookups []order.Lookup) (missing []string, err error)
	// Account asks what is left of members on the node.
	Account(ctx context.Context) (left []string, err error)
	// Copy has the agent keep a sealed copy of the field's state, of CopyMost bytes at the most.
	Copy(ctx context.Context, sealed []byte) error
	// Quit ends the agent.
	Quit(ctx context.Context) error
	// Close lets go of the connections.
	Close()
}

// CopyMost is how large a copy of a field's state may be that agents keep.
const CopyMost = 64 << 20

var _ Agent = (*Client)(nil)

// Log is a part of a member's output.
type Log struct {
	Lines []logline.Line `json:"lines"`
	From  int64          `json:"from"` // where it was begun to read
	Next  int64          `json:"next"` // where to go on reading
}

// Search asks for lines of members, the newest first.
type Search struct {
	Members []field.MemberName `json:"members"`
	Filter  journal.Filter     `json:"filter"`         // of words, patterns and levels; see journal.Filter.OfLines
	Since   time.Time          `json:"since,omitzero"` // lines from then on
	Until   time.Time          `json:"until,omitzero"` // and before that
	// Before says by member what of its log has been searched already: all from that place on. Places before the log's beginning, in what was cut off it, are
	// negative. Without one it begins at the end.
	Before map[field.MemberName]int64 `json:"before,omitempty"`
	Most   int                        `json:"most"`   // lines of each member
	Within time.Duration              `json:"within"` // after that time it gives what it has
}

// Found is what came of a search: of a part of the logs, where not all could be searched in that time.
type Found struct {
	Lines map[field.MemberName][]logline.Line `json:"lines"`          // oldest first
	Left  map[field.MemberName]int64          `json:"left,omitempty"` // where to go on, of those that are not yet searched to their beginning
	Read  int64                               `json:"read"`           // bytes
	Rest  int64                               `json:"rest"`           // bytes that are not searched yet
}

// News is what an agent tells when asked for reports.
type News struct {
	Agent   string         `json:"agent"`
	Reports []order.Report `json:"reports,omitempty"`
}

// Heartbeat is how often an agent shows, on a request that is kept open, that it is there.
const Heartbeat = time.Second

// Series are the measures of members, each with its time, oldest first.
type Series map[field.MemberName][]series.Point[Measure]

// Usage is what a member takes of its machine, looked at now and then.
type Usage struct {
	Memory  int64         `json:"memory,omitempty"`  // bytes that its processes have for themselves
	CPU     time.Duration `json:"cpu_ns,omitempty"`  // of processors, since they were started
	Read    int64         `json:"read,omitempty"`    // bytes from disks, likewise
	Written int64         `json:"written,omitempty"` // bytes to disks

	Received int64 `json:"received,omitempty"` // bytes that its TCP connections have carried, since its agent looks at it
	Sent     int64 `json:"sent,omitempty"`

	Worked time.Time `json:"worked,omitzero"` // when it used the processor last
	Wrote  time.Time `json:"wrote,omitzero"`  // when its log grew last
}

// Samples are those of an agent's members, each oldest first.
type Samples struct {
	Now time.Time                     `json:"now"` // by the agent's clock
	Of  map[field.MemberName][]Sample `json:"of"`
}

// Sample sums up what was measured of a member during some seconds.
type Sample struct {
	At        time.Time `json:"at"` // when they ended, by the agent's clock
	Answers   int       `json:"answers"`
	Failed    int       `json:"failed,omitempty"`     // probes that were not answered well
	LatencyMS float64   `json:"latency_ms,omitempty"` // of the answers, the middle one
	WorstMS   float64   `json:"worst_ms,omitempty"`
	DiskFree  int64     `json:"disk_free,omitempty"` // bytes, where its data is
	DiskSize  int64     `json:"disk_size,omitempty"` // of that disk
	Usage
	Altered []string           `json:"altered,omitempty"` // files of its configuration that are not as they were ordered
	Gauge   *field.Reading     `json:"gauge,omitempty"`
	Metrics map[string]float64 `json:"metrics,omitempty"` // what its program tells, by name: counters as how much they rise in a second, histograms as means
	Unsent  string             `json:"unsent,omitempty"`  // why its lines cannot be forwarded
	Trouble string             `json:"trouble,omitempty"` // why not, or not all, of it could be read
}

// Measure is an answer to a member's ready probe, with what it took. Measures are not reports: some may be lost.
type Measure struct {
	OK        bool      `json:"ok"`
	LatencyMS float64   `json:"latency_ms"`
	Error     string    `json:"error"`
	At        time.Time `json:"at"`
	Usage
	LastGood time.Time `json:"last_good,omitzero"` // when it was asked what it answered well last

	Gauge *field.Reading `json:"gauge,omitempty"` // how far it has come, or is behind, where its program says so
}
