package e2e

import (
	"context"
	"encoding/json"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestKilledControllersAndAgentsLeaveNoDeadEntry kills controllers and agents, and cuts agents off for a while, at seeded
// moments of joins and leaves, under a writer. In the end the store lists exactly its members, each of which ran once at
// a time, and has everything that it acknowledged.
func TestKilledControllersAndAgentsLeaveNoDeadEntry(t *testing.T) {
	const seed = 20260102
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 1))
	x := newTrial(t, wardens.field(3, ""))
	x.must("deploy", x.file, "--yes")
	w, stop := x.writing(wardens)
	moments := 16
	if testing.Short() {
		moments = 5
	}
	refused, cut := 0, 0
	for i := range moments {
		n := []string{"5", "3", "4", "1", "3"}[i%5]
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		cmd := x.command(ctx, "scale", "store", n, "--yes")
		var out strings.Builder
		cmd.Stdout, cmd.Stderr = &out, &out
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(random.IntN(300)) * time.Millisecond) // the moment is the seed's choice
		agents := x.agents()
		victim := agents[random.IntN(len(agents))]
		switch i % 4 {
		case 0:
			x.killKeeper()
			_ = cmd.Process.Kill()
		case 1:
			_ = syscall.Kill(victim, syscall.SIGKILL)
		case 2:
			_ = syscall.Kill(victim, syscall.SIGKILL)
			x.killKeeper()
			_ = cmd.Process.Kill()
		case 3:
			cut++
			_ = syscall.Kill(victim, syscall.SIGSTOP)
			time.Sleep(4 * time.Second) // long enough to be given up
			_ = syscall.Kill(victim, syscall.SIGCONT)
		}
		_ = cmd.Wait()
		cancel()
		if strings.Contains(out.String(), "nothing has been changed") {
			refused++
		}
	}
	x.until("a last change is taken", time.Minute, func() bool {
		_, code := x.try(30*time.Second, "scale", "store", "3", "--yes")
		return code == 0
	})
	stop()
	s := x.status()
	if s.State != "converged" || len(s.Members) != 3 {
		t.Fatalf("in the end: %s", s.Verdict)
	}
	if list := wardens.list(t, s.Members[0]); !slices.Equal(list, x.names()) {
		t.Errorf("the store lists %v, and the members are %v", list, x.names())
	}
	for key, value := range w.acked {
		if got, err := wardens.read(s.Members[0], key); err != nil || got != value {
			t.Fatalf("%s was acknowledged as %q and is %q (%v)", key, value, got, err)
		}
	}
	t.Logf("%d moments, %d cut off, %d changes refused; %d of %d writes acknowledged, none lost", moments, cut, refused, len(w.acked), w.tried)
}

// listed is a voting role whose cluster is a file: one name a line. Its procedures are shell commands, so that they can
// fail in every way.
func listed(t *testing.T, join, rest string) *trial {
	t.Helper()
	list := filepath.Join(t.TempDir(), "list")
	if err := os.WriteFile(list, []byte("it-1\nit-2\nit-3\n"), 0o666); err != nil {
		t.Fatal(err)
	}
	content := `format: 1
field: trouble
nodes: [{name: "gull-{1..5}", zone: north-quay}]
roles:
  it:
    votes: true
    members: 3
    spread: node
    program:
      command: [{{witness}}, '{{.Address}}:{{.Port "main"}}']
      ports: {main: {port: 7100}}
      restart: {after: 200ms}
      roster:
        exec: [sort, LIST]
        each: 'filter(split(output, "\n"), {# != ""})'
        id: item
        name: item
        every: 200ms
      join:
        - on: peer
          exec: [sh, -c, 'JOIN']
          timeout: 500ms
          retry_for: 1s
          done_when: '"{{.Member}}" in split(output, "\n")'
          capture: {id: '"{{.Member}}"'}
      leave:
        - on: peer
          exec: [sh, -c, 'sed -i "/^{{.Member}}$/d" LIST']
          done_when: 'not ("{{.Member}}" in split(output, "\n"))'
REST`
	content = strings.NewReplacer("JOIN", join, "REST", rest).Replace(content)
	x := newTrial(t, strings.ReplaceAll(content, "LIST", list))
	x.list = list
	return x
}

func (x *trial) listing() string {
	data, _ := os.ReadFile(x.list)
	names := strings.Fields(string(data))
	slices.Sort(names)
	return strings.Join(names, " ")
}

