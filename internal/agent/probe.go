package agent

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"os"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"lanternfield/internal/agent/runtime"
	"lanternfield/internal/core/bounded"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/logline"
	"lanternfield/internal/core/order"
	"lanternfield/internal/netfault"
)

// answer is what a member said to a call, as expressions see it.
type answer struct {
	status int
	cut    bool // it was longer than what is read
	env    map[string]any
}

// was words what an answer was, shortened; also, where that is so, that only its beginning was read.
func (g *answer) was() string {
	text := "the answer was " + shortened(jsonText(g.env["body"]))
	if g.cut {
		text += fmt.Sprintf(" (it has more than %d KiB; the rest was not read)", mostAnswer>>10)
	}
	return text
}

// asker asks one member.
type asker struct {
	member   field.MemberName
	spec     *order.Spec
	name     string // under which it is reached, where that is not its address
	disk     layout
	instance runtime.Instance // that commands are run in
	compile  map[string]*bounded.Expression
}

// newCompiled keeps expressions that were compiled.
func newCompiled() map[string]*bounded.Expression { return map[string]*bounded.Expression{} }

// What is looked for in an answer over a connection that stays open is not in it when nothing more has come for so long.
const answerQuiet = time.Second

// Answers larger than this are cut.
const mostAnswer = 1 << 20

var probeClient = &http.Client{
	Transport:     &http.Transport{DisableKeepAlives: true, ReadBufferSize: 2 << 10, WriteBufferSize: 2 << 10, Proxy: nil},
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

func (a *asker) ask(ctx context.Context, c field.Call) (*answer, error) {
	switch {
	case c.HTTP != nil:
		return a.askHTTP(ctx, c.HTTP)
	case c.TCP != nil:
		return a.askTCP(ctx, c.TCP)
	case c.TLS != nil:
		return a.askTLS(ctx, c.TLS)
	case len(c.Exec) > 0:
		return a.askExec(ctx, c.Exec)
	}
	return nil, fmt.Errorf("nothing to ask")
}

func (a *asker) address(port string) string {
	return net.JoinHostPort(cmp.Or(a.spec.Ports[port].Address, a.spec.Address), strconv.Itoa(a.spec.Ports[port].Number))
}

func (a *asker) askHTTP(ctx context.Context, h *field.HTTPCall) (*answer, error) {
	method := h.Method
	if method == "" {
		method = http.MethodGet
		if h.Body != "" {
			method = http.MethodPost
		}
	}
	path := h.Path
	if !strings.HasPrefix(path, "/") {
		path = "/" + path
	}
	what := method + " " + path
	req, err := http.NewRequestWithContext(ctx, method, "http://"+a.address(h.Port)+path, strings.NewReader(h.Body))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", what, err)
	}
	for k, v := range h.Headers {
		req.Header.Set(k, string(v))
	}
	res, err := a.send(req, h.Port)
	if err != nil {
		return nil, netfault.Of(what, err)
	}
	defer res.Body.Close()
	body, err := io.ReadAll(io.LimitReader(res.Body, mostAnswer+1))
	if err != nil {
		return nil, fmt.Errorf("%s: %s", what, netfault.Plain(err))
	}
	cut := len(body) > mostAnswer
	body = body[:min(len(body), mostAnswer)]
	headers := map[string]any{}
	for k := range res.Header {
		headers[strings.ToLower(k)] = res.Header.Get(k)
	}
	return &answer{status: res.StatusCode, cut: cut, env: map[string]any{"status": res.StatusCode, "body": parsed(body), "headers": headers, "me": string(a.member)}}, nil
}

// parsed gives JSON as values and anything else as text.
func parsed(body []byte) any {
	var value any
	if json.Unmarshal(body, &value) == nil {
		return value
	}
	return string(body)
}

