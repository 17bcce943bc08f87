package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// ledger is a field whose store and database another field calls.
const ledger = `format: 1
field: harbour-ledger
nodes:
  - {name: "gull-{1..3}", zone: north-quay}
  - {name: "tern-{1..2}", zone: south-quay}
roles:
  store: {kit: etcd, members: 3, spread: node}
  berths: {kit: postgresql}
  quay: {kit: haproxy, calls: {members: berths}}
`

// desks calls them. What its programs are told of them is all that they know.
const desks = `format: 1
field: ferry-desks
nodes: [{name: heron-1}, {name: heron-2}]
roles:
  book:
    external: {field: harbour-ledger, role: store}
  bookings:
    external: {field: harbour-ledger, role: berths}
  clerks:
    members: 2
    calls: {book: book}
    program:
      command: [sh, "{{.Dir}}/clerk.sh"]
      files:
        endpoints: {template: '{{range $i, $m := .Calls "book"}}{{if $i}},{{end}}{{$m.URL "client"}}{{end}}', on_change: itself}
        shown.pem: {template: '{{with .Access "book"}}{{.Certificate}}{{.Key}}{{end}}', on_change: itself}
        authority.pem: {template: '{{(.Access "book").Authority}}', on_change: itself}
        clerk.sh:
          on_change: restart
          template: |
            cd {{.Dir}}
            while true; do
              ETCDCTL_API=3 etcdctl --endpoints "$(cat endpoints)" --cert shown.pem --key shown.pem --cacert authority.pem --command-timeout=5s put {{.Member}} "$(date +%s)" || echo FAILED
              sleep 0.3
            done
      ready: {exec: ["true"]}
  tellers:
    calls: {bookings: bookings}
    program:
      command: [sh, "{{.Dir}}/teller.sh"]
      files:
        authority.pem: {template: '{{(.Access "bookings").Authority}}', on_change: itself}
        url:
          template: 'postgres://{{with .Access "bookings"}}{{.User}}:{{.Password "url"}}@{{range $i, $h := .Hosts}}{{if $i}},{{end}}{{$h.At}}{{end}}{{end}}/postgres?sslmode=verify-full&sslrootcert={{.Dir}}/authority.pem'
          on_change: itself
        teller.sh:
          on_change: restart
          template: |
            while true; do psql "$(cat {{.Dir}}/url)" -XAtc "select 'open'" || echo FAILED; sleep 0.3; done
      ready: {exec: ["true"]}
`

// beside is another field in the state folder of the first.
func (x *trial) beside(content string) *trial {
	x.Helper()
	y := &trial{T: x.T, dir: filepath.Join(x.dir, "beside"), state: x.state, file: filepath.Join(x.dir, "beside", "it.field.yaml"), cleaned: true}
	if err := os.MkdirAll(y.dir, 0o755); err != nil {
		x.Fatal(err)
	}
	y.write(content)
	x.Cleanup(func() {
		if x.Failed() {
			out, _ := y.try(time.Minute, "journal", y.file)
			x.Logf("journal of the field beside:\n%s", tail(out, 60))
		}
		_, _ = y.try(time.Minute, "retire", y.file, "--yes")
		y.until("nobody keeps the field beside", 20*time.Second, func() bool { return y.keeper() == 0 })
	})
	return y
}

// told reads a file of a member.
func (x *trial) told(name, file string) string {
	x.Helper()
	all, _ := filepath.Glob(filepath.Join(x.state, x.field(), "nodes", "*", "members", name, file))
	if len(all) != 1 {
		return ""
	}
	data, err := os.ReadFile(all[0])
	if err != nil {
		x.Fatal(err)
	}
	return string(data)
}

// goesOn waits until a member writes a line that it had not written, and then so many of them, none of which says that something failed.
func (x *trial) goesOn(name string, lines int) {
	x.Helper()
	all, _ := filepath.Glob(filepath.Join(x.state, x.field(), "nodes", "*", "agent", "logs", name+".log"))
	if len(all) != 1 {
		x.Fatalf("logs of %s: %v", name, all)
	}
	before := -1
	x.until(fmt.Sprintf("%s works %d times in a row", name, lines), 40*time.Second, func() bool {
		data, err := os.ReadFile(all[0])
		if err != nil {
			x.Fatal(err)
		}
		got := strings.Split(strings.TrimSpace(string(data)), "\n")
		if before < 0 || len(got) < before || strings.Contains(strings.Join(got[before:], "\n"), "FAILED") {
			before = len(got)
		}
		return len(got)-before >= lines
	})
}

