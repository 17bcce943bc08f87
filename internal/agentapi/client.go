package agentapi

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync/atomic"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/filter"
	"lanternfield/internal/core/order"
	"lanternfield/internal/identity"
	"lanternfield/internal/netfault"
)

// Client speaks to one agent.
type Client struct {
	Url  string
	http *http.Client
	// Sign issues a certificate for a signing request of this agent; nil where its certificate is not renewed. Due tells when it is to be.
	Sign func(request []byte) ([]byte, error)
	Due  func(shown *x509.Certificate) bool
	// Vouched gives whose word counts, signed, and the number of that.
	Vouched func() (signed []byte, number int64, err error)

	shown atomic.Pointer[x509.Certificate] // by the agent, last
}

// NewClient makes a client for the agent that answers at that URL, on those terms; over is how connections are opened, nil for directly.
func NewClient(url string, terms *tls.Config, over func(ctx context.Context, network, address string) (net.Conn, error)) *Client {
	return &Client{Url: url, http: &http.Client{Transport: &http.Transport{TLSClientConfig: terms, DialContext: over, TLSHandshakeTimeout: 3 * time.Second,
		MaxIdleConnsPerHost: 4, ReadBufferSize: 4 << 10, WriteBufferSize: 4 << 10, Proxy: nil}}}
}

// ErrUntrusted says that who answers cannot show that it is the node's agent, or does not take us for its controller. It was told
// nothing.
var ErrUntrusted = errors.New("who answers at its agent's address is not its agent")

// Close lets go of the connections.
func (c *Client) Close() { c.http.CloseIdleConnections() }

// Standing asks who the agent is, and how far it has come; ErrUntrusted says that it cannot show that it is this node's agent.
func (c *Client) Standing(ctx context.Context) (s order.Standing, err error) {
	body, err := c.Do(ctx, http.MethodGet, "/v1/standing", nil)
	if err != nil {
		return s, err
	}
	return s, json.Unmarshal(body, &s)
}

// Account asks what is left of members on the node.
func (c *Client) Account(ctx context.Context) (left []string, err error) {
	body, err := c.Do(ctx, http.MethodGet, "/v1/account", nil)
	if err != nil {
		return nil, err
	}
	return left, json.Unmarshal(body, &left)
}

// Lacks says what the log of a controller lacks that an agent was told, or has told.
type Lacks struct{ Why string }

func (l *Lacks) Error() string { return l.Why }

// Claim has the agent obey a controller. An error of type *Lacks is its refusal.
func (c *Client) Claim(ctx context.Context, claim order.Claim) error {
	data, err := json.Marshal(claim)
	if err != nil {
		return err
	}
	_, err = c.Do(ctx, http.MethodPut, "/v1/claim", data)
	var refused *Refused
	if errors.As(err, &refused) && refused.Status == http.StatusPreconditionFailed {
		return &Lacks{refused.Why}
	}
	return err
}

// Renewal is where an agent asks for, and takes, a new certificate.
const Renewal = "/v1/certificate"

// Renew gives the agent a new certificate. Connections that are open go on; new ones show the new one.
func (c *Client) Renew(ctx context.Context) error {
	request, err := c.Do(ctx, http.MethodPost, Renewal, nil)
	if err != nil {
		return err
	}
	certificate, err := c.Sign(request)
	if err != nil {
		return err
	}
	_, err = c.Do(ctx, http.MethodPut, Renewal, certificate)
	c.http.CloseIdleConnections()
	return err
}

// Counting is where an agent is told whose word counts.
const Counting = "/v1/counting"

// Follow tells the agent whose word counts, where it was told something earlier by its standing.
func (c *Client) Follow(ctx context.Context, told int64) error {
	if c.Vouched == nil {
		return nil
	}
	signed, number, err := c.Vouched()
	if err != nil || told >= number {
		return err
	}
	_, err = c.Do(ctx, http.MethodPut, Counting, signed)
	return err
}

// Shown is the certificate that the agent has shown last; nil before it has answered.
func (c *Client) Shown() *x509.Certificate { return c.shown.Load() }

// Current tells whether the certificate that it has shown last need not be replaced.
func (c *Client) Current() bool {
	shown := c.Shown()
	return shown != nil && (c.Due == nil || !c.Due(shown))
}

