package agent

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/logline"
	"lanternfield/internal/identity"
)

// How often it is looked whether there are lines to be forwarded, how many bytes of the log are sent at once, how long that may take, and how soon it is tried
// again.
const (
	forwardEvery     = 250 * time.Millisecond
	forwardAtOnce    = 256 << 10
	forwardWait      = 10 * time.Second
	forwardAgain     = time.Second
	forwardIdle      = 3 * time.Second // until it is looked again whether lines are to be forwarded at all
	forwardAgainMost = time.Minute
)

// forwarded is how far the lines of a member have been forwarded, as it is on disk.
type forwarded struct {
	To   string `json:"to"`
	Next int64  `json:"next"` // all of the log up to there has been sent
}

// sink is where lines go.
type sink interface {
	send(ctx context.Context, lines []logline.Line) error
	close()
}

// forwarding sends what the member writes to where its role says, until the context ends. What could not be sent waits in the log, and is tried again.
func (m *member) forwarding(ctx context.Context) {
	var kept forwarded
	_ = m.disk.load(m.forwardFile(), &kept)
	var to sink
	var of field.Logs
	pause, size := time.Duration(0), kept.Next
	defer func() {
		if to != nil {
			to.close()
		}
	}()
	for sleep(ctx, max(forwardEvery, pause)) {
		spec := m.visitSpec()
		if spec == nil || spec.Logs == nil {
			m.forwardSays(nil)
			pause = forwardIdle
			continue
		}
		if to == nil || of != *spec.Logs {
			if to != nil {
				to.close()
			}
			if of, to = *spec.Logs, m.sinkOf(*spec.Logs); kept.To != of.To {
				kept = forwarded{To: of.To}
			}
		}
		log, err := m.readLog(kept.Next, forwardAtOnce)
		if err == nil && log.From < kept.Next { // it was cut; what had not been sent by then is gone
			if lost := size - kept.Next; lost > 0 {
				now := time.Now().UTC()
				log.Lines = append([]logline.Line{{At: now, Level: logline.Warning, Text: fmt.Sprintf("%d bytes of the log were cut before they could be forwarded", lost)}}, log.Lines...)
			}
		}
		if err == nil && len(log.Lines) > 0 {
			sending, done := context.WithTimeout(ctx, forwardWait)
			err = to.send(sending, log.Lines)
			done()
		}
		m.forwardSays(err)
		if err != nil {
			pause = min(max(forwardAgain, 2*pause), forwardAgainMost)
			size = max(size, m.logSize())
			continue
		}
		pause, size = 0, m.logSize()
		if log.Next != kept.Next {
			kept.Next = log.Next
			if err := m.disk.save(m.forwardFile(), kept, false); err != nil && ctx.Err() == nil {
				slog.Warn("how far lines are forwarded cannot be noted", "member", m.name, "error", err)
			}
		}
	}
}

func (m *member) forwardFile() string {
	return filepath.Join(m.disk.record(m.name), "forwarded.json")
}

// forwardSays has it told why lines cannot be forwarded; nil where they are, or are not to be.
func (m *member) forwardSays(err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.unsent = ""; err != nil {
		m.unsent = "lines cannot be forwarded, and wait on the node: " + err.Error()
	}
}

func (m *member) sinkOf(l field.Logs) sink {
	s := source{member: string(m.name), role: string(roleName(m))}
	if s.node, _ = os.Hostname(); m.disk.dir != "" {
		s.node = filepath.Base(m.disk.dir)
	}
	if at := l.Syslog(); at != "" {
		return &syslogSink{source: s, at: at, authority: l.Authority}
	}
	return &otlpSink{source: s, to: l.To, authority: l.Authority}
}

func roleName(m *member) field.RoleName {
	if spec := m.visitSpec(); spec != nil {
		return spec.Role
	}
	return ""
}

// source is who has written lines.
type source struct{ node, role, member string }

// syslogSink sends lines as syslog (RFC 5424), each with its length before it, over TLS (RFC 5425).
type syslogSink struct {
	source
	at, authority string
	conn          net.Conn
}

func (s *syslogSink) send(ctx context.Context, lines []logline.Line) error {
	if s.conn != nil { // who listens says nothing; that it has gone shows in an end of what it could say
		_ = s.conn.SetReadDeadline(time.Now().Add(time.Millisecond))
		var one [1]byte
		if _, err := s.conn.Read(one[:]); err != nil && !os.IsTimeout(err) {
			s.close()
		}
	}
	if s.conn == nil {
		terms, err := identity.Believing(s.authority)
		if err != nil {
			return err
		}
		d := tls.Dialer{NetDialer: &net.Dialer{Timeout: forwardWait}, Config: terms}
		if s.conn, err = d.DialContext(ctx, "tcp", s.at); err != nil {
			s.conn = nil
			return err
		}
	}
	var out bytes.Buffer
	for _, l := range lines {
		text := s.message(l)
		fmt.Fprintf(&out, "%d %s", len(text), text)
	}
	deadline, _ := ctx.Deadline()
	_ = s.conn.SetWriteDeadline(deadline)
	if _, err := s.conn.Write(out.Bytes()); err != nil {
		s.close()
		return err
	}
	return nil
}

