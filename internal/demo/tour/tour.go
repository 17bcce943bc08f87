// Package tour carries the demo field through a whole life without a screen: real processes, real votes, real deaths.
package tour

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"lanternfield/examples"
	"lanternfield/internal/control"
	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/fieldfile"
)

// Step is one step of the run, as it is reported.
type Step struct {
	Name    string  `json:"name"`
	OK      bool    `json:"ok"`
	Seconds float64 `json:"seconds"`
	Detail  string  `json:"detail"`
}

// stepLimit is how long one step of the run may take.
const stepLimit = time.Minute

// tour carries the demo field through a whole life: real processes, real votes, real deaths.
type tour struct {
	file    string
	folder  control.Folder
	session control.Session
	steps   []Step
	told    func(Step)
	http    *http.Client
	wrote   map[string]string
}

// Run carries the demo field through a whole life in a folder of its own, and says of each step how it went as it ends. What was deployed is
// taken down, whatever happened before, also after an interruption.
func Run(ctx context.Context, folder control.Folder, told func(Step)) (steps []Step, ok bool, err error) {
	if snap, err := control.Look(ctx, folder); err == nil && snap.State != snapshot.Draft && snap.State != snapshot.Retired {
		return nil, false, fmt.Errorf("%s is deployed in %s already; retire it first, or let the run use a folder of its own", snap.Field, folder.Dir)
	}
	data, err := examples.Files.ReadFile(examples.Demo) // as it ships, not what somebody made of it
	if err != nil {
		return nil, false, err
	}
	root := filepath.Dir(folder.Dir)
	if err := os.MkdirAll(root, 0o711); err != nil {
		return nil, false, fmt.Errorf("the state folder cannot be made: %w", err)
	}
	t := &tour{folder: folder, file: filepath.Join(root, "demo-run.field.yaml"), told: told, http: &http.Client{Timeout: 5 * time.Second}, wrote: map[string]string{}}
	if err := os.WriteFile(t.file, data, 0o600); err != nil {
		return nil, false, fmt.Errorf("the field file of the run cannot be written: %w", err)
	}
	defer os.Remove(t.file)
	ok = t.carryOut(ctx)
	return t.steps, ok, nil
}

func (t *tour) carryOut(ctx context.Context) (ok bool) {
	for _, s := range []struct {
		name string
		do   func(context.Context) (string, error)
	}{
		{"check", t.check}, {"review", t.review}, {"deploy", t.deployAll}, {"write and read back", t.writeAndRead},
		{"work through the pier", t.work}, {"crews 4 to 6", t.moreCrews}, {"wardens 3 to 5", t.moreWardens},
		{"wardens 5 to 3, the leader among those that leave", t.fewerWardens}, {"kill the leader", t.killLeader},
		{"kill an agent", t.killAgent},
	} {
		if ok = t.step(ctx, s.name, s.do); !ok {
			break
		}
	}
	if t.session != nil {
		ok = t.step(context.WithoutCancel(ctx), "retire", t.takeDown) && ok
	}
	return ok
}

// step carries out one step and says how it went.
func (t *tour) step(ctx context.Context, name string, do func(context.Context) (string, error)) bool {
	ctx, cancel := context.WithTimeout(ctx, stepLimit)
	defer cancel()
	began := time.Now()
	detail, err := do(ctx)
	s := Step{Name: name, OK: err == nil, Detail: detail, Seconds: float64(time.Since(began).Milliseconds()) / 1000}
	if err != nil {
		s.Detail = err.Error()
	}
	t.steps = append(t.steps, s)
	t.told(s)
	return s.OK
}

func (t *tour) load() (*fieldfile.File, error) { return fieldfile.Load(t.file, "") }

// deployFile deploys the file as it is now and waits until it has converged.
func (t *tour) deployFile(ctx context.Context) (*snapshot.Snapshot, error) {
	f, err := t.load()
	if err != nil {
		return nil, err
	}
	if err := t.session.Do(ctx, control.Request{What: "deploy", Draft: f.Field, By: "lanternfield demo --run"}); err != nil {
		return nil, err
	}
	return t.until(ctx, "converged", func(s *snapshot.Snapshot) bool { return s.State == snapshot.Converged && !s.Rollout.Active })
}

// until waits for the field to be as wanted.
func (t *tour) until(ctx context.Context, what string, holds func(*snapshot.Snapshot) bool) (*snapshot.Snapshot, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	snapshots, err := t.session.Watch(ctx)
	if err != nil {
		return nil, err
	}
	last := &snapshot.Snapshot{}
	for snap := range snapshots {
		if last = snap; holds(snap) {
			return snap, nil
		}
		if m := snap.GivenUp(nil); m != nil {
			return nil, fmt.Errorf("%s is %s: %s", m.Member, m.Phase, m.Why)
		}
	}
	if errors.Is(ctx.Err(), context.Canceled) {
		return nil, errors.New("interrupted")
	}
	return nil, fmt.Errorf("not %s in time: %s", what, last.Verdict)
}

func (t *tour) scale(ctx context.Context, role field.RoleName, n int) (*snapshot.Snapshot, error) {
	f, err := t.load()
	if err != nil {
		return nil, err
	}
	data, err := f.Put(arrange.Put{Path: []string{"roles", string(role), "members"}, Value: strconv.Itoa(n)})
	if err != nil {
		return nil, err
	}
	if err := f.Save(data); err != nil {
		return nil, err
	}
	return t.deployFile(ctx)
}
