package e2e

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"
)

// ferries has three roles that wait for each other, on three nodes, all played by the witness.
const ferries = `format: 1
field: saltmarsh
nodes:
  - {name: gull-1, zone: north-quay}
  - {name: tern-1, zone: south-quay}
  - {name: puffin-1, zone: lighthouse}
roles:
  wardens:
    kind: master
    votes: true
    members: 3
    program:
      command: [{{witness}}, '{{.Address}}:{{.Port "main"}}', ready-after=150ms]
      ports: {main: {port: 7100}}
      restart: {after: 200ms}
  relays:
    kind: broker
    start: seed-first
    members: 3
    after: {wardens: quorum}
    program:
      command: [{{witness}}, '{{.Address}}:{{.Port "main"}}']
      ports: {main: {from: 7200, to: 7209}}
      restart: {after: 200ms}
  crews:
    members: 3
    calls: {queue: relays}
    program:
      command: [{{witness}}, '{{.Address}}:{{.Port "main"}}']
      ports: {main: {from: 7300, to: 7309}}
      restart: {after: 200ms}
`

// TestKilledControllersAndAgentsLoseNothing kills controllers and agents at seeded moments of rollouts, restarts and
// retires. In the end the field is whole, and no member ever ran twice at the same time.
func TestKilledControllersAndAgentsLoseNothing(t *testing.T) {
	const seed = 20260101
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))
	x := newTrial(t, ferries)
	moments := 20
	if testing.Short() {
		moments = 6
	}
	for i := range moments {
		args := []string{"deploy", x.file, "--yes"}
		switch {
		case i%10 == 9:
			args = []string{"retire", x.file, "--yes"}
		case i%5 == 3:
			args = []string{"restart", x.file, "--yes"}
		}
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		cmd := x.command(ctx, args...)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(random.IntN(600)) * time.Millisecond) // the moment is the seed's choice
		if agents := x.agents(); i%2 == 0 && len(agents) > 0 {
			_ = syscall.Kill(agents[random.IntN(len(agents))], syscall.SIGKILL)
			if random.IntN(2) == 0 {
				x.killKeeper()
				_ = cmd.Process.Kill()
			}
		} else {
			x.killKeeper()
			_ = cmd.Process.Kill()
		}
		_ = cmd.Wait()
		cancel()
	}
	if s := x.status(); s.State != "retired" { // the last order may have been a retire, half carried out
		if strings.Contains(s.Verdict, "Retiring") {
			x.must("retire", x.file, "--yes")
		}
	}
	x.must("deploy", x.file, "--yes")
	s := x.status()
	if s.State != "converged" || len(s.Members) != 9 {
		t.Fatalf("in the end: %s: %s", s.State, s.Verdict)
	}
	pids := map[int]bool{}
	for _, m := range s.Members {
		if m.Phase != "ready" || syscall.Kill(m.PID, 0) != nil || pids[m.PID] {
			t.Errorf("%+v", m)
		}
		pids[m.PID] = true
	}
	if running := x.witnesses(); running != 9 {
		t.Errorf("%d members' processes run, want 9: %v", running, x.processes())
	}
	data, _ := os.ReadFile(x.witness)
	t.Logf("%d processes were started in all", strings.Count(string(data), "start "))
}

