package tui

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

// BenchmarkFrame measures a key and the frame that it leads to, and, in between, snapshots that come in: median and 99th
// percentile of the time until the frame is a string.
func BenchmarkFrame(b *testing.B) {
	for _, size := range []struct{ w, h int }{{160, 40}, {80, 24}, {400, 120}} {
		b.Run(fmt.Sprintf("demo_%dx%d", size.w, size.h), func(b *testing.B) {
			r := onRehearsal(&testing.T{}, size.w, size.h)
			r.deploy(&testing.T{})
			r.world.Run(5 * time.Second)
			r.see(&testing.T{})
			frames(b, r.app)
		})
	}
	for name, keys := range map[string][]string{"rollout": {"2"}, "health": {"3"}, "chart": {"3", "enter"}, "journal": {"4"}} {
		b.Run(name+"_160x40", func(b *testing.B) {
			r, _ := lived(&testing.T{})
			r.do(keys...)
			frames(b, r.app)
		})
	}
	for _, nodes := range []int{80, 5000} {
		b.Run(fmt.Sprintf("nodes_%d_160x40", nodes), func(b *testing.B) { frames(b, wide(nodes)) })
	}
}

func frames(b *testing.B, a *app) {
	var took []time.Duration
	walk := []string{"right", "down", "left", "up", "right", "right", "down"}
	i := 0
	for b.Loop() {
		begin := time.Now()
		if i%10 == 9 {
			a.snap.At = a.snap.At.Add(time.Second)
			a.rebuild() // as when a snapshot has come
		} else {
			_, _ = a.Update(press(walk[i%len(walk)]))
		}
		_ = a.View()
		took = append(took, time.Since(begin))
		i++
	}
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, "ms/median")
	b.ReportMetric(float64(took[len(took)*99/100].Microseconds())/1000, "ms/p99")
}

// wide is the application on a field of that many nodes in fifty zones, two members on each, all lit.
func wide(nodes int) *app {
	r := onRehearsal(&testing.T{}, 160, 40)
	f := &field.Field{Name: "wide", Roles: []field.Role{
		{Name: "wardens", Kind: field.Master, Members: 5, Votes: true, Program: &field.Program{Command: []string{"x"}}},
		{Name: "crews", Kind: field.Worker, Members: 2 * nodes, Program: &field.Program{Command: []string{"x"}}}}}
	snap := &snapshot.Snapshot{Field: "wide", State: snapshot.Converged, At: noon, Verdict: "all is well"}
	for i := range nodes {
		n := field.Node{Name: field.NodeName(fmt.Sprintf("gull-%d", i+1)), Zone: field.ZoneName(fmt.Sprintf("zone-%d", i%min(50, max(1, nodes/10)))), Size: field.Size{CPU: 4}}
		f.Nodes = append(f.Nodes, n)
		snap.Nodes = append(snap.Nodes, snapshot.NodeView{Node: n.Name, Zone: n.Zone, Offered: n.Size})
		for j := range 2 {
			phase := state.Ready
			if i%97 == 5 {
				phase = state.Failed
			}
			snap.Members = append(snap.Members, snapshot.MemberView{Member: field.RoleName("crews").Member(2*i + j + 1), Role: "crews", Node: n.Name, Zone: n.Zone, Phase: phase})
		}
	}
	field.FillDefaults(f)
	for i, role := range f.Roles {
		snap.Roles = append(snap.Roles, snapshot.RoleView{Role: role.Name, Kind: role.Kind, Stage: i, Want: role.Members, Ready: role.Members})
	}
	r.snap, r.draft, r.review = snap, f, nil
	r.rebuild()
	return r.app
}

// BenchmarkReviewOfMany scrolls in a review of 50,000 steps in 50 stages.
func BenchmarkReviewOfMany(b *testing.B) {
	a := wide(80)
	r := &plan.Review{Field: "wide"}
	for i := range 50_000 {
		role := field.RoleName(fmt.Sprintf("role-%d", i/1000))
		r.Steps = append(r.Steps, plan.Step{Stage: i/1000 + 1, Kind: plan.Start, Role: role, Text: fmt.Sprintf("place %s on gull-%d and start it", role.Member(i), i)})
		if i%1000 == 0 {
			r.Gates = append(r.Gates, plan.GateStep{Role: role, On: "wardens", Gate: field.GateQuorum})
		}
	}
	a.review, a.mode = r, inReview
	for b.Loop() {
		_, _ = a.Update(press("down"))
		_ = a.View()
	}
}