// TestProceduresThatFail has a join refused, hang, and lose its answer, and a member added by hand; each is told in words,
// can be taken back, and leaves no dead entry.
func TestProceduresThatFail(t *testing.T) {
	t.Parallel()
	for _, test := range []struct {
		name, join string
		code       int
		want       []string
		listing    string
	}{
		{"refused", "echo the tide is too low; exit 3", 1,
			[]string{"it could not add it-4: sh ended with exit code 3: the tide is too low", "Deploy again to go on trying, or scale back to give it up"}, "it-1 it-2 it-3"},
		{"hangs", "sleep 100", 1, []string{"it could not add it-4: sh took too long"}, "it-1 it-2 it-3"},
		{"fails half-way", "echo {{.Member}} >>LIST; exit 1", 0, nil, "it-1 it-2 it-3 it-4"},
		{"loses its answer", "echo {{.Member}} >>LIST; sleep 100", 0, nil, "it-1 it-2 it-3 it-4"},
	} {
		t.Run(test.name, func(t *testing.T) {
			x := listed(t, test.join, "")
			x.must("deploy", x.file, "--yes")
			out, code := x.try(time.Minute, "scale", "it", "4", "--yes")
			if code != test.code {
				t.Errorf("exit status %d\n%s", code, out)
			}
			x.contains(out, "4 voters, which survive 1 loss, no more than 3 would")
			x.contains(out, test.want...)
			if got := x.listing(); got != test.listing {
				t.Errorf("the list is %s, want %s", got, test.listing)
			}
			x.must("scale", "it", "3", "--yes")
			if s := x.status(); s.State != "converged" || x.listing() != "it-1 it-2 it-3" {
				t.Errorf("taken back: %s; the list is %s", s.Verdict, x.listing())
			}
		})
	}
}

// TestAListThatDisagreesIsShownAndNotMended adds and removes entries behind our back.
func TestAListThatDisagreesIsShownAndNotMended(t *testing.T) {
	x := listed(t, "echo {{.Member}} >>LIST", "")
	x.must("deploy", x.file, "--yes")
	set := func(names ...string) {
		if err := os.WriteFile(x.list, []byte(strings.Join(names, "\n")+"\n"), 0o666); err != nil {
			t.Fatal(err)
		}
	}
	set("it-1", "it-2", "it-3", "jackdaw")
	x.until("the stranger is shown", 10*time.Second, func() bool {
		s := x.status()
		return s.State == "degraded" && strings.Contains(s.Verdict, "it lists jackdaw, which is none of ours")
	})
	out, code := x.try(time.Minute, "scale", "it", "5", "--yes")
	if code != 2 || !strings.Contains(out, "it lists jackdaw as a member, which Lantern Field did not put there; if nobody needs it, take it off by hand") {
		t.Errorf("scaling upon a list with a stranger: %d\n%s", code, out)
	}
	set("it-1", "it-2")
	x.until("the missing one is shown", 10*time.Second, func() bool {
		return strings.Contains(x.status().Verdict, "it does not list it-3 any more: somebody has taken it off by hand")
	})
	out, code = x.try(time.Minute, "scale", "it", "4", "--yes")
	if code != 2 || !strings.Contains(out, "add it again by hand, or scale it in by one, which removes it") {
		t.Errorf("scaling upon a list with a gap: %d\n%s", code, out)
	}
	if x.listing() != "it-1 it-2" {
		t.Errorf("the list was mended: %s", x.listing())
	}
	x.must("scale", "it", "2", "--yes")
	if got := strings.Join(x.names(), " "); got != "it-1 it-2" {
		t.Errorf("the members are %s", got)
	}
}

// TestScalingThatMakesNoSense says why, and changes nothing.
func TestScalingThatMakesNoSense(t *testing.T) {
	t.Parallel()
	x := newTrial(t, wardens.field(3, "  crews: {kit: crew, members: 1, calls: {store: store, queue: news}}\n  news: {kit: relay, members: 1}\n"))
	x.must("deploy", x.file, "--yes")
	for _, test := range []struct{ n, want string }{
		{"0", "crews waits for store, and could never start again without it; scale crews to 0 as well, or keep at least 1 of store; nothing has been changed"},
		{"-1", `"-1" is not a number of members; write 0 or more`},
		{"many", `"many" is not a number of members; write 0 or more`},
	} {
		out, code := x.try(20*time.Second, "scale", "store", test.n, "--yes")
		if code != 2 || !strings.Contains(out, test.want) {
			t.Errorf("scale store %s: %d\n%s", test.n, code, out)
		}
	}
	// More than fits, and which constraint.
	data, _ := os.ReadFile(x.file)
	x.write(strings.Replace(string(data), "store: {kit: warden, members: 3}", "store: {kit: warden, members: 3, where: zone == \"north-quay\" and name != \"gull-1\"}", 1))
	out, code := x.try(20*time.Second, "scale", "store", "60", "--yes")
	if code != 1 || !strings.Contains(out, "fit nowhere") || !strings.Contains(out, "no port left: gull-2 (7400 to 7419 are all in use)") {
		t.Errorf("more than fits: %d\n%s", code, out)
	}
	x.write(string(data))

	// While a voter is dark, and without a quorum.
	x.write(strings.Replace(string(data), "store: {kit: warden, members: 3}", "store: {kit: warden, members: 3, settings: {election: 500ms, fail: none}}", 1))
	s := x.status()
	broken := func(name string) { // its port is taken as soon as it is killed, so that it stays dark
		m := s.member(name)
		_ = syscall.Kill(x.agentOf(m.Node), syscall.SIGSTOP)
		_ = syscall.Kill(m.PID, syscall.SIGKILL)
		t.Cleanup(func() { _ = syscall.Kill(x.agentOf(m.Node), syscall.SIGCONT) })
	}
	x.alone()
	broken("store-2")
	out, code = x.try(30*time.Second, "scale", "store", "5", "--yes")
	if code != 2 || !strings.Contains(out, "store-2 is dark") || !strings.Contains(out, "so store survives 0 more losses") {
		t.Errorf("with a dark voter: %d\n%s", code, out)
	}
	x.alone()
	broken("store-3")
	out, code = x.try(30*time.Second, "scale", "store", "1", "--yes")
	if code != 2 || !strings.Contains(out, "of 3 votes, as far as is known, and needs 2 to agree on anything, so nobody can be added or removed; bring back store-") {
		t.Errorf("without a quorum: %d\n%s", code, out)
	}
	for _, name := range []string{"store-2", "store-3"} {
		_ = syscall.Kill(x.agentOf(s.member(name).Node), syscall.SIGCONT)
	}
	x.until("it is whole again", 30*time.Second, func() bool { return x.status().State == "converged" })
	if got := strings.Join(x.names(), " "); got != "crews-1 news-1 store-1 store-2 store-3" {
		t.Errorf("the members are %s", got)
	}
}

