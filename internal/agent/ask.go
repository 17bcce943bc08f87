package agent

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"syscall"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// mostAsked is how long a question to a member may take at the most.
const mostAsked = 2 * time.Minute

// ask puts a question to one of the members here, once, and judges the answer.
func (a *Agent) ask(ctx context.Context, name field.MemberName, q order.Question) (order.Said, error) {
	a.mu.Lock()
	h := a.members[name]
	a.mu.Unlock()
	if h == nil {
		return order.Said{}, agentapi.Refuse(http.StatusNotFound, fmt.Sprintf("%s is not on %s", name, a.options.Node))
	}
	spec := h.member.visitSpec()
	if spec == nil {
		return order.Said{}, agentapi.Refuse(http.StatusConflict, fmt.Sprintf("nothing is known of %s by which it could be asked", name))
	}
	ctx, cancel := context.WithTimeoutCause(ctx, min(q.Timeout, mostAsked), fmt.Errorf("no answer within %s: %w", field.Span(min(q.Timeout, mostAsked)), context.DeadlineExceeded))
	defer cancel()
	if q.At != nil { // somebody else, from here
		there := *spec
		there.Address, there.Ports = q.At.Address, q.At.Ports
		if q.At.TLS != nil {
			there.TLS = q.At.TLS
		}
		spec = &there
	}
	ask := h.member.asker(spec)
	got, err := ask.ask(ctx, q.Call)
	if err == nil {
		err = ask.judge(ctx, &field.Probe{Call: q.Call, Expect: q.Expect}, got)
	}
	if err != nil {
		return order.Said{Why: err.Error(), Silent: errors.Is(err, syscall.ECONNREFUSED)}, nil
	}
	said := order.Said{OK: true, Captured: map[string]string{}}
	for _, key := range slices.Sorted(maps.Keys(q.Capture)) {
		value, err := ask.eval(ctx, q.Capture[key], got.env)
		if err != nil || value == nil {
			if err == nil {
				err = errors.New("it is not in it")
			}
			return order.Said{Why: fmt.Sprintf("%s, and `%s` finds no %s in it: %s", got.was(), q.Capture[key], key, firstLine(err))}, nil
		}
		said.Captured[key] = jsonText(value)
	}
	return said, nil
}