// TestAFieldIsHandedRolesOfAnother has the members of one field call roles of another: where they are, whom to believe and as whom to ask is handed over,
// follows what changes over there with nobody doing anything here, and is taken back.
func TestAFieldIsHandedRolesOfAnother(t *testing.T) {
	t.Parallel()
	x := newTrial(t, ledger)
	y := x.beside(desks)
	if out, code := y.try(time.Minute, "deploy", y.file, "--yes"); code == 0 || !strings.Contains(out, `there is no field "harbour-ledger"`) {
		t.Errorf("a field that is not there: %d %s", code, out)
	}
	x.must("deploy", x.file, "--yes", "--timeout", "120s")
	y.write(strings.Replace(desks, "role: store", "role: stoer", 1))
	if out, code := y.try(time.Minute, "deploy", y.file, "--yes"); code == 0 || !strings.Contains(out, `it has no role "stoer"; did you mean "store"?`) {
		t.Errorf("a role that is not there: %d %s", code, out)
	}
	y.write(desks)
	y.must("check", y.file)
	y.must("deploy", y.file, "--yes", "--timeout", "60s")
	y.goesOn("clerks-1", 2)
	y.goesOn("tellers-1", 2)
	y.alone()

	url := y.told("tellers-1", "url")
	x.must("trust", "change", x.file, "postgresql", "--make", "--yes", "--timeout", "60s")
	y.until("its members have the other secret", 20*time.Second, func() bool { return y.told("tellers-1", "url") != url })
	y.goesOn("tellers-1", 3)
	password, _, _ := strings.Cut(strings.TrimPrefix(y.told("tellers-1", "url"), "postgres://postgres:"), "@")
	for _, file := range []string{"events.db", "events.db-wal", "keeper.log"} {
		if data, _ := os.ReadFile(filepath.Join(x.state, "ferry-desks", "own", file)); strings.Contains(string(data), password) || strings.Contains(string(data), "PRIVATE KEY") {
			t.Errorf("%s has what is secret of what was handed over", file)
		}
	}

	shown := y.told("clerks-1", "shown.pem")
	x.must("trust", "rotate", x.file, "--yes", "--timeout", "120s")
	x.until("the authority before can be withdrawn", 40*time.Second, func() bool {
		_, code := x.try(time.Minute, "trust", "rotate", x.file, "--finish", "--yes", "--timeout", "120s")
		return code == 0
	})
	y.until("its members show what the new authority has issued, and believe it alone", 20*time.Second, func() bool {
		return y.told("clerks-1", "shown.pem") != shown && strings.Count(y.told("clerks-2", "authority.pem"), "BEGIN") == 1
	})
	y.goesOn("clerks-1", 3)
	y.goesOn("tellers-1", 3)

	first := y.told("clerks-1", "endpoints")
	x.must("scale", x.file, "store", "5", "--yes", "--timeout", "120s")
	y.until("its members are told of five", 20*time.Second, func() bool {
		return strings.Count(y.told("clerks-1", "endpoints"), ",") == 4 && strings.Count(y.told("clerks-2", "endpoints"), ",") == 4
	})
	y.contains(y.told("clerks-1", "endpoints"), first)

	without := strings.Replace(ledger, "  store: {kit: etcd, members: 3, spread: node}\n", "", 1)
	x.write(without)
	if out, code := x.try(time.Minute, "deploy", x.file, "--yes"); code == 0 || !strings.Contains(out, "store is called by another field, ferry-desks (its book)") {
		t.Errorf("a role that another field calls is taken down: %d %s", code, out)
	}
	x.write(strings.Replace(ledger, "members: 3", "members: 5", 1))
	x.must("access", x.file, "store", "--take-back", "ferry-desks", "--yes")
	y.until("it is said that it was taken back", 20*time.Second, func() bool {
		out, _ := y.try(20*time.Second, "status", y.file)
		return strings.Contains(out, "book, which is store of harbour-ledger, is not handed over any more")
	})
	x.must("access", x.file, "store", "--hand-over", "ferry-desks")
	y.until("it is handed over again", 20*time.Second, func() bool {
		out, _ := y.try(20*time.Second, "status", y.file)
		return !strings.Contains(out, "problem:")
	})
	x.contains(x.must("access", x.file, "store"), "handed to    ferry-desks, as its book")

	fewer := desks[:strings.Index(desks, "  bookings:")] + desks[strings.Index(desks, "  clerks:"):strings.Index(desks, "  tellers:")]
	y.write(fewer)
	y.must("deploy", y.file, "--yes", "--timeout", "60s")
	x.until("what is not needed any more is given back", 20*time.Second, func() bool {
		return !strings.Contains(x.must("access", x.file, "berths"), "handed to")
	})
	x.contains(x.must("access", x.file, "store"), "handed to    ferry-desks, as its book")

	x.contains(x.must("retire", x.file, "--yes"), "store is called by another field, ferry-desks (its book), which loses it.")
	y.until("the other field says so", 20*time.Second, func() bool {
		out, _ := y.try(20*time.Second, "status", y.file)
		return strings.Contains(out, "is not handed over any more: it is not deployed")
	})
}