func (a *asker) askTCP(ctx context.Context, t *field.TCPCall) (*answer, error) {
	conn, err := a.dial(ctx, t.Port)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	if deadline, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(deadline)
	}
	got := ""
	if t.Send != "" {
		if _, err := io.WriteString(conn, t.Send); err != nil {
			return nil, netfault.Of("send to "+a.address(t.Port), err)
		}
	}
	if t.Expect != "" {
		buf := make([]byte, 4<<10)
		for !strings.Contains(got, t.Expect) && len(got) < mostAnswer {
			if deadline, ok := ctx.Deadline(); got != "" && (!ok || time.Until(deadline) > answerQuiet) {
				_ = conn.SetDeadline(time.Now().Add(answerQuiet))
			}
			n, err := conn.Read(buf)
			got += string(buf[:n])
			if errors.Is(err, os.ErrDeadlineExceeded) && got != "" && ctx.Err() == nil && !strings.Contains(got, t.Expect) {
				return nil, fmt.Errorf("the answer has no %q: %s", t.Expect, shortened(got))
			}
			if err != nil && !strings.Contains(got, t.Expect) {
				if got == "" {
					return nil, netfault.Of(fmt.Sprintf("wait for %q from %s", t.Expect, a.address(t.Port)), err)
				}
				return nil, netfault.Wrap(fmt.Sprintf("the answer has no %q: %s", t.Expect, shortened(got)), err)
			}
		}
	}
	return &answer{status: 200, env: map[string]any{"body": got, "output": got, "me": string(a.member)}}, nil
}

func (a *asker) askExec(ctx context.Context, args []string) (*answer, error) {
	who, err := a.instance.Account(a.spec)
	if err == nil {
		err = a.disk.prepare(a.member, who) // it may be asked before its first start
	}
	if err != nil {
		return nil, err
	}
	out := &beginning{}
	code, err := a.instance.Exec(ctx, a.spec, args, out)
	if err != nil {
		return nil, err
	}
	if ctx.Err() != nil {
		return nil, netfault.Wrap(args[0]+" took too long", context.Cause(ctx))
	}
	return &answer{status: code, cut: out.cut, env: map[string]any{"code": code, "output": out.String(), "body": parsed(out.Bytes()), "me": string(a.member)}}, nil
}

// beginning keeps the beginning of what is written.
type beginning struct {
	bytes.Buffer
	cut bool
}

func (b *beginning) Write(p []byte) (int, error) {
	b.cut = b.cut || b.Len()+len(p) > mostAnswer
	if room := mostAnswer - b.Len(); room > 0 {
		b.Buffer.Write(p[:min(room, len(p))])
	}
	return len(p), nil
}

// check asks and judges.
func (a *asker) check(ctx context.Context, p *field.Probe, patience time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	got, err := a.ask(ctx, p.Call)
	if err != nil {
		return err
	}
	return a.judge(ctx, p, got)
}

// judge tells what is wrong with an answer; nil when nothing is.
func (a *asker) judge(ctx context.Context, p *field.Probe, got *answer) error {
	if p.Expect == "" {
		switch {
		case p.HTTP != nil && got.status >= 400:
			return fmt.Errorf("the answer was HTTP status %d: %s", got.status, refusal(got))
		case len(p.Exec) > 0 && got.status != 0:
			last, _ := lastWords(fmt.Sprint(got.env["output"]), 3, 240)
			return fmt.Errorf("%s ended with exit code %d: %s", p.Exec[0], got.status, last)
		}
		return nil
	}
	ok, err := a.eval(ctx, p.Expect, got.env)
	if err != nil {
		return fmt.Errorf("%s, and `%s` cannot be evaluated on it: %s", got.was(), p.Expect, firstLine(err))
	}
	if ok != true {
		return fmt.Errorf("%s, and `%s` does not hold", got.was(), p.Expect)
	}
	return nil
}

func (a *asker) eval(ctx context.Context, text string, env map[string]any) (any, error) {
	program := a.compile[text]
	if program == nil {
		var err error
		if program, err = bounded.Compile(text); err != nil {
			return nil, err
		}
		a.compile[text] = program
	}
	return program.Run(ctx, env)
}

// leads asks whether the member leads its cluster, and in which term. With an error that is not known.
func (a *asker) leads(ctx context.Context, p *field.LeaderProbe) (leads bool, term uint64, err error) {
	ctx, cancel := context.WithTimeout(ctx, p.Timeout.Or(probeTimeout))
	defer cancel()
	got, err := a.ask(ctx, p.Call)
	if err != nil {
		return false, 0, err
	}
	is, err := a.eval(ctx, p.IsMe, got.env)
	if err != nil {
		return false, 0, fmt.Errorf("%s, and `%s` cannot be evaluated on it: %s", got.was(), p.IsMe, firstLine(err))
	}
	if is != true {
		return false, 0, nil
	}
	if p.Term != "" {
		t, err := a.eval(ctx, p.Term, got.env)
		if err != nil {
			return false, 0, fmt.Errorf("%s, and `%s` finds no term in it: %s", got.was(), p.Term, firstLine(err))
		}
		term = wholeNumber(t)
	}
	return true, term, nil
}

