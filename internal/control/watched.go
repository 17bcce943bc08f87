package control

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/health"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/series/store"
)

// watched keeps what is measured of the field, as series on disk. Nothing is decided by it, and some of it may be lost.
type watched struct {
	store *store.Store
	cpu   map[field.MemberName]agentapi.Sample // the newest of each member, for what is counted from the start on
	why   map[field.MemberName]string          // why not all that a member tells of itself could be read
}

// How often series are written, and packed.
const (
	flushEvery = time.Minute
	tidyEvery  = 10 * time.Minute
	rolesEvery = 5 * time.Second
)

func (f Folder) series() string { return filepath.Join(f.Dir, "own", "series") }

// watching samples the roles, and writes what was measured, until the context ends.
func (c *Controller) watching(ctx context.Context) {
	s, err := store.Open(c.folder.series(), store.Limits{})
	if err != nil {
		slog.Warn("nothing of what is measured is kept", "error", err)
		return
	}
	c.mu.Lock()
	c.watched = &watched{store: s, cpu: map[field.MemberName]agentapi.Sample{}, why: map[field.MemberName]string{}}
	c.mu.Unlock()
	defer func() {
		c.mu.Lock()
		c.watched = nil
		c.mu.Unlock()
		if err := s.Close(); err != nil {
			slog.Warn("the newest of what was measured is lost", "error", err)
		}
	}()
	roles, flush, tidy := time.NewTicker(rolesEvery), time.NewTicker(flushEvery), time.NewTicker(tidyEvery)
	defer roles.Stop()
	defer flush.Stop()
	defer tidy.Stop()
	failing := false
	for {
		var err error
		select {
		case <-ctx.Done():
			return
		case <-roles.C:
			c.sampleRoles(s)
			continue
		case now := <-flush.C:
			err = s.Flush(now)
		case now := <-tidy.C:
			c.forgetGone(now)
			err = s.Tidy(now)
		}
		if err != nil && !failing {
			slog.Warn("what is measured cannot be kept", "error", err)
		}
		failing = err != nil
	}
}

// forgetGone lets go of what is known of members that were not heard of for a while.
func (c *Controller) forgetGone(now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	maps.DeleteFunc(c.watched.why, func(name field.MemberName, _ string) bool { return c.state.Members[name] == nil })
	maps.DeleteFunc(c.watched.cpu, func(_ field.MemberName, x agentapi.Sample) bool { return now.Sub(x.At) > time.Hour })
}

// sampleRoles notes how each role is.
func (c *Controller) sampleRoles(s *store.Store) {
	c.mu.Lock()
	snap := c.present()
	c.mu.Unlock()
	if snap.State == snapshot.Draft || snap.State == snapshot.Retired {
		return
	}
	now := time.Now()
	starts := map[field.RoleName]int{}
	numbers := map[field.MemberName]int{}
	for _, m := range snap.Members {
		starts[m.Role] += m.Incarnation
		numbers[m.Member] = m.Number
	}
	for _, r := range snap.Roles {
		put := func(name string, value float64) { s.Add(roleKey(r.Role, name), now, value) }
		put("ready", float64(r.Ready))
		put("want", float64(r.Want))
		put("starts", float64(starts[r.Role]))
		if r.Votes {
			put("survives", float64(r.Survives))
		}
		if r.Leader != "" || r.Led || r.LeaderTerm > 0 {
			put("leader", float64(numbers[r.Leader]))
		}
	}
}

func roleKey(r field.RoleName, name string) string     { return "role/" + string(r) + "/" + name }
func memberKey(m field.MemberName, name string) string { return "member/" + string(m) + "/" + name }

// keepSamples takes in what an agent has measured. Its clock may go otherwise than the one here: by that much.
func (c *Controller) keepSamples(all agentapi.Samples, ahead time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	w := c.watched
	for name, samples := range all.Of {
		for _, x := range samples {
			c.trend(name, x, x.At.Add(-ahead))
			if w == nil {
				continue
			}
			w.keep(name, x, x.At.Add(-ahead))
		}
	}
}

func (w *watched) keep(name field.MemberName, x agentapi.Sample, at time.Time) {
	put := func(what string, value float64) { w.store.Add(memberKey(name, what), at, value) }
	if x.Answers > 0 {
		put("latency", x.LatencyMS)
		put("worst", x.WorstMS)
	}
	if x.Answers+x.Failed > 0 {
		put("failed", float64(x.Failed)/float64(x.Answers+x.Failed))
	}
	if x.Memory > 0 {
		put("memory", float64(x.Memory))
	}
	if x.DiskFree > 0 {
		put("free", float64(x.DiskFree))
	}
	if g := x.Gauge; g != nil && g.Lag {
		put("lag", g.Value)
	}
	if w.why[name] = x.Trouble; x.Trouble == "" {
		delete(w.why, name)
	}
	for metric, value := range x.Metrics {
		put("metric:"+metric, value)
	}
	before, known := w.cpu[name]
	if !known || x.CPU == 0 || x.CPU < before.CPU || x.At.Sub(before.At) > time.Minute { // another process, or a gap
		if x.CPU > 0 || !known {
			w.cpu[name] = x
		}
		return
	}
	if x.Usage == before.Usage {
		return // it was not looked at since
	}
	between := x.At.Sub(before.At)
	for what, counter := range map[string][2]float64{"cpu": {before.CPU.Seconds(), x.CPU.Seconds()}, "read": {float64(before.Read), float64(x.Read)}, "written": {float64(before.Written), float64(x.Written)},
		"received": {float64(before.Received), float64(x.Received)}, "sent": {float64(before.Sent), float64(x.Sent)}} {
		if rate, ok := health.Rate(counter[0], counter[1], between); ok {
			put(what, rate)
		}
	}
	w.cpu[name] = x
}

