// Package exposition tells a field's state as OpenMetrics, for the monitoring that people have.
package exposition

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"runtime"
	"time"

	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"

	"lanternfield/internal/core/pace"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

// Serve tells the field's state at an address until the context ends; end waits until that is done.
func Serve(ctx context.Context, address string, look func(context.Context) (*snapshot.Snapshot, error)) (end func(), err error) {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("the field's state cannot be told at %s: %w", address, err)
	}
	mux := http.NewServeMux()
	began := time.Now()
	mux.HandleFunc("GET /metrics", func(w http.ResponseWriter, r *http.Request) {
		asking, done := context.WithTimeout(r.Context(), lookWithin)
		defer done()
		snap, err := look(asking)
		if err != nil {
			http.Error(w, err.Error(), http.StatusServiceUnavailable)
			return
		}
		open, plain := expfmt.NewFormat(expfmt.TypeOpenMetrics), expfmt.NewFormat(expfmt.TypeTextPlain)
		format := open
		if r.Header.Get("Accept") != "" {
			format = expfmt.NegotiateAccept(r.Header, open, plain)
		}
		w.Header().Set("Content-Type", string(format))
		_ = Write(w, format, snap, time.Now(), began)
	})
	server := &http.Server{Handler: mux, ReadHeaderTimeout: lookWithin}
	failed := make(chan struct{})
	go func() {
		defer close(failed)
		_ = server.Serve(listener)
	}()
	stop := context.AfterFunc(ctx, func() { server.Close() })
	return func() { stop(); server.Close(); <-failed }, nil
}

// lookWithin is how long a look at the field may take.
const lookWithin = 8 * time.Second

// Write writes what a snapshot says, as measures.
func Write(w io.Writer, format expfmt.Format, snap *snapshot.Snapshot, now, began time.Time) error {
	encoder := expfmt.NewEncoder(w, format)
	var failed error
	for _, f := range families(snap, now, began) {
		failed = errors.Join(failed, encoder.Encode(f))
	}
	if closer, is := encoder.(expfmt.Closer); is {
		failed = errors.Join(failed, closer.Close())
	}
	return failed
}

// family is measures of one name.
type family struct{ *dto.MetricFamily }

func gauge(name, help string) family {
	kind := dto.MetricType_GAUGE
	return family{&dto.MetricFamily{Name: &name, Help: &help, Type: &kind}}
}

// add adds one measure; labels are names and values in turn.
func (f family) add(value float64, labels ...string) {
	m := &dto.Metric{Gauge: &dto.Gauge{Value: &value}}
	for i := 0; i+1 < len(labels); i += 2 {
		m.Label = append(m.Label, &dto.LabelPair{Name: &labels[i], Value: &labels[i+1]})
	}
	f.Metric = append(f.Metric, m)
}

func flag(is bool) float64 {
	if is {
		return 1
	}
	return 0
}

