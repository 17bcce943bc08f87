package tour

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"lanternfield/internal/control"
	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/demo/part"
	"lanternfield/internal/keeper"
)

func (t *tour) check(context.Context) (string, error) {
	f, err := t.load()
	if err != nil {
		return "", err
	}
	found := finding.Whole(f.Field)
	if finding.HasErrors(found) {
		return "", fmt.Errorf("the demo field has errors: %s", found[0].Text)
	}
	return fmt.Sprintf("%d roles on %d nodes; %s", len(f.Field.Roles), len(f.Field.Nodes), finding.Counted(found)), nil
}

func (t *tour) review(ctx context.Context) (string, error) {
	f, err := t.load()
	if err != nil {
		return "", err
	}
	r, err := control.LookReview(ctx, t.folder, f.Field)
	if err != nil {
		return "", err
	}
	stages := 0
	for _, s := range r.Steps {
		stages = max(stages, s.Stage)
	}
	return fmt.Sprintf("%d steps in %d stages", len(r.Steps), stages), nil
}

func (t *tour) deployAll(ctx context.Context) (string, error) {
	var err error
	if t.session, err = keeper.Attach(ctx, t.folder, "lanternfield demo --run"); err != nil {
		return "", err
	}
	snap, err := t.deployFile(ctx)
	if err != nil {
		return "", err
	}
	return snap.Verdict, nil
}

func memberURL(m snapshot.MemberView, port string) string {
	return "http://" + net.JoinHostPort(m.Address, strconv.Itoa(m.Ports[port]))
}

func (t *tour) of(snap *snapshot.Snapshot, role field.RoleName) []snapshot.MemberView {
	return slices.DeleteFunc(slices.Clone(snap.Members), func(m snapshot.MemberView) bool { return m.Role != role || m.Phase != state.Ready })
}

// writeAndRead writes through one warden and reads back through another, and looks whether everything written before is
// still there.
func (t *tour) writeAndRead(ctx context.Context) (string, error) {
	snap, err := t.session.Snapshot(ctx)
	if err != nil {
		return "", err
	}
	wardens := t.of(snap, "wardens")
	if len(wardens) < 2 {
		return "", fmt.Errorf("%d wardens are ready", len(wardens))
	}
	first, last := wardens[0], wardens[len(wardens)-1]
	key, value := fmt.Sprintf("bookings/%d", len(t.wrote)+1), fmt.Sprintf("two to %s", last.Zone)
	if err := part.Call(ctx, t.http, http.MethodPut, memberURL(first, "main")+"/kv/"+key, strings.NewReader(value), nil); err != nil {
		return "", fmt.Errorf("%s did not take a write: %w", first.Member, err)
	}
	t.wrote[key] = value
	for key, want := range t.wrote {
		var got struct{ Value string }
		if err := part.Call(ctx, t.http, http.MethodGet, memberURL(last, "main")+"/kv/"+key, nil, &got); err != nil {
			return "", fmt.Errorf("%s did not give %s back: %w", last.Member, key, err)
		}
		if got.Value != want {
			return "", fmt.Errorf("%s gave %q back for %s; %q was written", last.Member, got.Value, key, want)
		}
	}
	return fmt.Sprintf("%s took %s, %s gave it back", first.Member, key, last.Member), nil
}