// wholeNumber reads a number that an expression gave; numbers in JSON come as floating point.
func wholeNumber(v any) uint64 {
	if f, ok := v.(float64); ok && f >= 0 {
		return uint64(f)
	}
	n, _ := strconv.ParseUint(strings.TrimSpace(fmt.Sprint(v)), 10, 64)
	return n
}

// What is read of a cluster's own list at the most: a program that lists more than this, or longer names, is not believed.
const (
	mostRoster     = 1000
	mostRosterName = 200
)

// roster reads the cluster's own list of members.
func (a *asker) roster(ctx context.Context, p *field.RosterProbe) ([]order.RosterEntry, error) {
	ctx, cancel := context.WithTimeout(ctx, p.Timeout.Or(probeTimeout))
	defer cancel()
	got, err := a.ask(ctx, p.Call)
	if err != nil {
		return nil, err
	}
	list, err := a.eval(ctx, p.Each, got.env)
	if err != nil {
		return nil, fmt.Errorf("%s, and `%s` cannot be evaluated on it: %s", got.was(), p.Each, firstLine(err))
	}
	items := reflect.ValueOf(list)
	if !items.IsValid() || items.Kind() != reflect.Slice {
		return nil, fmt.Errorf("%s, and `%s` is not a list in it", got.was(), p.Each)
	}
	if n := items.Len(); n > mostRoster {
		return nil, fmt.Errorf("it lists %d members, and %d are the most that are read", n, mostRoster)
	}
	entries := make([]order.RosterEntry, 0, items.Len())
	for i := range items.Len() {
		item := items.Index(i).Interface()
		env := map[string]any{"item": item, "me": string(a.member)}
		one := func(key, text string) (string, error) {
			value, err := a.eval(ctx, text, env)
			if err != nil {
				return "", fmt.Errorf("`%s` cannot be evaluated on the entry %s: %s", text, shortened(jsonText(item)), firstLine(err))
			}
			if value == nil {
				return "", fmt.Errorf("`%s` finds no %s in the entry %s", text, key, shortened(jsonText(item)))
			}
			word := fmt.Sprint(value)
			if f, ok := value.(float64); ok && f == math.Trunc(f) {
				word = strconv.FormatFloat(f, 'f', -1, 64)
			}
			if len(word) > mostRosterName {
				return "", fmt.Errorf("the %s that `%s` finds is longer than %d characters: %s", key, text, mostRosterName, shortened(word))
			}
			return clean(word), nil
		}
		id, err := one("id", p.ID)
		if err != nil {
			return nil, err
		}
		name, err := one("name", p.Name)
		if err != nil {
			return nil, err
		}
		var voter any = true
		if p.Voter != "" {
			if voter, err = a.eval(ctx, p.Voter, env); err != nil {
				return nil, fmt.Errorf("`%s` cannot be evaluated on the entry %s: %s", p.Voter, shortened(jsonText(item)), firstLine(err))
			}
		}
		entries = append(entries, order.RosterEntry{ID: id, Name: name, Voter: voter == true})
	}
	slices.SortFunc(entries, func(x, y order.RosterEntry) int { return cmp.Or(cmp.Compare(x.Name, y.Name), cmp.Compare(x.ID, y.ID)) })
	return entries, nil
}

func jsonText(v any) string {
	if s, ok := v.(string); ok {
		return s
	}
	data, _ := json.Marshal(v)
	return string(data)
}

func shortened(s string) string {
	s = clean(strings.Join(strings.FieldsFunc(s, func(r rune) bool { return r == '\n' || r == '\r' }), " | "))
	s = strings.TrimSpace(s)
	if len(s) > 160 {
		return strings.ToValidUTF8(s[:160], "") + "…"
	}
	if s == "" {
		return "empty"
	}
	return s
}

func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}

// clean makes what a program said fit for one line on a screen.
func clean(s string) string { return strings.TrimSpace(logline.Clean(s)) }
