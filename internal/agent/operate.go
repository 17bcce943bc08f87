package agent

import (
	"cmp"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/render"
)

// How an operation is carried out.
const (
	retryFor    = 30 * time.Second // where the step says nothing
	callTimeout = 10 * time.Second
	retryPace   = 50 * time.Millisecond // after a refusal, at first
	retryMost   = 250 * time.Millisecond
	// An agent that no controller has come to for this long stops trying: another may have been told to go on by now.
	leaseFor = 6 * time.Second
)

// work is an operation under way.
type work struct {
	overtaken atomic.Bool   // a newer one about the same member has come
	done      chan struct{} // closed when nothing is being called any more
}

// keptOperation is the newest operation about one member, as it is on disk.
type keptOperation struct {
	order.Operation
	Ended bool `json:"ended"`
}

// Operate keeps an operation on disk, then carries it out. One that is known already is not carried out again; a newer
// one about the same member ends the trying of the one before.
func (a *Agent) Operate(ctx context.Context, o order.Operation) error {
	if !field.NamePattern.MatchString(string(o.Member)) || o.Spec == nil {
		return agentapi.Refuse(http.StatusBadRequest, fmt.Sprintf("the operation about %q is not whole", o.Member))
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if err := a.acceptTerm(o.Term); err != nil {
		return err
	}
	var before keptOperation
	if a.disk.load(a.disk.operation(o.Member), &before) == nil {
		switch {
		case before.ID == o.ID && !sameOperation(before.Operation, o):
			return agentapi.Refuse(http.StatusConflict, fmt.Sprintf("another operation of number %d has been taken", o.ID))
		case before.ID == o.ID:
			return nil
		case before.ID > o.ID:
			return agentapi.Refuse(http.StatusConflict, fmt.Sprintf("the operation has number %d, and number %d has been taken", o.ID, before.ID))
		}
	}
	if err := a.disk.save(a.disk.operation(o.Member), keptOperation{Operation: o}, true); err != nil {
		return agentapi.Refuse(http.StatusInsufficientStorage, err.Error())
	}
	a.taken = max(a.taken, o.ID)
	a.asked.Store(time.Now().UnixNano())
	a.work(ctx, o)
	return nil
}

// sameOperation tells whether two operations of one number are the same step about the same member.
func sameOperation(a, b order.Operation) bool {
	return a.Member == b.Member && a.Procedure == b.Procedure && a.Step == b.Step
}

// work starts carrying out an operation. One before it about the same member is not tried again, but a call that has
// been made is waited for: what the newer one finds out must not change behind its back. The caller holds the lock.
func (a *Agent) work(ctx context.Context, o order.Operation) {
	before := a.working[o.Member]
	if before != nil {
		before.overtaken.Store(true)
	}
	w := &work{done: make(chan struct{})}
	var sooner <-chan struct{}
	if h := a.members[o.Asked]; h != nil {
		sooner = h.refresh.step
	}
	a.working[o.Member] = w
	a.wait.Add(1)
	go func() {
		defer a.wait.Done()
		defer close(w.done)
		if before != nil {
			<-before.done
		}
		result := (&operation{Operation: o, asker: asker{member: o.Asked, spec: o.Spec, disk: a.disk, instance: a.runtime.Member(o.Asked, a.disk.place(o.Asked)), compile: newCompiled()}, node: a.options.Node,
			goOn: func() bool {
				return !w.overtaken.Load() && time.Since(time.Unix(0, a.asked.Load())) < leaseFor
			},
			say: func(why string) { a.tell(o, order.Report{Kind: order.Retried, Why: why}) }, sooner: sooner}).run(ctx)
		if ctx.Err() != nil || w.overtaken.Load() {
			return // the next agent goes on with it, or a newer one does
		}
		if err := a.disk.save(a.disk.operation(o.Member), keptOperation{Operation: o, Ended: true}, false); err != nil {
			slog.Error("the end of an operation cannot be noted", "member", o.Member, "error", err)
		}
		a.tell(o, result)
		if result.Kind == order.Done {
			a.lookAgain()
		}
	}()
}

func (a *Agent) tell(o order.Operation, r order.Report) {
	r.Member, r.Operation = o.Member, o.ID
	a.reports.add(r)
}

// lookAgain has the leaders and rosters of all members asked at once: somebody has come, gone or taken over.
func (a *Agent) lookAgain() {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, h := range a.members {
		h.refresh.poke()
	}
}

// resumeOperations goes on with operations that an earlier agent has not ended. How far it came is not known.
func (a *Agent) resumeOperations(ctx context.Context) {
	entries, _ := os.ReadDir(a.disk.operations())
	for _, e := range entries {
		var kept keptOperation
		if a.disk.load(filepath.Join(a.disk.operations(), e.Name()), &kept) == nil && !kept.Ended && kept.Spec != nil {
			kept.VerifyFirst, kept.Delay = true, 0
			a.work(ctx, kept.Operation)
		}
	}
}

// operation is one operation being carried out.
type operation struct {
	order.Operation
	asker
	node field.NodeName
	goOn func() bool // it may be tried again
	say  func(why string)
	said string

	sooner <-chan struct{} // who is asked has become ready
}

// run carries the operation out and gives the report that ends it. Nothing whose outcome is unknown is repeated before
// the cluster has said that it has not happened.
func (o *operation) run(ctx context.Context) order.Report {
	if !sleep(ctx, o.Delay) {
		return order.Report{}
	}
	maybe := o.VerifyFirst || o.VerifyOnly // it may have happened already
	deadline := time.Now().Add(o.Do.RetryFor.Or(retryFor))
	why, last := "", false
	for pace := retryPace; ; pace = min(pace*3/2, retryMost) {
		if maybe {
			happened, captured, err := o.happened(ctx)
			switch {
			case o.Do.DoneWhen == "":
				return order.Report{Kind: order.Unclear, Why: "whether it has happened cannot be found out: its step has no done_when"}
			case err != nil:
				why = cmp.Or(why, err.Error())
			case happened:
				return order.Report{Kind: order.Done, Captured: captured}
			case o.VerifyOnly:
				return order.Report{Kind: order.Undone, Why: "it has not happened"}
			default:
				maybe = false
			}
		}
		if !maybe && !last {
			got, err := o.call(ctx)
			if err == nil {
				captured, err := o.captured(ctx, got.env)
				if err == nil || o.Do.DoneWhen == "" {
					return order.Report{Kind: order.Done, Captured: captured}
				}
				why, maybe = err.Error(), true
				continue
			}
			why = err.Error()
			// Who answers has decided, who refuses the connection has not been asked; anything else may still come true.
			maybe = got == nil && !errors.Is(err, syscall.ECONNREFUSED)
			if got != nil && o.Do.DoneWhen != "" {
				if happened, captured, err := o.happened(ctx); err == nil && happened { // refused because it is done
					return order.Report{Kind: order.Done, Captured: captured}
				}
			}
		}
		if ctx.Err() != nil {
			return order.Report{}
		}
		if time.Now().After(deadline) || !o.goOn() {
			if maybe && !last && o.Do.DoneWhen != "" {
				last = true // nothing is called any more, but what came of the last call can be found out
				continue
			}
			if maybe {
				return order.Report{Kind: order.Unclear, Why: why}
			}
			return order.Report{Kind: order.Undone, Why: why}
		}
		if why != o.said {
			o.said = why
			o.say(why)
		}
		if !sleepOr(ctx, pace, o.sooner) {
			return order.Report{}
		}
	}
}

// call makes the call. With an error the answer is nil where there was none, so that the outcome may be unknown.
func (o *operation) call(ctx context.Context) (*answer, error) {
	ctx, cancel := context.WithTimeout(ctx, o.Do.Timeout.Or(callTimeout))
	defer cancel()
	got, err := o.ask(ctx, o.Do.Call)
	if err != nil {
		return nil, err
	}
	err = o.judge(ctx, &field.Probe{Call: o.Do.Call, Expect: o.Do.Expect}, got)
	if err != nil && o.Do.HTTP != nil && o.Do.Expect == "" {
		err = fmt.Errorf("%s (HTTP status %d)", refusal(got), got.status) // what it says itself tells most
	}
	return got, err
}

// happened asks the cluster whether the operation has had its effect.
func (o *operation) happened(ctx context.Context) (bool, map[string]string, error) {
	if o.Do.DoneWhen == "" || o.spec.Roster == nil {
		return false, nil, errors.New("there is nothing to find it out by")
	}
	ctx, cancel := context.WithTimeout(ctx, o.spec.Roster.Timeout.Or(probeTimeout))
	defer cancel()
	got, err := o.ask(ctx, o.spec.Roster.Call)
	if err != nil {
		return false, nil, err
	}
	is, err := o.eval(ctx, o.Do.DoneWhen, got.env)
	if err != nil {
		return false, nil, fmt.Errorf("%s, and `%s` cannot be evaluated on it: %s", got.was(), o.Do.DoneWhen, firstLine(err))
	}
	if is != true {
		return false, nil, nil
	}
	captured, err := o.captured(ctx, got.env)
	return true, captured, err
}

// captured takes out of an answer what the step wants to keep.
func (o *operation) captured(ctx context.Context, env map[string]any) (map[string]string, error) {
	if len(o.Do.Capture) == 0 {
		return nil, nil
	}
	out := map[string]string{}
	for name, text := range o.Do.Capture {
		value, err := o.eval(ctx, text, env)
		if err != nil || value == nil {
			was := shortened(jsonText(env["body"]))
			if len(o.Do.Secret) > 0 {
				was = "one that holds secrets" // which are not repeated
			}
			return nil, fmt.Errorf("the answer was %s, and `%s` finds no %s in it", was, text, name)
		}
		out[name] = fmt.Sprint(value)
		if slices.Contains(o.Do.Secret, name) && o.disk.sealer != nil {
			out[name] = render.SealedMark(o.node, base64.StdEncoding.EncodeToString(o.disk.sealer.Seal([]byte(out[name]))))
		}
	}
	return out, nil
}

// refusal words an answer that refuses: what it says itself, where it says so.
func refusal(got *answer) string {
	if body, ok := got.env["body"].(map[string]any); ok {
		for _, key := range []string{"error", "message"} {
			if text, ok := body[key].(string); ok && text != "" {
				return clean(strings.TrimSpace(text))
			}
		}
	}
	return shortened(jsonText(got.env["body"]))
}