// families are all measures, in the order in which they are told. Those that have nothing to say are left out.
func families(snap *snapshot.Snapshot, now, began time.Time) []*dto.MetricFamily {
	var out []*dto.MetricFamily
	of := func(f family, fill func(add func(value float64, labels ...string))) {
		fill(func(value float64, labels ...string) {
			f.add(value, append([]string{"field", snap.Field}, labels...)...)
		})
		if len(f.Metric) > 0 {
			out = append(out, f.MetricFamily)
		}
	}
	of(gauge("lanternfield_field_state", "Which state the field is in: 1 for that one, 0 for all others."), func(add func(float64, ...string)) {
		for _, c := range snapshot.Conditions {
			add(flag(c == snap.State), "state", string(c))
		}
	})
	roles := func(name, help string, value func(r snapshot.RoleView) (float64, bool)) {
		of(gauge(name, help), func(add func(float64, ...string)) {
			for _, r := range snap.Roles {
				if v, ok := value(r); ok {
					add(v, "role", string(r.Role))
				}
			}
		})
	}
	roles("lanternfield_role_members_wanted", "How many members the role is to have.", func(r snapshot.RoleView) (float64, bool) { return float64(r.Want), true })
	roles("lanternfield_role_members_ready", "How many members of the role are ready.", func(r snapshot.RoleView) (float64, bool) { return float64(r.Ready), true })
	roles("lanternfield_role_survives", "How many more members the role can lose at the same time and still do its work; -1 where it cannot do it.", func(r snapshot.RoleView) (float64, bool) { return float64(r.Survives), true })
	roles("lanternfield_role_votes", "How many voters of the role are ready.", func(r snapshot.RoleView) (float64, bool) { return float64(r.VotesReady), r.Votes })
	roles("lanternfield_role_votes_needed", "How many votes the role needs.", func(r snapshot.RoleView) (float64, bool) { return float64(r.VotesNeeded), r.Votes })
	roles("lanternfield_role_has_leader", "Whether a role that is led has a leader.", func(r snapshot.RoleView) (float64, bool) { return flag(r.Leader != ""), r.Led })
	members := func(name, help string, value func(m snapshot.MemberView) (float64, bool)) {
		of(gauge(name, help), func(add func(float64, ...string)) {
			for _, m := range snap.Members {
				if v, ok := value(m); ok {
					add(v, "role", string(m.Role), "member", string(m.Member), "node", string(m.Node), "zone", string(m.Zone))
				}
			}
		})
	}
	members("lanternfield_member_ready", "Whether the member is ready.", func(m snapshot.MemberView) (float64, bool) { return flag(m.Phase == state.Ready), true })
	members("lanternfield_member_unknown", "Whether nothing is known of the member, since its node cannot be reached.", func(m snapshot.MemberView) (float64, bool) { return flag(m.Phase == state.Unknown), true })
	members("lanternfield_member_leads", "Whether the member leads its role.", func(m snapshot.MemberView) (float64, bool) { return flag(m.Leads), true })
	members("lanternfield_member_stuck", "Whether the member is stuck on its way.", func(m snapshot.MemberView) (float64, bool) {
		return flag(m.Pace != nil && m.Pace.Word == pace.Stuck), true
	})
	members("lanternfield_member_starts", "How often a process was started for the member.", func(m snapshot.MemberView) (float64, bool) { return float64(m.Incarnation), true })
	members("lanternfield_member_probe_seconds", "How long the newest answer to the ready probe took.", func(m snapshot.MemberView) (float64, bool) { return m.Probe.LatencyMS / 1000, m.Probe.LatencyMS > 0 })
	members("lanternfield_member_memory_bytes", "What the processes of the member have for themselves.", func(m snapshot.MemberView) (float64, bool) { return float64(m.Memory), m.Memory > 0 })
	of(gauge("lanternfield_node_reachable", "Whether the node's agent answers."), func(add func(float64, ...string)) {
		for _, n := range snap.Nodes {
			add(flag(!n.Unreachable && !n.Asked), "node", string(n.Node), "zone", string(n.Zone))
		}
	})
	of(gauge("lanternfield_rollout_active", "Whether something is being carried out."), func(add func(float64, ...string)) { add(flag(snap.Rollout.Active)) })
	of(gauge("lanternfield_rollout_seconds", "How long what is carried out has taken so far, or took that ended last."), func(add func(float64, ...string)) {
		switch r := snap.Rollout; {
		case r.What == "":
		case r.Active:
			add(now.Sub(r.Began).Seconds(), "what", r.What)
		default:
			add(r.Ended.Sub(r.Began).Seconds(), "what", r.What)
		}
	})
	of(gauge("lanternfield_proof_holds", "Whether the proof held when it was done last."), func(add func(float64, ...string)) {
		for _, p := range snap.Proofs {
			if !p.At.IsZero() {
				add(flag(p.OK), "role", string(p.Role), "proof", p.Name)
			}
		}
	})
	var memory runtime.MemStats
	runtime.ReadMemStats(&memory)
	of(gauge("lanternfield_keeper_memory_bytes", "What the process that tells this has from the operating system."), func(add func(float64, ...string)) { add(float64(memory.Sys)) })
	of(gauge("lanternfield_keeper_up_seconds", "For how long the process that tells this has run."), func(add func(float64, ...string)) { add(now.Sub(began).Seconds()) })
	return out
}