func (s *syslogSink) close() {
	if s.conn != nil {
		s.conn.Close()
		s.conn = nil
	}
}

// local0 is the facility under which programs log that belong to no other.
const local0 = 16 * 8

// severities are those of syslog.
var severities = map[logline.Level]int{logline.Error: 3, logline.Warning: 4, logline.Info: 6, "": 6}

// message words a line: of that node, by that member, its role as the kind of message.
func (s *syslogSink) message(l logline.Line) string {
	word := func(text string, most int) string {
		if text == "" {
			return "-"
		}
		return text[:min(len(text), most)]
	}
	return fmt.Sprintf("<%d>1 %s %s %s - %s - %s", local0+severities[l.Level], l.At.UTC().Format("2006-01-02T15:04:05.000000Z"), word(s.node, 255), word(s.member, 48), word(s.role, 32), whole(l))
}

// whole is a line with what goes on with it.
func whole(l logline.Line) string { return strings.Join(append([]string{l.Text}, l.More...), "\n") }

// otlpSink sends lines as log records, by OTLP over HTTP, as JSON.
type otlpSink struct {
	source
	to, authority string
	client        *http.Client
}

// The parts of OTLP that are sent (opentelemetry-proto, logs/v1).
type (
	otlpText  struct{ StringValue string }
	otlpValue struct {
		Key   string   `json:"key"`
		Value otlpText `json:"value"`
	}
	otlpRecord struct {
		TimeUnixNano         string   `json:"timeUnixNano"`
		ObservedTimeUnixNano string   `json:"observedTimeUnixNano"`
		SeverityNumber       int      `json:"severityNumber,omitempty"`
		SeverityText         string   `json:"severityText,omitempty"`
		Body                 otlpText `json:"body"`
	}
	otlpScope struct {
		Scope      map[string]string `json:"scope"`
		LogRecords []otlpRecord      `json:"logRecords"`
	}
	otlpResource struct {
		Resource struct {
			Attributes []otlpValue `json:"attributes"`
		} `json:"resource"`
		ScopeLogs []otlpScope `json:"scopeLogs"`
	}
	otlpLogs struct {
		ResourceLogs []otlpResource `json:"resourceLogs"`
	}
)

// MarshalJSON writes the text as OTLP names it.
func (t otlpText) MarshalJSON() ([]byte, error) {
	return json.Marshal(map[string]string{"stringValue": t.StringValue})
}

// otlpSeverities are those of log records.
var otlpSeverities = map[logline.Level]int{logline.Error: 17, logline.Warning: 13, logline.Info: 9}

func (s *otlpSink) send(ctx context.Context, lines []logline.Line) error {
	if s.client == nil {
		terms, err := identity.Believing(s.authority)
		if err != nil {
			return err
		}
		s.client = &http.Client{Transport: &http.Transport{TLSClientConfig: terms, Proxy: http.ProxyFromEnvironment, TLSHandshakeTimeout: forwardWait},
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	}
	var r otlpResource
	for _, a := range [][2]string{{"service.name", s.role}, {"service.instance.id", s.member}, {"host.name", s.node}} {
		r.Resource.Attributes = append(r.Resource.Attributes, otlpValue{a[0], otlpText{a[1]}})
	}
	scope := otlpScope{Scope: map[string]string{"name": "lanternfield"}}
	now := strconv.FormatInt(time.Now().UnixNano(), 10)
	for _, l := range lines {
		scope.LogRecords = append(scope.LogRecords, otlpRecord{TimeUnixNano: strconv.FormatInt(l.At.UnixNano(), 10), ObservedTimeUnixNano: now, SeverityNumber: otlpSeverities[l.Level],
			SeverityText: string(l.Level), Body: otlpText{whole(l)}})
	}
	r.ScopeLogs = []otlpScope{scope}
	data, err := json.Marshal(otlpLogs{[]otlpResource{r}})
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.to, bytes.NewReader(data))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	res, err := s.client.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(res.Body, 200))
	if res.StatusCode/100 != 2 {
		return fmt.Errorf("%s answers %s %q", s.to, res.Status, said)
	}
	return nil
}

func (s *otlpSink) close() {
	if s.client != nil {
		s.client.CloseIdleConnections()
		s.client = nil
	}
}