// HealthAsked says of which role, or, without one, of the whole field, what is measured is told, for which time, in how many parts.
type HealthAsked struct {
	Role  field.RoleName `json:"role"`
	From  time.Time      `json:"from"`
	To    time.Time      `json:"to"`
	Parts int            `json:"parts"`
	Each  string         `json:"each,omitempty"` // the name of a chart of which the lines of single members are told too
}

// mostParts bounds what is asked for, and mostLines how many members are told each alone.
const (
	mostParts = 2000
	mostLines = 24
)

// Health tells what was measured of a role over time.
func (c *Controller) Health(_ context.Context, ask HealthAsked) (*health.Told, error) {
	c.mu.Lock()
	w := c.watched
	members := ask.members(c.state)
	var role *field.Role
	if c.state.Field != nil {
		role = c.state.Field.Role(ask.Role)
	}
	marks := c.tide.since(ask.From)
	var unread []string
	for _, m := range members {
		if w != nil && w.why[m] != "" {
			unread = append(unread, fmt.Sprintf("%s: %s", m, w.why[m]))
		}
	}
	c.mu.Unlock()
	switch {
	case w == nil:
		return nil, fmt.Errorf("nothing of what is measured is kept here")
	case ask.Role == "":
		return ask.whole(w.store, c.current(), marks)
	case role == nil:
		return nil, fmt.Errorf("there is no role %q", ask.Role)
	}
	told, err := ask.tell(w.store, role, members, marks)
	if err == nil {
		told.Lost = append(told.Lost, unread...)
	}
	return told, err
}

// LookHealth tells what was measured of a role: by who keeps the field, else by what is on disk.
func LookHealth(ctx context.Context, f Folder, ask HealthAsked) (*health.Told, error) {
	if r, err := dial(ctx, f); err == nil {
		defer r.Close()
		if told, err := r.Health(ctx, ask); err == nil {
			return told, nil
		}
	}
	s, err := readState(f)
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(f.series()); err != nil {
		return nil, fmt.Errorf("nothing of what is measured is kept here: %w", err)
	}
	if ask.Role == "" {
		return ask.whole(store.OpenToRead(f.series(), store.Limits{}), s, nil)
	}
	var role *field.Role
	if s.Field != nil {
		role = s.Field.Role(ask.Role)
	}
	return ask.tell(store.OpenToRead(f.series(), store.Limits{}), role, ask.members(s), nil)
}

// members are those of the role that were there at some time of it.
func (ask HealthAsked) members(s *state.State) []field.MemberName {
	var members []field.MemberName
	for _, m := range state.EveryMember(s) {
		if m.Role == ask.Role && (m.Phase != state.Gone || m.Since.After(ask.From)) {
			members = append(members, m.Name)
		}
	}
	return members
}

// whole tells of the whole field: of each role how many were ready, how many losses it survived, and how fast its members answered.
func (ask HealthAsked) whole(s *store.Store, of *state.State, marks []Sample) (*health.Told, error) {
	told, err := ask.begun(s, marks)
	if err != nil || of.Field == nil {
		return told, err
	}
	for _, stage := range of.Field.Stages() {
		for _, name := range stage {
			role := ask
			role.Role = name
			role.Each, _ = strings.CutPrefix(ask.Each, string(name)+"/")
			for _, c := range append(roleCharts(s, role), memberCharts(s, role, kinds[:1], role.members(of))...) {
				if c.Name == "ready" || c.Name == "survives" || c.Name == kinds[0].name {
					c.Name, c.About = string(name)+"/"+c.Name, string(name)+": "+c.About
					told.Charts = append(told.Charts, c)
				}
			}
		}
	}
	unreadOf(told, s)
	return told, nil
}

func (ask HealthAsked) tell(s *store.Store, role *field.Role, members []field.MemberName, marks []Sample) (*health.Told, error) {
	told, err := ask.begun(s, marks)
	if err != nil {
		return nil, err
	}
	told.Charts = append(roleCharts(s, ask), memberCharts(s, ask, kindsOf(role), members)...)
	bound(told.Charts, role)
	unreadOf(told, s)
	return told, nil
}

// begun is what is told, without its charts.
func (ask HealthAsked) begun(s *store.Store, marks []Sample) (*health.Told, error) {
	if !ask.To.After(ask.From) || ask.Parts < 1 || ask.Parts > mostParts {
		return nil, fmt.Errorf("from %s to %s in %d parts is no time that could be told", ask.From, ask.To, ask.Parts)
	}
	told := &health.Told{Role: string(ask.Role), From: ask.From, To: ask.To, Parts: ask.Parts, Bytes: s.Size(), Limit: store.Usual.Bytes}
	for _, x := range marks {
		if x.Mark != "" && !x.At.Before(ask.From) && x.At.Before(ask.To) {
			told.Marks = append(told.Marks, health.Mark{At: x.At, Text: x.Mark})
		}
	}
	return told, nil
}

// unreadOf notes what could not be read.
func unreadOf(told *health.Told, s *store.Store) {
	for _, l := range s.Lost() {
		told.Lost = append(told.Lost, l.String())
	}
}