// TestDemoRunsThroughAWholeLife runs the demo without a screen and looks for what it left.
func TestDemoRunsThroughAWholeLife(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	x := &trial{T: t, dir: dir, state: filepath.Join(dir, "state")}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	out, err := x.command(ctx, "demo", "--run", "--json").Output()
	var report struct {
		Steps []struct {
			Name, Detail string
			OK           bool
			Seconds      float64
		}
		OK bool
	}
	if err2 := json.Unmarshal(out, &report); err != nil || err2 != nil || !report.OK || len(report.Steps) != 11 {
		t.Fatalf("%v, %v\n%s", err, err2, out)
	}
	total := 0.0
	for _, s := range report.Steps {
		if !s.OK || s.Name == "" || s.Detail == "" {
			t.Errorf("%+v", s)
		}
		total += s.Seconds
	}
	if left := x.processes(); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	var files []string
	_ = filepath.Walk(x.state, func(path string, info os.FileInfo, _ error) error {
		if info != nil && !info.IsDir() {
			files = append(files, path)
		}
		return nil
	})
	if len(files) > 0 {
		t.Errorf("files left behind: %v", files)
	}
	t.Logf("%d steps in %.1f s", len(report.Steps), total)
}

// TestProceduresOfRolesThatDoNotVote founds a role by a procedure, once, and has its later members copy what they need
// before they start.
func TestProceduresOfRolesThatDoNotVote(t *testing.T) {
	notes := filepath.Join(t.TempDir(), "notes")
	x := newTrial(t, strings.ReplaceAll(`format: 1
field: trouble
nodes: [{name: "gull-{1..4}", zone: north-quay}]
roles:
  copies:
    members: 2
    start: seed-first
    spread: node
    program:
      command: [{{witness}}, '{{.Address}}:{{.Port "main"}}']
      ports: {main: {port: 7100}}
      found:
        - exec: [sh, -c, 'echo founded by {{.Member}} >>NOTES']
      join:
        - on: joiner
          exec: [sh, -c, 'echo {{.Member}} copied from {{.Leader.Member}} >>NOTES; echo copy >{{.Data}}/copy']
      leave:
        - on: leaver
          when: after-stop
          exec: [sh, -c, 'test -e {{.Data}}/copy && echo {{.Member}} left >>NOTES']
`, "NOTES", notes))
	out := x.must("check", x.file)
	x.contains(out, "has no done_when: if its answer is lost")
	x.must("deploy", x.file, "--yes")
	x.must("scale", "copies", "3", "--yes")
	x.must("scale", "copies", "2", "--yes")
	content, _ := os.ReadFile(x.file) // what founds a cluster is settled when it is founded
	x.write(strings.Replace(string(content), "      join:", "        - exec: [sh, -c, 'echo founded once more >>"+notes+"']\n      join:", 1))
	x.must("deploy", x.file, "--yes")
	x.must("restart", x.file, "--yes")
	data, _ := os.ReadFile(notes)
	const want = "founded by copies-1\ncopies-2 copied from copies-1\ncopies-3 copied from copies-1\ncopies-3 left\n"
	if string(data) != want {
		t.Errorf("got\n%swant\n%s", data, want)
	}
	if _, err := os.Stat(filepath.Join(x.state, "trouble/nodes/gull-2/members/copies-2/data/copy")); err != nil {
		t.Error(err)
	}
}