// TestStatusShowsALossWithAndWithoutController kills a member and asks at once, three ways.
func TestStatusShowsALossWithAndWithoutController(t *testing.T) {
	t.Parallel()
	x := newTrial(t, strings.Replace(ferries, "restart: {after: 200ms}", "restart: {after: 5s}", 1))
	x.must("deploy", x.file, "--yes")
	lose := func(name, how, exit string) {
		m := x.status().member(name)
		if err := syscall.Kill(m.PID, syscall.SIGKILL); err != nil {
			t.Fatalf("%s: %v", how, err)
		}
		took := x.until(name+" is seen dark "+how, time.Second, func() bool { return x.status().member(name).Phase == "failed" })
		s := x.status()
		x.contains(s.Verdict, name+" is dark: "+exit)
		t.Logf("%s: seen after %s", how, took)
	}
	x.alone()
	lose("wardens-1", "without a controller", "was killed by signal 9")

	// An adopted member: its agent is another one than that which started it.
	x.until("it is back", 20*time.Second, func() bool { return x.status().State == "converged" })
	for _, pid := range x.agents() {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
	x.until("the agents' nodes are unknown", 5*time.Second, func() bool {
		s := x.status()
		return s.member("wardens-2").Phase == "unknown" && strings.Contains(s.member("wardens-2").Why, "agent does not run")
	})
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	holder := x.command(ctx, "deploy", x.file, "--yes")
	if out, err := holder.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if s := x.status(); s.State != "converged" {
		t.Fatalf("after all agents were killed: %s", s.Verdict)
	}
	lose("wardens-2", "adopted, without a controller", "ended, and how is not known")
	x.until("it is back", 20*time.Second, func() bool { return x.status().State == "converged" })

	screen := newScreen(t, x, 120, 36, "open", x.file)
	screen.until("the board", func(text string) bool { return strings.Contains(text, "converged") })
	lose("wardens-3", "adopted, with a controller", "ended, and how is not known")
	// A controller brings back the agents that die under it, and they adopt what runs.
	before := x.status().member("crews-2")
	adopted := func() int {
		return strings.Count(x.must("journal", x.file), "crews-2 was found running as process")
	}
	already, old := adopted(), x.agents()
	for _, pid := range old {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
	x.until("all agents are back", 20*time.Second, func() bool {
		now := x.agents()
		return len(now) == 3 && !slices.ContainsFunc(now, func(pid int) bool { return slices.Contains(old, pid) })
	})
	x.until("its member was adopted", 20*time.Second, func() bool { return adopted() > already })
	x.until("all others are back", 20*time.Second, func() bool { return x.status().State == "converged" })
	if after := x.status().member("crews-2"); after.PID != before.PID || after.Phase != "ready" {
		t.Errorf("after its agent was killed: %+v, before: %+v", after, before)
	}
	lose("wardens-2", "adopted under a controller", "ended, and how is not known")
	screen.until("the loss on the board", func(text string) bool {
		return strings.Contains(text, "wardens-2 is dark")
	})
}

// TestAFolderThatIsMovedStopsNobody moves the state folder away, as an unmounted disk would, and brings it back; then it is lost for good.
func TestAFolderThatIsMovedStopsNobody(t *testing.T) {
	t.Parallel()
	x := newTrial(t, ferries)
	x.must("deploy", x.file, "--yes")
	x.alone()
	before := x.processes()
	if len(before) != 12 {
		t.Fatalf("%d processes, want 9 members and 3 agents", len(before))
	}
	if err := os.Rename(x.state, x.state+".away"); err != nil {
		t.Fatal(err)
	}
	for until := time.Now().Add(5 * time.Second); time.Now().Before(until); time.Sleep(50 * time.Millisecond) {
		if n := len(x.processes()); n != 12 {
			t.Fatalf("%d processes are left of 12 after the folder was moved", n)
		}
	}
	if out, code := x.try(time.Minute, "deploy", x.file, "--yes"); code != 2 || !strings.Contains(out, "it knows nothing of what was deployed there") {
		t.Errorf("a deploy beside what runs: exit status %d\n%s", code, out)
	}
	if err := errors.Join(os.RemoveAll(x.state), os.Rename(x.state+".away", x.state)); err != nil {
		t.Fatal(err)
	}
	x.must("deploy", x.file, "--yes")
	if s := x.status(); s.State != "converged" || fmt.Sprint(x.processes()) != fmt.Sprint(before) {
		t.Errorf("with its folder back: %s\n%v\nbefore\n%v", s.State, x.processes(), before)
	}
	x.alone()
	if err := os.RemoveAll(x.state); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"status", x.file}, {"retire", x.file, "--yes"}, {"retire", x.file, "--yes", "--take-over", "another"}} {
		if out, code := x.try(time.Minute, args...); code != 2 || !strings.Contains(out, "saltmarsh") {
			t.Errorf("%v: exit status %d\n%s", args, code, out)
		}
	}
	x.must("retire", x.file, "--yes", "--take-over", "saltmarsh")
	if left := x.processes(); len(left) > 0 {
		t.Errorf("after the field was taken over and retired: %v", left)
	}
}

// TestAnAgentThatHangsMakesItsNodeUnknown stops an agent without ending it: what is on its node is unknown, not well and
// not dark, and nothing is started elsewhere.
func TestAnAgentThatHangsMakesItsNodeUnknown(t *testing.T) {
	t.Parallel()
	x := newTrial(t, ferries)
	x.must("deploy", x.file, "--yes")
	x.alone()
	before := x.status()
	agent := x.agents()[0]
	if err := syscall.Kill(agent, syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = syscall.Kill(agent, syscall.SIGCONT) }()
	unknown := func(s status) (n int) {
		for _, m := range s.Members {
			if m.Phase == "unknown" {
				n++
			}
		}
		return n
	}
	s := x.status()
	if unknown(s) != 3 || s.State != "degraded" || !strings.Contains(s.Verdict, "are unknown: the agent of ") {
		t.Errorf("without a controller: %d unknown, %s: %s", unknown(s), s.State, s.Verdict)
	}
	screen := newScreen(t, x, 120, 36, "open", x.file)
	screen.has("are unknown: the agent of ")
	if s := x.status(); unknown(s) != 3 {
		t.Errorf("with a controller: %d unknown, %s", unknown(s), s.Verdict)
	}
	if err := syscall.Kill(agent, syscall.SIGCONT); err != nil {
		t.Fatal(err)
	}
	screen.has("9 of 9 lit")
	for _, m := range x.status().Members {
		if was := before.member(m.Member); m.PID != was.PID {
			t.Errorf("%s is process %d, was %d", m.Member, m.PID, was.PID)
		}
	}
}
