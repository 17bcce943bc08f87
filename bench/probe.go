package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"time"
)

var answers = flag.String("answers", "", "be a server at that address that answers after some milliseconds")

// thinks is how long that server takes to answer.
const thinks = 8 * time.Millisecond

func runAnswers() error {
	return http.ListenAndServe(*answers, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		time.Sleep(thinks)
		fmt.Fprintln(w, "well")
	}))
}

// probe holds the latency that is reported of a member against what another client finds at the same time.
func probe(dir string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	file := filepath.Join(dir, "probe.field.yaml")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	content := fmt.Sprintf(`format: 1
field: probe
nodes: [{name: gull-1}]
roles:
  well: {members: 1, program: {command: [%q, -answers, '{{.Listen "http"}}'], ports: {http: {port: 8000}}, ready: {http: {port: http, path: /}, every: 200ms}}}
`, self)
	if err := os.WriteFile(file, []byte(content), 0o644); err != nil {
		return err
	}
	if _, err := run(dir, "deploy", file, "--yes"); err != nil {
		return err
	}
	defer func() { _, _ = run(dir, "retire", file, "--yes", "--forget") }()
	serve := exec.Command(*binary, "serve", file) // measures are read while somebody keeps the field
	serve.Env = append(os.Environ(), "LANTERNFIELD_STATE="+dir)
	if err := serve.Start(); err != nil {
		return err
	}
	defer func() { _ = serve.Process.Signal(os.Interrupt); _ = serve.Wait() }()
	time.Sleep(3 * time.Second)
	type status struct {
		Members []struct {
			Address string `json:"address"`
			Probe   struct {
				LatencyMS float64 `json:"latency_ms"`
			} `json:"probe"`
		} `json:"members"`
	}
	look := func() (s status, err error) {
		out, err := run(dir, "status", file, "--json")
		if err == nil {
			err = json.Unmarshal(out, &s)
		}
		if err == nil && len(s.Members) != 1 {
			err = fmt.Errorf("%d members", len(s.Members))
		}
		return s, err
	}
	client := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
	var reported, found []time.Duration
	for range 40 {
		s, err := look()
		if err != nil {
			return err
		}
		reported = append(reported, time.Duration(s.Members[0].Probe.LatencyMS*float64(time.Millisecond)))
		for range 5 {
			begin := time.Now()
			answer, err := client.Get(fmt.Sprintf("http://%s:8000/", s.Members[0].Address))
			if err != nil {
				return err
			}
			answer.Body.Close()
			found = append(found, time.Since(begin))
			time.Sleep(50 * time.Millisecond)
		}
	}
	fmt.Printf("latency of a member that answers after %s: reported %s, found by another client %s, medians of %d and %d; ratio %.3f\n", ms(thinks), ms(median(reported)), ms(median(found)),
		len(reported), len(found), float64(median(reported))/float64(median(found)))
	return nil
}