// Put sends an order. An error of type *Refused is the agent's answer; any other means that it could not be asked.
func (c *Client) Put(ctx context.Context, o order.Order) error {
	data, err := json.Marshal(o)
	if err != nil {
		return err
	}
	_, err = c.Do(ctx, http.MethodPut, "/v1/members/"+string(o.Member), data)
	return err
}

// Operate sends an operation; errors are as with Put.
func (c *Client) Operate(ctx context.Context, o order.Operation) error {
	data, err := json.Marshal(o)
	if err != nil {
		return err
	}
	_, err = c.Do(ctx, http.MethodPut, fmt.Sprintf("/v1/operations/%d", o.ID), data)
	return err
}

// Reports waits for reports that come after that number of that life, and acknowledges those up to ack; 0 acknowledges none.
func (c *Client) Reports(ctx context.Context, life string, after, ack uint64, wait time.Duration) (*News, error) {
	body, err := c.Do(ctx, http.MethodGet, fmt.Sprintf("/v1/reports?life=%s&after=%d&ack=%d&wait=%s", life, after, ack, wait), nil)
	if err != nil {
		return nil, err
	}
	var n News
	return &n, json.Unmarshal(body, &n)
}

// Series gives what was measured after a moment.
func (c *Client) Series(ctx context.Context, after time.Time) (s Series, err error) {
	path := "/v1/series"
	if !after.IsZero() {
		path += "?after=" + url.QueryEscape(after.UTC().Format(time.RFC3339Nano))
	}
	body, err := c.Do(ctx, http.MethodGet, path, nil)
	if err != nil {
		return nil, err
	}
	return s, json.Unmarshal(body, &s)
}

// Samples gives what was measured after a moment, summed up.
func (c *Client) Samples(ctx context.Context, after time.Time) (s Samples, err error) {
	body, err := c.Do(ctx, http.MethodGet, "/v1/samples?after="+url.QueryEscape(after.UTC().Format(time.RFC3339Nano)), nil)
	if err != nil {
		return s, err
	}
	return s, json.Unmarshal(body, &s)
}

// Log reads a member's output from that place on, or its last lines when after is -1.
func (c *Client) Log(ctx context.Context, m field.MemberName, after int64, most int) (*Log, error) {
	body, err := c.Do(ctx, http.MethodGet, fmt.Sprintf("/v1/members/%s/log?after=%d&most=%d", m, after, most), nil)
	if err != nil {
		return nil, err
	}
	var l Log
	return &l, json.Unmarshal(body, &l)
}

// Search looks for lines of members, the newest first.
func (c *Client) Search(ctx context.Context, s Search) (*Found, error) {
	data, err := json.Marshal(s)
	if err != nil {
		return nil, err
	}
	body, err := c.doWithin(ctx, s.Within+mostFirst, http.MethodPost, "/v1/search", data)
	if err != nil {
		return nil, err
	}
	var f Found
	return &f, json.Unmarshal(body, &f)
}

// Ask puts a question to a member once.
func (c *Client) Ask(ctx context.Context, m field.MemberName, q order.Question) (said order.Said, err error) {
	data, err := json.Marshal(q)
	if err != nil {
		return said, err
	}
	body, err := c.doWithin(ctx, q.Timeout+mostFirst, http.MethodPost, "/v1/members/"+string(m)+"/ask", data)
	if err != nil {
		return said, err
	}
	return said, json.Unmarshal(body, &said)
}

// Lookups asks whether what members need is on the node, and gives what is missing.
func (c *Client) Lookups(ctx context.Context, lookups []order.Lookup) (missing []string, err error) {
	data, err := json.Marshal(lookups)
	if err != nil {
		return nil, err
	}
	body, err := c.Do(ctx, http.MethodPost, "/v1/lookups", data)
	if err != nil {
		return nil, err
	}
	return missing, json.Unmarshal(body, &missing)
}

// Copy has the agent keep a sealed copy of the field's state.
func (c *Client) Copy(ctx context.Context, sealed []byte) error {
	_, err := c.Do(ctx, http.MethodPut, "/v1/copy", sealed)
	return err
}