// work hands in jobs at the pier and waits until the crews have recorded all of them in the wardens.
func (t *tour) work(ctx context.Context) (string, error) {
	snap, err := t.session.Snapshot(ctx)
	if err != nil {
		return "", err
	}
	piers, wardens := t.of(snap, "pier"), t.of(snap, "wardens")
	if len(piers) == 0 || len(wardens) == 0 {
		return "", errors.New("no pier or no warden is ready")
	}
	const jobs = 20
	for i := range jobs {
		if err := part.Call(ctx, t.http, http.MethodPost, memberURL(piers[i%len(piers)], "entry")+"/jobs", strings.NewReader(fmt.Sprintf("%d=ticket", i)), nil); err != nil {
			return "", fmt.Errorf("%s did not take a job: %w", piers[i%len(piers)].Member, err)
		}
	}
	done := map[string]string{}
	for len(done) < jobs {
		if err := part.Call(ctx, t.http, http.MethodGet, memberURL(wardens[0], "main")+"/kv?prefix=jobs/", nil, &done); err != nil && ctx.Err() != nil {
			return "", fmt.Errorf("%d of %d jobs are recorded: %w", len(done), jobs, ctx.Err())
		}
		if !part.Sleep(ctx, 10*time.Millisecond) {
			return "", fmt.Errorf("%d of %d jobs were recorded in time", len(done), jobs)
		}
	}
	crews := map[string]bool{}
	for _, result := range done {
		name, _, _ := strings.Cut(result, " ")
		crews[name] = true
	}
	return fmt.Sprintf("%d jobs taken in by %d piers, done by %d crews, recorded in the wardens", jobs, len(piers), len(crews)), nil
}

func (t *tour) moreCrews(ctx context.Context) (string, error) {
	snap, err := t.scale(ctx, "crews", 6)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("%d crews are ready", len(t.of(snap, "crews"))), nil
}

func (t *tour) moreWardens(ctx context.Context) (string, error) {
	snap, err := t.scale(ctx, "wardens", 5)
	if err != nil {
		return "", err
	}
	read, err := t.writeAndRead(ctx)
	return fmt.Sprintf("%s; %s", roster(snap), read), err
}

func roster(snap *snapshot.Snapshot) string {
	for _, r := range snap.Roles {
		if r.Role == "wardens" {
			var names []string
			for _, e := range r.Roster {
				names = append(names, e.Name)
			}
			slices.Sort(names)
			return fmt.Sprintf("they list %s, led by %s", strings.Join(names, ", "), r.Leader)
		}
	}
	return ""
}

func leaderOf(snap *snapshot.Snapshot, role field.RoleName) field.MemberName {
	for _, r := range snap.Roles {
		if r.Role == role {
			return r.Leader
		}
	}
	return ""
}

// fewerWardens pins three wardens that do not lead, so that the leader must go.
func (t *tour) fewerWardens(ctx context.Context) (string, error) {
	snap, err := t.until(ctx, "led", func(s *snapshot.Snapshot) bool { return leaderOf(s, "wardens") != "" })
	if err != nil {
		return "", err
	}
	leader := leaderOf(snap, "wardens")
	var pins []string
	for _, m := range t.of(snap, "wardens") {
		if m.Member != leader && len(pins) < 3 {
			pins = append(pins, string(m.Node))
		}
	}
	f, err := t.load()
	if err != nil {
		return "", err
	}
	data, err := f.Put(arrange.Put{Path: []string{"roles", "wardens", "members"}, Value: "3"})
	if err != nil {
		return "", err
	}
	if err := f.Save(append(data, fmt.Sprintf("\nplace:\n  wardens: [%s]\n", strings.Join(pins, ", "))...)); err != nil {
		return "", err
	}
	if snap, err = t.deployFile(ctx); err != nil {
		return "", err
	}
	if slices.ContainsFunc(snap.Members, func(m snapshot.MemberView) bool { return m.Member == leader }) {
		return "", fmt.Errorf("%s, which led, is still there", leader)
	}
	read, err := t.writeAndRead(ctx)
	return fmt.Sprintf("%s handed over and left; %s; %s", leader, roster(snap), read), err
}

