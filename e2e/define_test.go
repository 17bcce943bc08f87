package e2e

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
)

// TestFromAnEmptyFolderToAReviewedDraft goes the way of somebody who has never seen the tool: a five-role system on eight
// nodes in three zones that survives the loss of one, with mistakes on the way.
func TestFromAnEmptyFolderToAReviewedDraft(t *testing.T) {
	t.Parallel()
	x := newTrial(t, ferries)
	folder := filepath.Join(x.dir, "mine")
	if err := os.Mkdir(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	s := newScreenIn(t, x, folder, 150, 44, "new")
	s.has("What kind of system is it?", "SQL with replicas and an entry", "records 0/", "What must it survive?")
	s.press("Down", "Down", "Down", "Down", "Down")
	s.has("demo-service", "Of the demo's own programs", "keepers 0/3", "doors")
	s.press("Down")
	s.until("the board of the next pattern", func(text string) bool { return !strings.Contains(text, "doors") && strings.Contains(text, "hands") })
	s.press("Up")
	s.has("doors 0/2")
	s.press("Enter")
	s.has("The file will be NAME.field.yaml")
	s.press("C-u")
	s.types("My ferries!")
	s.has(`"My ferries!" cannot be a field's name`)
	s.press("Enter") // it is not taken
	s.press("C-u")
	s.types("ferries")
	s.until("the name is taken", func(text string) bool { return !strings.Contains(text, "cannot be") })
	s.press("Enter")
	s.has("several nodes in zones", "one node")
	s.press("Enter")
	s.has("A zone is what fails together")
	s.press("C-u")
	s.types("north none")
	s.has(`"none" is not a number of nodes`)
	s.press("C-u")
	s.types("north 3, south 3, light 2")
	s.has("light-2", "It survives the loss of any one zone.")
	s.press("Enter", "Enter")
	s.has("What load will it bear?", "heavy")
	s.press("Enter")
	s.has("This sets how many members the roles have")
	s.press("Up") // two nodes: five voters
	s.has("keepers 0/5", "It survives the loss of any two nodes.")
	s.press("Down")
	s.has("keepers 0/3")
	s.press("Enter")
	s.has("How many members of each role?", "To survive the loss of any two nodes: keepers 5,")
	s.press("Enter")
	s.has("Enter writes", "enter write it")
	s.press("Enter")
	s.has("Nothing runs yet. v shows what deploying would do", "the draft wants 11 members")
	data, err := os.ReadFile(filepath.Join(folder, "ferries.field.yaml"))
	if err != nil || !strings.Contains(string(data), "# they vote: a majority must be there for every write") || !strings.Contains(string(data), "  - name: light-{1..2}\n    zone: light\n") {
		t.Errorf("got %v\n%s", err, data)
	}
	s.press("v")
	s.has("Review: what deploying ferries would change", "carriers waits for keepers: quorum")
	s.press("Escape")
	s.until("the board again", func(text string) bool { return !strings.Contains(text, "Review:") })
	s.press("w")
	s.has("If keepers-1 failed", "failures that would stop something")
	s.press("q")
	x.until("the screen has gone", 10*time.Second, func() bool { return s.text() == "" })
	if len(x.agents()) > 0 {
		t.Error("looking at it started agents")
	}
}

// TestWhatIsNotOursOpensGates calls a database that others keep: who depends on it waits until it answers, is told where it
// is, and it goes dark when it answers no more.
func TestWhatIsNotOursOpensGates(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	at := l.Addr().String()
	l.Close()
	x := newTrial(t, strings.ReplaceAll(`format: 1
field: outside
nodes: [{name: gull-1}, {name: tern-1}]
roles:
  ledger:
    external: {addresses: ["ADDRESS"], scheme: postgres, authority: the harbour office}
  crews:
    members: 2
    calls: {db: ledger}
    program: {command: [sh, -c, 'echo "{{range .Calls "db"}}{{.URL "any"}}{{end}}" > {{.Dir}}/told; exec sleep 600']}
`, "ADDRESS", at))
	out, code := x.try(time.Minute, "deploy", x.file, "--yes", "--timeout", "4s")
	if code != 1 || !strings.Contains(out, "ledger-1 waits for its ready probe to succeed") {
		t.Fatalf("it answers nobody: %d\n%s", code, out)
	}
	if l, err = net.Listen("tcp", at); err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	x.must("deploy", x.file, "--yes", "--timeout", "30s")
	told := ""
	for _, node := range []string{"gull-1", "tern-1"} {
		found, _ := filepath.Glob(filepath.Join(x.state, "outside", "nodes", node, "members", "crews-*", "told"))
		for _, f := range found {
			data, _ := os.ReadFile(f)
			told += string(data)
		}
	}
	if want := "postgres://" + at + "\n"; told != want+want {
		t.Errorf("they were told %q, want %q", told, want+want)
	}
	l.Close()
	x.until("it is dark", 20*time.Second, func() bool {
		m := x.status().member("ledger-1")
		return m.Phase != "ready"
	})
	for text, want := range map[string]string{"[\"ADDRESS\"]": "", "[\"db\"]": `"db" is not an address with a port`, "[]": "needs one entry at least"} {
		x.write(strings.Replace("format: 1\nfield: outside\nnodes: [{name: gull-1}]\nroles:\n  ledger:\n    external: {addresses: "+text+"}\n", "ADDRESS", at, 1))
		out, _ := x.try(time.Minute, "check", x.file)
		if want != "" && !strings.Contains(out, want) {
			t.Errorf("%s: %s", text, out)
		}
	}
	x.write("format: 1\nfield: outside\nnodes: [{name: gull-1}]\nroles:\n  ledger: {external: {addresses: [\"" + at + "\"]}}\n")
}

// TestPortsAreBoundToTheirNetwork runs Redis on the back network: it is probed there, who calls it is told that address, and
// nobody listens on the front. Then the same with addresses that the file gives.
func TestPortsAreBoundToTheirNetwork(t *testing.T) {
	t.Parallel()
	const whole = `format: 1
field: networks
networks: [front, back]
nodes: [{name: gull-1}]
roles:
  cache:
    members: 1
    program:
      command: [redis-server, --bind, '{{.AddressOn "back"}}', --port, '{{.Port "client"}}', --dir, "{{.Dir}}"]
      ports: {client: {port: 6379, scheme: redis, network: back}}
      ready: {tcp: {port: client, send: "PING\r\n", expect: "+PONG"}}
  crews:
    members: 1
    calls: {cache: cache}
    program: {command: [sh, -c, 'echo "{{range .Calls "cache"}}{{.URL "client"}} {{.Listen "client"}}{{end}}" > {{.Dir}}/told; exec sleep 600']}
`
	x := newTrial(t, whole)
	x.must("deploy", x.file, "--yes", "--timeout", "60s")
	front := x.status().member("cache-1").Address
	parts := strings.Split(front, ".")
	n, _ := strconv.Atoi(parts[1])
	x.onTheBack(front, fmt.Sprintf("%s.%d.%s.%s", parts[0], n+64, parts[2], parts[3]))

	given := fmt.Sprintf("127.11.%d.1", os.Getpid()%250)
	x.write(strings.Replace(whole, "{name: gull-1}", fmt.Sprintf("{name: gull-1, addresses: {front: %s, back: 127.12.7.1}}", given), 1))
	out, code := x.try(time.Minute, "deploy", x.file, "--yes")
	if x.contains(out, "gull-1 has had the address "+front, "the draft gives it "+given); code != 2 {
		t.Errorf("exit status %d", code)
	}
	x.must("retire", x.file, "--yes")
	x.must("deploy", x.file, "--yes", "--timeout", "60s")
	if got := x.status().member("cache-1").Address; got != given {
		t.Errorf("it has the address %s, and the file gives %s", got, given)
	}
	x.onTheBack(given, "127.12.7.1")
}

// onTheBack checks that the cache of a trial listens on one address of its node and not on the other.
func (x *trial) onTheBack(front, back string) {
	t := x.T
	back += ":6379"
	told, _ := os.ReadFile(filepath.Join(x.state, "networks", "nodes", "gull-1", "members", "crews-1", "told"))
	if want := "redis://" + back + " " + back + "\n"; string(told) != want {
		t.Errorf("it was told %q, want %q", told, want)
	}
	if c, err := net.DialTimeout("tcp", back, time.Second); err != nil {
		t.Errorf("nobody listens on the back: %v", err)
	} else {
		c.Close()
	}
	if c, err := net.DialTimeout("tcp", front+":6379", time.Second); err == nil {
		c.Close()
		t.Error("it listens on the front too")
	}
}

// TestPatternsAreRealSystems deploys what patterns make, and takes a node out under a role that has a member on every node.
func TestPatternsAreRealSystems(t *testing.T) {
	t.Parallel()
	x := newTrial(t, "")
	patterns := []string{"sql", "demo-shards", "demo-service", "demo-observability"}
	if os.Getenv("LANTERNFIELD_SOAK") != "" { // what they are made of is deployed by TestHarbourDesk and TestKitsLive
		patterns = append([]string{"store", "messages", "cache", "service"}, patterns...)
	}
	for _, pattern := range patterns {
		x.file = filepath.Join(x.dir, pattern+"-it.field.yaml")
		out := x.must("new", pattern, "--name", pattern+"-it", "--nodes", "a 2, b 1, c 1", "--survive", "zone", "--load", "heavy")
		if !strings.Contains(out, "It survives the loss of any one zone.") {
			t.Errorf("%s: %s", pattern, out)
		}
		x.must("deploy", x.file, "--yes", "--timeout", "60s")
		if got := x.status(); got.State != "converged" {
			t.Errorf("%s: %s", pattern, got.Verdict)
		}
		if pattern != "demo-observability" {
			if !strings.HasPrefix(pattern, "demo-") {
				x.contains(x.must("prove", x.file), "holds")
			}
			x.must("retire", x.file, "--yes", "--forget")
		}
	}
	data, _ := os.ReadFile(x.file)
	x.write(strings.Replace(string(data), "  - name: c-1\n", "  - name: c-1\n    out: waits for a new disk\n", 1))
	out := x.must("review", x.file)
	for _, want := range []string{"take collectors-4 off c-1 for good, with its data (c-1 is taken out)"} {
		if !strings.Contains(out, want) {
			t.Errorf("the review does not say %q:\n%s", want, out)
		}
	}
	x.must("deploy", x.file, "--yes", "--timeout", "90s")
	count := map[string]int{}
	for _, m := range x.status().Members {
		count[m.Role]++
		if m.Node == "c-1" {
			t.Errorf("%s is on the node that was taken out", m.Member)
		}
	}
	if count["collectors"] != 3 || count["keepers"] != 3 {
		t.Errorf("got %v", count)
	}
}

// TestAFieldIsKeptAsAPatternOnTheScreen goes to the sheet of the whole field and keeps it under a name; a new field can
// then be made of it.
func TestAFieldIsKeptAsAPatternOnTheScreen(t *testing.T) {
	x := newTrial(t, ferries)
	t.Setenv("XDG_CONFIG_HOME", filepath.Join(x.dir, "config"))
	s := newScreen(t, x, 150, 44, "open", x.file)
	s.has("the draft wants 9 members")
	s.press("c")
	for range 3 { // from the role to its node, its zone and the field
		s.press("Tab")
	}
	s.has("keep the field as a pattern")
	for range 40 {
		s.press("Down")
	}
	s.has("▸ keep the field as a pattern")
	s.press("Enter")
	s.has("Name of the pattern")
	s.press("C-u")
	s.types("our-quay")
	s.press("Enter")
	s.has("Kept as the pattern our-quay")
	s.press("Escape", "q")
	x.contains(x.must("new", "our-quay", "--nodes", "a 3", "--name", "again"), "again.field.yaml")
}
