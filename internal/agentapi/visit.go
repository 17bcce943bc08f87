package agentapi

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"

	"lanternfield/internal/core/field"
	"lanternfield/internal/netfault"
)

// Visit is what somebody does at a member, through its agent: runs a command, opens a shell, or speaks to one of its ports. It runs as the
// member's user, with its environment, in its folder.
type Visit struct {
	By  string // who, for the journal
	How string // run, shell, tunnel or copy

	Args     []string          `json:",omitempty"` // the command
	Env      map[string]string `json:",omitempty"` // besides that of the member
	Terminal *Window           `json:",omitempty"` // the command has a terminal of that size, and its output is one stream
	Port     string            `json:",omitempty"` // the port that is spoken to, by name or number, instead of a command
	Quiet    bool              `json:",omitempty"` // the journal has it already: a further connection of the same tunnel
}

// Window is the size of a terminal, in cells.
type Window struct{ Rows, Columns uint16 }

// Ending is how a command at a member ended.
type Ending struct {
	Code   int    `json:",omitempty"`
	Signal string `json:",omitempty"` // by which it was ended; empty where it was not
	Why    string `json:",omitempty"` // why it could not be run at all
}

// FrameKind says what a frame of a visit carries.
type FrameKind byte

// The kinds of frame. A visit begins with one of kind Begin from who visits.
const (
	FrameBegin  FrameKind = 'b' // a Visit, as JSON
	FrameIn     FrameKind = 'i' // bytes for standard input, or for the port
	FrameInEnd  FrameKind = 'I' // no more of them
	FrameWindow FrameKind = 'w' // a Window, as JSON
	FrameSignal FrameKind = 's' // the name of a signal for the command, such as INT
	FrameTaken  FrameKind = 't' // what one frame of kind In brought was taken; at most MostUntaken of them are on their way
	FrameOut    FrameKind = 'o' // bytes of standard output, or of the port
	FrameErr    FrameKind = 'e' // bytes of standard error
	FrameEnd    FrameKind = 'x' // an Ending, as JSON; the last frame
)

// MostUntaken is how many frames for standard input may be sent before the first of them was taken.
const MostUntaken = 32

// MostFrame is how many bytes a frame carries at most.
const MostFrame = 32 << 10

// VisitProtocol is what a connection to an agent becomes for a visit.
const VisitProtocol = "lanternfield-visit"

// Frames reads and writes the frames of a visit. Writing is safe for several at once.
type Frames struct {
	conn io.ReadWriteCloser
	mu   sync.Mutex
	head [5]byte
}

// NewFrames speaks frames on a connection.
func NewFrames(conn io.ReadWriteCloser) *Frames { return &Frames{conn: conn} }

// Write sends one frame.
func (f *Frames) Write(kind FrameKind, data []byte) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	frame := make([]byte, 5, 5+len(data))
	frame[0] = byte(kind)
	binary.BigEndian.PutUint32(frame[1:], uint32(len(data)))
	_, err := f.conn.Write(append(frame, data...))
	return err
}

// WriteJSON sends one frame with a value.
func (f *Frames) WriteJSON(kind FrameKind, value any) error {
	data, err := json.Marshal(value)
	if err != nil {
		return err
	}
	return f.Write(kind, data)
}

// Read waits for the next frame.
func (f *Frames) Read() (FrameKind, []byte, error) {
	if _, err := io.ReadFull(f.conn, f.head[:]); err != nil {
		return 0, nil, err
	}
	size := binary.BigEndian.Uint32(f.head[1:])
	most := uint32(MostFrame)
	if FrameKind(f.head[0]) == FrameBegin {
		most = 4 << 20 // a command may be long
	}
	if size > most {
		return 0, nil, fmt.Errorf("a frame of %d bytes", size)
	}
	data := make([]byte, size)
	_, err := io.ReadFull(f.conn, data)
	return FrameKind(f.head[0]), data, err
}

// Close ends the visit.
func (f *Frames) Close() error { return f.conn.Close() }

// Writer gives a writer whose bytes go into frames of a kind.
func (f *Frames) Writer(kind FrameKind) io.Writer { return frameWriter{f, kind} }

type frameWriter struct {
	frames *Frames
	kind   FrameKind
}

func (w frameWriter) Write(p []byte) (n int, err error) {
	for n < len(p) {
		end := min(n+MostFrame, len(p))
		if err := w.frames.Write(w.kind, p[n:end]); err != nil {
			return n, err
		}
		n = end
	}
	return n, nil
}

// Visit begins a visit. It goes on until the frames are closed, or the context ends. An error of type *Refused is the agent's answer.
func (c *Client) Visit(ctx context.Context, m field.MemberName, v Visit) (*Frames, error) {
	conn, err := c.upgrade(ctx, "/v1/members/"+string(m)+"/visit", VisitProtocol)
	if err != nil {
		return nil, err
	}
	frames := NewFrames(conn)
	if err := frames.WriteJSON(FrameBegin, v); err != nil {
		frames.Close()
		return nil, netfault.Of("its agent does not answer", err)
	}
	return frames, nil
}

// What a connection to an agent becomes over which its machine is looked at, and where that is asked for.
const (
	InspectProtocol = "lanternfield-inspect"
	Inspection      = "/v1/inspect"
)

// Inspect opens a connection over which the machine is looked at. An error of type *Refused is the agent's answer.
func (c *Client) Inspect(ctx context.Context) (io.ReadWriteCloser, error) {
	return c.upgrade(ctx, Inspection, InspectProtocol)
}

// upgrade makes a connection of its own out of a request.
func (c *Client) upgrade(ctx context.Context, path, protocol string) (io.ReadWriteCloser, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, c.Url+path, nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Connection", "Upgrade")
	req.Header.Set("Upgrade", protocol)
	res, err := c.http.Do(req)
	if err != nil {
		return nil, netfault.Of("its agent does not answer", err)
	}
	conn, is := res.Body.(io.ReadWriteCloser)
	if res.StatusCode != http.StatusSwitchingProtocols || !is {
		defer res.Body.Close()
		text, _ := io.ReadAll(io.LimitReader(res.Body, 64<<10))
		if res.StatusCode < 400 || res.StatusCode == http.StatusNotFound && strings.Contains(string(text), "page not found") {
			return nil, errors.New("its agent is from an older version and does not support this; deploy, open or serve replaces it")
		}
		return nil, &Refused{Status: res.StatusCode, Why: strings.TrimSpace(string(text))}
	}
	return conn, nil
}
