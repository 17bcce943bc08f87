package tracing

import (
	"compress/gzip"
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	tracev1 "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

// collected is an endpoint that takes traces, as a collector does.
type collected struct {
	mu    sync.Mutex
	paths []string
	spans []*tracev1.Span
}

func (c *collected) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body := io.Reader(r.Body)
	if r.Header.Get("Content-Encoding") == "gzip" {
		body, _ = gzip.NewReader(r.Body)
	}
	data, _ := io.ReadAll(body)
	var got collector.ExportTraceServiceRequest
	if err := proto.Unmarshal(data, &got); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.paths = append(c.paths, r.URL.Path)
	for _, resource := range got.ResourceSpans {
		for _, scope := range resource.ScopeSpans {
			c.spans = append(c.spans, scope.Spans...)
		}
	}
}

// TestARolloutIsATrace tells one with two members, one of which was dark for a moment, and a gate that did not open; and follows a field.
func TestARolloutIsATrace(t *testing.T) {
	c := &collected{}
	server := httptest.NewServer(c)
	defer server.Close()
	ctx, stop := context.WithTimeout(context.Background(), 20*time.Second)
	defer stop()
	teller, err := New(ctx, server.URL, "saltmarsh", "test")
	if err != nil {
		t.Fatal(err)
	}
	noon := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	at := func(seconds int) time.Time { return noon.Add(time.Duration(seconds) * time.Second) }
	record := &rollout.Record{Number: 7, What: "deploy", By: "ada", Began: at(0), Ended: at(60), Outcome: state.Failing, Failed: "crews-1 is late", At: at(60),
		Pauses: []rollout.Span{{From: at(10), To: at(12)}},
		Gates:  []rollout.Gate{{Role: "crews", Since: at(1), Gate: state.Gate{On: "wardens"}}},
		Rows: []rollout.Row{
			{Member: "wardens-1", Role: "wardens", Node: "gull-1", Action: rollout.Comes, Done: at(20), Segments: []rollout.Segment{{Phase: state.Placing, From: at(1), To: at(3)},
				{Phase: state.Failed, From: at(3), To: at(5), Why: "ended with exit code 1"}, {Phase: state.Starting, From: at(5), To: at(20)}, {Phase: state.Ready, From: at(20)}}},
			{Member: "crews-1", Role: "crews", Node: "tern-1", Action: rollout.Comes, Segments: []rollout.Segment{{Phase: state.Starting, From: at(30)}}}}}
	watch := make(chan *snapshot.Snapshot, 8)
	for _, v := range []snapshot.RolloutView{{Number: 6, Ended: at(-100)}, {Number: 7, Active: true}, {Number: 7, Ended: at(60)}, {Number: 7, Ended: at(60)}} {
		watch <- &snapshot.Snapshot{Rollout: v}
	}
	close(watch)
	var asked []int
	teller.Follow(ctx, "saltmarsh", watch, func(_ context.Context, number int) (*rollout.Record, error) {
		asked = append(asked, number)
		return record, nil
	})
	if err := teller.Close(ctx); err != nil {
		t.Error(err)
	}
	if len(asked) != 1 || asked[0] != 7 {
		t.Errorf("it was asked for rollouts %v", asked)
	}
	by := map[string]*tracev1.Span{}
	for _, s := range c.spans {
		by[s.Name] = s
	}
	root := by["deploy"]
	if root == nil || len(c.spans) != 8 || c.paths[0] != "/v1/traces" {
		t.Fatalf("at %v there are %d spans: %v", c.paths, len(c.spans), by)
	}
	if root.Status.GetMessage() != "crews-1 is late" || len(root.Events) != 2 || root.EndTimeUnixNano != uint64(at(60).UnixNano()) {
		t.Errorf("the root is %+v", root)
	}
	member := by["wardens-1 comes"]
	if string(member.ParentSpanId) != string(root.SpanId) || member.StartTimeUnixNano != uint64(at(1).UnixNano()) || member.EndTimeUnixNano != uint64(at(20).UnixNano()) || member.Status.GetCode() == tracev1.Status_STATUS_CODE_ERROR {
		t.Errorf("a member is %+v", member)
	}
	if failed := by["failed"]; string(failed.ParentSpanId) != string(member.SpanId) || failed.Status.GetMessage() != "ended with exit code 1" {
		t.Errorf("a phase is %+v", failed)
	}
	if by["ready"] != nil {
		t.Error("what came after it was done is told too")
	}
	if late := by["crews-1 comes"]; late.Status.GetCode() != tracev1.Status_STATUS_CODE_ERROR || late.EndTimeUnixNano != uint64(at(60).UnixNano()) {
		t.Errorf("who was not done is %+v", late)
	}
	for _, bad := range []string{"127.0.0.1:4318", "ftp://x", "http://"} {
		if _, err := New(ctx, bad, "x", ""); err == nil {
			t.Errorf("%q is taken", bad)
		}
	}
}
