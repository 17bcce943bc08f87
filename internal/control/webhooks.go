package control

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
	"lanternfield/internal/identity"
)

// How long a webhook may take to answer, how soon it is tried again, and for how long.
const (
	webhookWait      = 10 * time.Second
	webhookAgain     = time.Second
	webhookAgainMost = 5 * time.Minute
	webhookGivesUp   = 24 * time.Hour
)

// Telling is what a webhook is sent, as JSON.
type Telling struct {
	Field  string           `json:"field"`
	Number int              `json:"number"` // of the notice: the same when it is told that it is over
	State  string           `json:"state"`  // open or over
	Kind   state.NoticeKind `json:"kind"`
	Bad    bool             `json:"bad,omitempty"` // something cannot do its work
	Text   string           `json:"text"`
	Member field.MemberName `json:"member,omitempty"`
	Role   field.RoleName   `json:"role,omitempty"`
	Node   field.NodeName   `json:"node,omitempty"`
	Since  time.Time        `json:"since"`
	Over   time.Time        `json:"over,omitzero"`
}

// What the headers of a request to a webhook are called. The signature is of the time, a full stop and the body, by HMAC with SHA-256 and the secret.
const (
	webhookTime      = "Lanternfield-Time"      // when it was sent, in seconds since 1970
	webhookSignature = "Lanternfield-Signature" // sha256=HEX
	webhookDelivery  = "Lanternfield-Delivery"  // the same when it is sent again
)

// webhookTried is how far the telling of one webhook has come. It is the hooking goroutine's own.
type webhookTried struct {
	busy  bool
	next  time.Time
	pause time.Duration
}

// webhookCame is what came of one try.
type webhookCame struct {
	to     string
	number int
	over   bool
	err    error
}

// hooking tells webhooks what they are to be told, until the context ends. Each has its own pace: one that hangs holds up no other.
func (c *Controller) hooking(ctx context.Context) {
	tried := map[string]*webhookTried{}
	came := make(chan webhookCame)
	for {
		changed := c.Changed()
		wait := time.Hour
		hooks, notices := c.hooks()
		if c.sealed == nil {
			for _, w := range hooks {
				t := tried[w.URL]
				if t == nil {
					t = &webhookTried{}
					tried[w.URL] = t
				}
				i := slices.IndexFunc(notices, func(n state.Notice) bool { return n.Untold(w.URL) })
				if t.busy || i < 0 {
					continue
				}
				if left := time.Until(t.next); left > 0 {
					wait = min(wait, left)
					continue
				}
				t.busy = true
				c.drivers.Go(func() {
					n := notices[i]
					x := webhookCame{w.URL, n.Number, !n.Over.IsZero(), c.tellWebhook(ctx, c.current(), w, n)}
					select {
					case came <- x:
					case <-ctx.Done():
					}
				})
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-changed:
		case <-time.After(wait):
		case x := <-came:
			c.webhookSays(ctx, tried[x.to], x)
		}
	}
}

// hooks are the webhooks of the field, and what is there to be told.
func (c *Controller) hooks() ([]field.Webhook, []state.Notice) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.state.Field == nil {
		return nil, nil
	}
	return c.state.Field.Notices.Webhooks, c.state.Notices
}

// webhookSays notes what came of a try.
func (c *Controller) webhookSays(ctx context.Context, t *webhookTried, x webhookCame) {
	t.busy = false
	told := engine.NoticeTold{Number: x.number, To: x.to, Over: x.over}
	says := ""
	if x.err != nil {
		t.pause = min(max(webhookAgain, 2*t.pause), webhookAgainMost)
		t.next = time.Now().Add(t.pause)
		says = fmt.Sprintf("the webhook %s cannot be told: %v; it is tried again", x.to, x.err)
		_, notices := c.hooks()
		for _, n := range notices {
			if since := n.Since; n.Number == x.number {
				if !n.Over.IsZero() {
					since = n.Over
				}
				if time.Since(since) > webhookGivesUp {
					told.Why = x.err.Error()
				}
			}
		}
	}
	c.mu.Lock()
	if c.unhooked == nil {
		c.unhooked = map[string]string{}
	}
	if c.unhooked[x.to] = says; says == "" {
		delete(c.unhooked, x.to)
	}
	c.mu.Unlock()
	if x.err != nil && told.Why == "" {
		c.publish()
		return
	}
	t.pause, t.next = 0, time.Time{}
	_ = c.submit(ctx, input{in: told})
}

// tellWebhook sends one request.
func (c *Controller) tellWebhook(ctx context.Context, s *state.State, w field.Webhook, n state.Notice) error {
	secret, err := secretIn(c.ring, s.SecretOf(w.Secret).Newest(w.Secret))
	if err != nil {
		return err
	}
	client, err := webhookClient(w)
	if err != nil {
		return err
	}
	defer client.CloseIdleConnections()
	what := Telling{Field: s.Field.Name, Number: n.Number, State: "open", Kind: n.Kind, Bad: n.Bad, Text: n.Text, Member: n.Member, Role: n.Role, Node: n.Node, Since: n.Since, Over: n.Over}
	if !n.Over.IsZero() {
		what.State = "over"
	}
	body, err := json.Marshal(what)
	if err != nil {
		return err
	}
	ctx, done := context.WithTimeout(ctx, webhookWait)
	defer done()
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, w.URL, bytes.NewReader(body))
	if err != nil {
		return err
	}
	at := strconv.FormatInt(time.Now().Unix(), 10)
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set(webhookTime, at)
	r.Header.Set(webhookSignature, SignTelling(secret, at, body))
	r.Header.Set(webhookDelivery, fmt.Sprintf("%s-%d-%d-%s", s.Log, n.Number, n.Since.UnixMilli(), what.State))
	res, err := client.Do(r)
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("it has not answered within %s", webhookWait)
	}
	if err != nil {
		return err
	}
	defer res.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(res.Body, 200))
	if res.StatusCode/100 != 2 {
		return fmt.Errorf("it answers %s %q", res.Status, said)
	}
	return nil
}

// SignTelling gives the signature of what a webhook is sent at a time, which is in seconds since 1970.
func SignTelling(secret, at string, body []byte) string {
	mac := hmac.New(sha256.New, []byte(secret))
	mac.Write([]byte(at + "."))
	mac.Write(body)
	return "sha256=" + hex.EncodeToString(mac.Sum(nil))
}

func webhookClient(w field.Webhook) (*http.Client, error) {
	terms, err := identity.Believing(w.Authority)
	if err != nil {
		return nil, err
	}
	return &http.Client{Transport: &http.Transport{TLSClientConfig: terms, Proxy: http.ProxyFromEnvironment, TLSHandshakeTimeout: webhookWait},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}, nil
}