// SetRules has the agent's machine let in to members' ports whom the rules name, and take that back after a time where it is not confirmed.
func (c *Client) SetRules(ctx context.Context, r filter.Rules, within time.Duration) error {
	data, err := json.Marshal(r)
	if err != nil {
		return err
	}
	_, err = c.Do(ctx, http.MethodPut, "/v1/rules?within="+within.String(), data)
	return err
}

// ConfirmRules has rules count.
func (c *Client) ConfirmRules(ctx context.Context, digest string) error {
	_, err := c.Do(ctx, http.MethodPost, "/v1/rules/confirm?digest="+url.QueryEscape(digest), nil)
	return err
}

// DropRules has the machine let everything in again.
func (c *Client) DropRules(ctx context.Context) error {
	_, err := c.Do(ctx, http.MethodDelete, "/v1/rules", nil)
	return err
}

// Replace gives the agent a program of its own, compressed by gzip, with its checksum. It is run when the agent is started next; see Restart.
func (c *Client) Replace(ctx context.Context, name, sum string, packed []byte) error {
	_, err := c.Do(ctx, http.MethodPut, "/v1/programs/"+name+"?sum="+url.QueryEscape(sum), packed)
	return err
}

// Restart ends the agent so that it is started anew.
func (c *Client) Restart(ctx context.Context) error {
	_, err := c.Do(ctx, http.MethodPost, "/v1/restart", nil)
	return err
}

// Leave ends the agent and its members, and has it take everything of them away from its machine. It gives what is left there all the same.
func (c *Client) Leave(ctx context.Context) (left []string, err error) {
	body, err := c.Do(ctx, http.MethodPost, "/v1/leave", nil)
	if err != nil {
		return nil, err
	}
	return left, json.Unmarshal(body, &left)
}

// Quit ends the agent.
func (c *Client) Quit(ctx context.Context) error {
	_, err := c.Do(ctx, http.MethodPost, "/v1/quit", nil)
	return err
}

// mostFirst is how long the first sign of an answer may take, whatever is asked; who asks may wait less.
const mostFirst = time.Minute

// mostSilence is how long an agent that answers may show nothing.
const mostSilence = Heartbeat + 1500*time.Millisecond

// loud reads an answer, and has the guard wait anew whenever something comes.
type loud struct {
	io.Reader
	guard *time.Timer
}

func (l *loud) Read(p []byte) (int, error) {
	l.guard.Reset(mostSilence)
	return l.Reader.Read(p)
}

// Do sends a request to the agent and gives the body of its answer.
func (c *Client) Do(ctx context.Context, method, path string, data []byte) ([]byte, error) {
	return c.doWithin(ctx, mostFirst, method, path, data)
}

func (c *Client) doWithin(ctx context.Context, first time.Duration, method, path string, data []byte) ([]byte, error) {
	// An agent that has nothing to say for a while shows all the same that it is there.
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	guard := time.AfterFunc(first, func() { cancel(context.DeadlineExceeded) })
	defer guard.Stop()
	req, err := http.NewRequestWithContext(ctx, method, c.Url+path, bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	res, err := c.http.Do(req)
	if err == nil && res.TLS != nil {
		c.shown.Store(res.TLS.PeerCertificates[0])
	}
	if err == nil && c.Sign != nil && path != Renewal && res.TLS != nil && c.Due(res.TLS.PeerCertificates[0]) {
		if err := c.Renew(ctx); err != nil {
			slog.Warn("an agent's certificate cannot be renewed", "agent", c.Url, "error", err)
		}
	}
	if identity.Untrusted(err) {
		return nil, fmt.Errorf("%w: %w", ErrUntrusted, err)
	}
	if err != nil {
		return nil, netfault.Of("its agent does not answer", err)
	}
	defer res.Body.Close()
	body, err := io.ReadAll(&loud{io.LimitReader(res.Body, 64<<20), guard})
	if silent := context.Cause(ctx); silent != nil && err != nil {
		return nil, netfault.Of("its agent does not answer", silent)
	}
	if err != nil {
		return nil, fmt.Errorf("its agent's answer was cut short: %w", err)
	}
	if res.StatusCode >= 400 {
		return nil, &Refused{Status: res.StatusCode, Why: strings.TrimSpace(string(body))}
	}
	return body, nil
}
