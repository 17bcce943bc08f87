package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"lanternfield/examples"
	"lanternfield/internal/control"
	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/fieldfile"
)

// runStep is one step of the demo's run, as it is reported.
type runStep struct {
	Name    string  `json:"name"`
	OK      bool    `json:"ok"`
	Seconds float64 `json:"seconds"`
	Detail  string  `json:"detail"`
}

// errTakenDown says that an interrupted run has left nothing behind.
var errTakenDown = errors.New("interrupted; what was deployed has been taken down again")

// stepLimit is how long one step of the run may take.
const stepLimit = time.Minute

// tour carries the demo field through a whole life: real processes, real votes, real deaths.
type tour struct {
	*app
	file    string
	folder  control.Folder
	session control.Session
	steps   []runStep
	http    *http.Client
	wrote   map[string]string
}

// run is `demo --run`.
func (a *app) run(cmd *cobra.Command) error {
	t := &tour{app: a, http: &http.Client{Timeout: 5 * time.Second}, wrote: map[string]string{}}
	if a.state == "" && os.Getenv("LANTERNFIELD_STATE") == "" {
		dir, err := os.MkdirTemp("", "lanternfield-demo-")
		if err != nil {
			return fmt.Errorf("a folder for the run cannot be made: %w", err)
		}
		a.state = dir
		defer os.RemoveAll(dir)
	}
	var err error
	if t.folder, err = a.folderOf("saltmarsh-ferries"); err != nil {
		return err
	}
	if snap, err := control.Look(cmd.Context(), t.folder); err == nil && snap.State != snapshot.Draft && snap.State != snapshot.Retired {
		return fmt.Errorf("%s is deployed in %s already; retire it first, or let the run use a folder of its own", snap.Field, t.folder.Dir)
	}
	data, err := examples.Files.ReadFile(examples.Demo) // as it ships, not what somebody made of it
	if err != nil {
		return err
	}
	root := filepath.Dir(t.folder.Dir)
	if err := os.MkdirAll(root, 0o711); err != nil {
		return fmt.Errorf("the state folder cannot be made: %w", err)
	}
	t.file = filepath.Join(root, "demo-run.field.yaml")
	if err := os.WriteFile(t.file, data, 0o600); err != nil {
		return fmt.Errorf("the field file of the run cannot be written: %w", err)
	}
	defer os.Remove(t.file)
	return t.carryOut(cmd)
}

func (t *tour) carryOut(cmd *cobra.Command) error {
	began := time.Now()
	ok := true
	for _, s := range []struct {
		name string
		do   func(context.Context) (string, error)
	}{
		{"check", t.check}, {"review", t.review}, {"deploy", t.deployAll}, {"write and read back", t.writeAndRead},
		{"work through the pier", t.work}, {"crews 4 to 6", t.moreCrews}, {"wardens 3 to 5", t.moreWardens},
		{"wardens 5 to 3, the leader among those that leave", t.fewerWardens}, {"kill the leader", t.killLeader},
		{"kill an agent", t.killAgent},
	} {
		if ok = t.step(cmd.Context(), s.name, s.do); !ok {
			break
		}
	}
	if t.session != nil {
		// What was deployed is taken down, whatever happened before, also after an interruption.
		ok = t.step(context.WithoutCancel(cmd.Context()), "retire", t.takeDown) && ok
	}
	if t.json {
		t.printJSON(map[string]any{"steps": t.steps, "ok": ok})
	} else {
		t.table(time.Since(began), ok)
	}
	switch {
	case cmd.Context().Err() != nil:
		return errTakenDown
	case !ok:
		return errBadAnswer
	}
	return nil
}

// step carries out one step and says how it went.
func (t *tour) step(ctx context.Context, name string, do func(context.Context) (string, error)) bool {
	ctx, cancel := context.WithTimeout(ctx, stepLimit)
	defer cancel()
	began := time.Now()
	detail, err := do(ctx)
	s := runStep{Name: name, OK: err == nil, Detail: detail, Seconds: float64(time.Since(began).Milliseconds()) / 1000}
	if err != nil {
		s.Detail = err.Error()
	}
	t.steps = append(t.steps, s)
	if !t.json {
		mark := "done"
		if !s.OK {
			mark = "FAILED"
		}
		fmt.Fprintf(t.out, "%8s  %-6s %s: %s\n", field.Span(time.Since(began)), mark, s.Name, s.Detail)
	}
	return s.OK
}

func (t *tour) table(took time.Duration, ok bool) {
	fmt.Fprintln(t.out)
	w := tabwriter.NewWriter(t.out, 0, 0, 2, ' ', tabwriter.AlignRight)
	for _, s := range t.steps {
		fmt.Fprintf(w, "%.3f s\t  %s\n", s.Seconds, s.Name)
	}
	fmt.Fprintf(w, "%.3f s\t  in all\n", took.Seconds())
	w.Flush()
	if ok {
		fmt.Fprintln(t.out, "Everything went as it should; nothing is left.")
	} else {
		fmt.Fprintln(t.out, "Something did not go as it should; see above.")
	}
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
		if m := givenUp(snap, nil); m != nil {
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
