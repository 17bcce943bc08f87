package e2e

import (
	"context"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
)

// watched is a field whose members take a while to get ready, by a setting, and never do where they are told to get stuck.
const watched = `format: 1
field: watched-quay
ground: {kind: local}
nodes: [{name: gull-1, zone: a}, {name: tern-1, zone: b}]
roles:
  wardens:
    kind: master
    members: 2
    program: &slow
      command: [sh, -c, 'echo begins; sleep {{.Setting "takes"}}; if [ {{.Setting "stuck"}} = yes ]; then exec sleep 600; fi; echo $$ > {{.Data}}/ready; echo is there; exec sleep 600']
      ready: {exec: [sh, -c, 'kill -0 $(cat {{.Data}}/ready)'], every: 200ms}
      on_change: restart
    settings: {takes: 1, stuck: "no"}
  crews:
    kind: worker
    members: 3
    start: one-by-one
    after: {wardens: all}
    late: {after: 5s, then: back}
    program: *slow
    settings: {takes: 1, stuck: "no"}
`

// TestARolloutIsWatched has one converge, one go back by itself since a member is late, and one stopped half-way on the screen; all of them are told.
func TestARolloutIsWatched(t *testing.T) {
	t.Parallel()
	x := newTrial(t, watched)
	if out := x.must("review", x.file); !strings.Contains(out, "7 + place crews-3") || strings.Contains(out, "It takes") {
		t.Errorf("of what was never done it is said how long it takes:\n%s", out)
	}
	x.must("deploy", x.file, "--yes")
	x.contains(x.must("rollout", x.file), "deploy 1", "5 of 5 done, took ", "crews waited ", "for wardens: all, which wardens-", "decided by: wardens-", "→ crews-1 → crews-2 → crews-3")
	if svg := filepath.Join(x.dir, "it.svg"); !strings.Contains(x.must("export", x.file, "rollout", "-o", svg), svg) || !strings.Contains(string(readFile(svg)), "crews-3") {
		t.Error("the rollout is not drawn")
	}

	x.write(strings.Replace(watched, "settings: {takes: 1, stuck: \"no\"}\n", "settings: {takes: 1, stuck: \"no\"}\n    settings_of: {crews-2: {stuck: \"yes\"}}\n", 2))
	x.write(strings.Replace(string(readFile(x.file)), "    settings_of: {crews-2: {stuck: \"yes\"}}\n  crews:", "  crews:", 1))
	x.contains(x.must("review", x.file), "which restarts it", "It takes: about ")
	out, _ := x.try(40*time.Second, "deploy", x.file, "--yes", "--timeout", "30s")
	x.until("it has gone back", 30*time.Second, func() bool {
		return strings.Contains(x.must("rollouts", x.file), "the field: crews-2 is late, and crews goes back then") && x.status().State == "converged"
	})
	x.contains(x.must("rollout", x.file, "2"), "stopped half-way after ", "crews-2 is starting, and was to be ready within 5.0 s")
	if !strings.Contains(out, "crews-2") {
		t.Errorf("who waits for the deploy hears nothing of it:\n%s", out)
	}

	s := newScreen(t, x, 160, 40, "open", x.file)
	s.has("converged")
	s.press("2")
	s.has("deploy 3", "1 of 1 done")
	s.press("Left")
	s.has("deploy 2", "stopped half-way after", "crews-2 is starting, and was to be ready within")
	s.press("Left")
	s.has("deploy 1", "5 of 5 done", "wardens: all", "◆")
	s.press("Escape")
	s.has("deploy 3")
	s.press("3")
	s.has("ready, of those wanted")
	s.again("crews", func() { s.press("Right") })
	s.until("the probes of crews are drawn", func(text string) bool {
		return strings.Contains(text, "probe, middle and worst answer") && strings.Contains(text, "memory")
	})

	// With more patience it is watched as it goes on, and stopped here.
	x.write(strings.Replace(string(readFile(x.file)), "{after: 5s, then: back}", "{after: 10m, then: back}", 1))
	s.press("1")
	s.has("The draft differs from what runs")
	s.press("v")
	s.has("d deploys this", "It takes: about")
	s.press("d", "2")
	s.has("deploy 4", "so far", "now ▾")
	s.until("crews-2 starts", func(text string) bool { return strings.Contains(text, "starting ") })
	s.press(".")
	s.has("crews-2 is starting", "expected to be done in about")
	s.press("x")
	s.has("Stop the deploy here?", "What has begun goes on to its end")
	s.press("y")
	s.has("stopped half-way after", "stopped here by")
	s.press("b")
	s.has("Go back to the draft of rollout", "which restarts it", "The field file stays as it is")
	s.press("y")
	s.until("it is as before", func(text string) bool {
		return strings.Contains(text, "deploy 5") && strings.Contains(text, "1 of 1 done")
	})
	s.press("q")
}

// TestOthersWatchTheField has the official Prometheus read what serve tells, and answer from it.
func TestOthersWatchTheField(t *testing.T) {
	t.Parallel()
	x := newTrial(t, watched)
	x.must("deploy", x.file, "--yes")
	address, other := freeAddress(t), freeAddress(t)
	serving, stop := context.WithCancel(context.Background())
	serve := x.command(serving, "serve", x.file, "--metrics", address)
	serve.Cancel = func() error { return serve.Process.Signal(os.Interrupt) }
	if err := serve.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { stop(); _ = serve.Wait() }()
	get := func(url string) string {
		res, err := http.Get(url)
		if err != nil {
			return ""
		}
		defer res.Body.Close()
		body, _ := io.ReadAll(res.Body)
		return string(body)
	}
	x.until("it is told", 20*time.Second, func() bool {
		return strings.Contains(get("http://"+address+"/metrics"), `lanternfield_field_state{field="watched-quay",state="converged"} 1`)
	})
	parser := expfmt.NewTextParser(model.UTF8Validation)
	all, err := parser.TextToMetricFamilies(strings.NewReader(strings.TrimSuffix(get("http://"+address+"/metrics"), "# EOF\n")))
	if err != nil || len(all["lanternfield_member_ready"].GetMetric()) != 5 {
		t.Errorf("the official parser reads %d members: %v", len(all["lanternfield_member_ready"].GetMetric()), err)
	}
	config := filepath.Join(x.dir, "prometheus.yml")
	if err := os.WriteFile(config, []byte("global: {scrape_interval: 1s}\nscrape_configs: [{job_name: quay, static_configs: [{targets: ['"+address+"']}]}]\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	p := exec.Command("prometheus", "--config.file="+config, "--storage.tsdb.path="+filepath.Join(x.dir, "tsdb"), "--web.listen-address="+other)
	p.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := p.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = p.Process.Kill(); _ = p.Wait() }()
	x.until("it has scraped the field", 40*time.Second, func() bool {
		return strings.Contains(get("http://"+other+"/api/v1/query?query=sum(lanternfield_member_ready)"), `"5"]`)
	})
	if up := get("http://" + other + "/api/v1/query?query=up"); !strings.Contains(up, `"1"]`) {
		t.Errorf("it says of the field %s", up)
	}
}

// freeAddress is one of this machine that nobody listens at now.
func freeAddress(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}
