package exposition

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"

	"lanternfield/internal/core/pace"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

func ferries() *snapshot.Snapshot {
	noon := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	return &snapshot.Snapshot{Field: "saltmarsh", State: snapshot.Degraded, At: noon, Rollout: snapshot.RolloutView{What: "deploy", Began: noon, Ended: noon.Add(42 * time.Second)},
		Roles: []snapshot.RoleView{{Role: "wardens", Want: 3, Ready: 2, Votes: true, VotesReady: 2, VotesNeeded: 2, Led: true, Leader: "wardens-1"}, {Role: "crews", Want: 1, Survives: -1}},
		Members: []snapshot.MemberView{{Member: "wardens-1", Role: "wardens", Node: "gull-1", Zone: `north "quay"`, Phase: state.Ready, Leads: true, Incarnation: 2, Probe: snapshot.ProbeView{LatencyMS: 0.8}, Memory: 1 << 20},
			{Member: "crews-1", Role: "crews", Node: "tern-1", Phase: state.Starting, Pace: &pace.Judgement{Word: pace.Stuck}}},
		Nodes: []snapshot.NodeView{{Node: "gull-1", Zone: "north-quay"}, {Node: "tern-1", Unreachable: true}}, Proofs: []snapshot.ProofView{{Role: "wardens", Name: "writes", At: noon, OK: true}}}
}

// TestOthersCanReadIt has the official parser read what is told, in both forms.
func TestOthersCanReadIt(t *testing.T) {
	noon := ferries().At
	for _, kind := range []expfmt.FormatType{expfmt.TypeTextPlain, expfmt.TypeOpenMetrics} {
		var b bytes.Buffer
		if err := Write(&b, expfmt.NewFormat(kind), ferries(), noon.Add(time.Minute), noon); err != nil {
			t.Fatal(err)
		}
		text := b.String()
		if ends := strings.HasSuffix(text, "# EOF\n"); ends != (kind == expfmt.TypeOpenMetrics) {
			t.Errorf("its end is wrong:\n%s", text)
		}
		parser := expfmt.NewTextParser(model.UTF8Validation)
		all, err := parser.TextToMetricFamilies(strings.NewReader(strings.TrimSuffix(text, "# EOF\n")))
		if err != nil {
			t.Fatalf("%v in\n%s", err, text)
		}
		value := func(name string, labels ...string) float64 {
			t.Helper()
			for _, m := range all[name].GetMetric() {
				has := map[string]string{}
				for _, l := range m.Label {
					has[l.GetName()] = l.GetValue()
				}
				fits := has["field"] == "saltmarsh"
				for i := 0; i < len(labels); i += 2 {
					fits = fits && has[labels[i]] == labels[i+1]
				}
				if fits {
					return m.Gauge.GetValue()
				}
			}
			t.Errorf("there is no %s of %v", name, labels)
			return -99
		}
		for _, c := range []struct {
			got, want float64
		}{
			{value("lanternfield_field_state", "state", "degraded"), 1}, {value("lanternfield_field_state", "state", "converged"), 0},
			{value("lanternfield_role_members_ready", "role", "wardens"), 2}, {value("lanternfield_role_survives", "role", "crews"), -1}, {value("lanternfield_role_has_leader", "role", "wardens"), 1},
			{value("lanternfield_member_ready", "member", "wardens-1", "zone", `north "quay"`), 1}, {value("lanternfield_member_stuck", "member", "crews-1"), 1},
			{value("lanternfield_member_probe_seconds", "member", "wardens-1"), 0.0008}, {value("lanternfield_node_reachable", "node", "tern-1"), 0},
			{value("lanternfield_rollout_seconds", "what", "deploy"), 42}, {value("lanternfield_proof_holds", "proof", "writes"), 1}, {value("lanternfield_keeper_up_seconds"), 60},
		} {
			if c.got != c.want {
				t.Errorf("%v, want %v", c.got, c.want)
			}
		}
	}
}

// TestItIsServed asks over a connection: with a field that can be looked at, with one that cannot, and at an address that somebody else has.
func TestItIsServed(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := l.Addr().String()
	if _, err := Serve(t.Context(), address, nil); err == nil || !strings.Contains(err.Error(), "cannot be told at "+address) {
		t.Errorf("an address that somebody has: %v", err)
	}
	l.Close()
	var failing error
	end, err := Serve(t.Context(), address, func(context.Context) (*snapshot.Snapshot, error) { return ferries(), failing })
	if err != nil {
		t.Fatal(err)
	}
	ask := func() (int, string, string) {
		t.Helper()
		res, err := http.Get("http://" + address + "/metrics")
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		body, _ := io.ReadAll(res.Body)
		return res.StatusCode, res.Header.Get("Content-Type"), string(body)
	}
	if status, kind, body := ask(); status != http.StatusOK || !strings.Contains(kind, "openmetrics") || !strings.Contains(body, `lanternfield_member_leads{field="saltmarsh",role="wardens"`) {
		t.Errorf("%d %s\n%s", status, kind, body)
	}
	failing = errors.New("the log is broken")
	if status, _, body := ask(); status != http.StatusServiceUnavailable || !strings.Contains(body, "the log is broken") {
		t.Errorf("a field that cannot be looked at: %d %s", status, body)
	}
	end()
	if _, err := http.Get("http://" + address + "/metrics"); err == nil {
		t.Error("it is served after its end")
	}
}