func (t *tour) killLeader(ctx context.Context) (string, error) {
	snap, err := t.until(ctx, "led", func(s *snapshot.Snapshot) bool { return leaderOf(s, "wardens") != "" })
	if err != nil {
		return "", err
	}
	leader := leaderOf(snap, "wardens")
	i := slices.IndexFunc(snap.Members, func(m snapshot.MemberView) bool { return m.Member == leader })
	before := snap.Members[i].PID
	began := time.Now()
	if err := syscall.Kill(before, syscall.SIGKILL); err != nil {
		return "", fmt.Errorf("process %d of %s cannot be killed: %w", before, leader, err)
	}
	if _, err = t.until(ctx, "led by another", func(s *snapshot.Snapshot) bool {
		now := leaderOf(s, "wardens")
		return now != "" && now != leader
	}); err != nil {
		return "", err
	}
	elected := time.Since(began)
	snap, err = t.until(ctx, "whole again", func(s *snapshot.Snapshot) bool {
		return s.State == snapshot.Converged && s.Members[i].PID != before && s.Members[i].PID != 0
	})
	if err != nil {
		return "", err
	}
	whole := time.Since(began)
	read, err := t.writeAndRead(ctx)
	return fmt.Sprintf("%s (process %d) killed; %s led after %s, all lit after %s; %s", leader, before, leaderOf(snap, "wardens"),
		field.Span(elected), field.Span(whole), read), err
}

// killAgent kills the agent of the node that holds most, and waits until its members have been adopted by another.
func (t *tour) killAgent(ctx context.Context) (string, error) {
	snap, err := t.session.Snapshot(ctx)
	if err != nil {
		return "", err
	}
	on := map[field.NodeName][]snapshot.MemberView{}
	var node field.NodeName
	for _, m := range snap.Members {
		if on[m.Node] = append(on[m.Node], m); len(on[m.Node]) > len(on[node]) {
			node = m.Node
		}
	}
	entries, err := t.session.Journal(ctx, control.Range{Last: 1})
	if err != nil {
		return "", err
	}
	pid, err := control.AgentPID(t.folder, node)
	if err == nil {
		err = syscall.Kill(pid, syscall.SIGKILL)
	}
	if err != nil {
		return "", fmt.Errorf("the agent of %s cannot be killed: %w", node, err)
	}
	var names []string
	for _, m := range on[node] {
		names = append(names, string(m.Member))
		said := fmt.Sprintf("%s was found running as process %d and adopted", m.Member, m.PID)
		for adopted := false; !adopted; {
			fresh, err := t.session.Journal(ctx, control.Range{After: entries[len(entries)-1].Seq})
			if err != nil {
				return "", err
			}
			adopted = slices.ContainsFunc(fresh, func(e control.Entry) bool { return e.Text == said })
			if !adopted && !part.Sleep(ctx, 10*time.Millisecond) {
				return "", fmt.Errorf("%s was not adopted in time", m.Member)
			}
		}
	}
	if _, err := t.until(ctx, "converged", func(s *snapshot.Snapshot) bool { return s.State == snapshot.Converged }); err != nil {
		return "", err
	}
	return fmt.Sprintf("the agent of %s (process %d) killed; another adopted %s as they ran", node, pid, strings.Join(names, ", ")), nil
}

func (t *tour) takeDown(ctx context.Context) (string, error) {
	if snap, err := t.session.Snapshot(ctx); err != nil || snap.State == snapshot.Draft {
		return "nothing was deployed", err
	}
	if err := t.session.Do(ctx, control.Request{What: "retire", By: "lanternfield demo --run"}); err != nil {
		return "", err
	}
	if _, err := t.until(ctx, "retired", func(s *snapshot.Snapshot) bool { return s.State == snapshot.Retired }); err != nil {
		return "", err
	}
	receipt, err := control.WriteReceipt(t.folder)
	if err != nil {
		return "", err
	}
	if err := t.session.Close(); err != nil {
		return "", err
	}
	if len(receipt.Left) > 0 {
		return "", fmt.Errorf("%d things are left: %s", len(receipt.Left), strings.Join(receipt.Left, "; "))
	}
	processes := 0
	for _, m := range receipt.Members {
		processes += len(m.PIDs)
	}
	if err := control.Forget(t.folder); err != nil {
		return "", err
	}
	return fmt.Sprintf("%d processes of %d members and %d agents looked for; none is left", processes, len(receipt.Members), len(receipt.Nodes)), nil
}
