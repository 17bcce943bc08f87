// Package tracing tells rollouts as traces, by OTLP over HTTP, for the monitoring that people have: a trace a rollout, in it a span a member, in that a span a
// phase, and a span for each gate that stood in the way.
package tracing

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"net/url"
	"strings"
	"time"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/sdk/resource"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"

	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

// Looks gives a rollout by its number.
type Looks func(ctx context.Context, number int) (*rollout.Record, error)

// Teller sends rollouts to an endpoint.
type Teller struct{ provider *sdk.TracerProvider }

// New makes a teller for an endpoint such as http://127.0.0.1:4318 (its /v1/traces is asked) or one with a path. What else OTEL_EXPORTER_OTLP_… variables say, such
// as headers and certificates, holds too.
func New(ctx context.Context, endpoint, field, release string) (*Teller, error) {
	to, err := url.Parse(endpoint)
	if err != nil || to.Host == "" || to.Scheme != "http" && to.Scheme != "https" {
		return nil, fmt.Errorf("%q is no endpoint for traces; write http://HOST:4318 or https://HOST/PATH", endpoint)
	}
	if strings.Trim(to.Path, "/") == "" {
		to.Path = "/v1/traces"
	}
	exporter, err := otlptracehttp.New(ctx, otlptracehttp.WithEndpointURL(to.String()))
	if err != nil {
		return nil, err
	}
	return with(exporter, field, release), nil
}

// with makes a teller for an exporter.
func with(exporter sdk.SpanExporter, field, release string) *Teller {
	of := resource.NewSchemaless(attribute.String("service.name", "lanternfield"), attribute.String("service.version", release), attribute.String("service.instance.id", field))
	return &Teller{sdk.NewTracerProvider(sdk.WithBatcher(exporter), sdk.WithResource(of), sdk.WithSampler(sdk.AlwaysSample()))}
}

// Tell sends a rollout that has ended.
func (t *Teller) Tell(ctx context.Context, field string, r *rollout.Record) error {
	tracer := t.provider.Tracer("lanternfield/rollouts")
	name := cmp.Or(r.What, "rollout")
	ctx, root := tracer.Start(ctx, name, trace.WithNewRoot(), trace.WithTimestamp(r.Began), trace.WithAttributes(attribute.String("lanternfield.field", field), attribute.Int("lanternfield.rollout", r.Number),
		attribute.String("lanternfield.by", r.By), attribute.String("lanternfield.outcome", string(r.Outcome)), attribute.Int("lanternfield.members", len(r.Rows))))
	for _, p := range r.Pauses {
		root.AddEvent("paused", trace.WithTimestamp(p.From))
		if !p.To.IsZero() {
			root.AddEvent("resumed", trace.WithTimestamp(p.To))
		}
	}
	for i := range r.Gates {
		g := &r.Gates[i]
		_, span := tracer.Start(ctx, fmt.Sprintf("%s waits for %s", g.Role, g.Gate), trace.WithTimestamp(g.Since), trace.WithAttributes(attribute.String("lanternfield.role", string(g.Role)),
			attribute.String("lanternfield.opened_by", string(g.By))))
		if !g.Open() {
			span.SetStatus(codes.Error, "it did not open")
		}
		span.End(trace.WithTimestamp(later(g.Opened, r.End())))
	}
	for i := range r.Rows {
		tellRow(ctx, tracer, &r.Rows[i], r.End())
	}
	if r.Outcome != state.Completed {
		root.SetStatus(codes.Error, cmp.Or(r.Failed, string(r.Outcome)))
	}
	root.End(trace.WithTimestamp(r.End()))
	return t.provider.ForceFlush(ctx)
}

// tellRow makes a span of a member, and in it one of each of its phases.
func tellRow(ctx context.Context, tracer trace.Tracer, row *rollout.Row, end time.Time) {
	if len(row.Segments) == 0 {
		return
	}
	of := trace.WithAttributes(attribute.String("lanternfield.member", string(row.Member)), attribute.String("lanternfield.role", string(row.Role)), attribute.String("lanternfield.node", string(row.Node)),
		attribute.String("lanternfield.zone", string(row.Zone)), attribute.String("lanternfield.action", string(row.Action)))
	ctx, span := tracer.Start(ctx, fmt.Sprintf("%s %s", row.Member, row.Action), trace.WithTimestamp(row.Segments[0].From), of)
	if row.Done.IsZero() {
		span.SetStatus(codes.Error, fmt.Sprintf("it is %s", row.Now().Phase))
	}
	for _, s := range row.Segments {
		if !row.Done.IsZero() && !s.From.Before(row.Done) {
			break // it had come to where it was to come
		}
		_, phase := tracer.Start(ctx, string(s.Phase), trace.WithTimestamp(s.From), of)
		if s.Why != "" {
			phase.SetStatus(codes.Error, s.Why)
		}
		phase.End(trace.WithTimestamp(earlier(s.Until(end), later(row.Done, end))))
	}
	span.End(trace.WithTimestamp(later(row.Done, end)))
}

// later is a time, or, where that is not known, another.
func later(at, otherwise time.Time) time.Time {
	if at.IsZero() {
		return otherwise
	}
	return at
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// Close sends what waits, and lets go of the connection.
func (t *Teller) Close(ctx context.Context) error { return t.provider.Shutdown(ctx) }

// Follow tells every rollout that ends from now on, until the context does. A rollout that cannot be told is said, and left.
func (t *Teller) Follow(ctx context.Context, field string, watch <-chan *snapshot.Snapshot, look Looks) {
	told, known := 0, false
	for snap := range watch {
		r := snap.Rollout
		if r.Number == 0 || r.Active {
			if !known && r.Active {
				told, known = r.Number-1, true
			}
			continue
		}
		if !known { // it has ended before
			told, known = r.Number, true
			continue
		}
		if r.Number <= told {
			continue
		}
		told = r.Number
		record, err := look(ctx, r.Number)
		if err == nil {
			err = t.Tell(ctx, field, record)
		}
		if err != nil && ctx.Err() == nil {
			slog.Warn("a rollout cannot be told as a trace", "rollout", r.Number, "error", err)
		}
	}
}
