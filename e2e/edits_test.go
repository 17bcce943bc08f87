package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestEveryEditOnTheScreen makes each kind of edit with keys, undoes it, makes it again and undoes it: the file must say
// it, and be the same to the byte when it is undone.
func TestEveryEditOnTheScreen(t *testing.T) {
	t.Parallel()
	x := newTrial(t, "")
	data, err := os.ReadFile("../examples/saltmarsh-ferries.field.yaml")
	if err != nil {
		t.Fatal(err)
	}
	x.write(string(data))
	before := string(data)
	now := func() string {
		data, _ := os.ReadFile(x.file)
		return string(data)
	}
	s := newScreen(t, x, 160, 50, "open", x.file)
	s.has("Nothing runs yet. v shows")
	home := func() {
		s.press("Escape", "PageUp", "Home")
		s.has("▸wardens")
	}
	find := func(name string) {
		s.press("/")
		s.has("Find")
		s.types(name)
		s.press("Enter")
		s.until("the cursor on "+name, func(text string) bool { return strings.Contains(text, "│ "+name+" ") })
	}
	marked := func() string { // the line that the cursor of a list is on
		for line := range strings.SplitSeq(s.text(), "\n") {
			if _, rest, ok := strings.Cut(line, "▸ "); ok {
				return rest
			}
		}
		return ""
	}
	down := func() { // one line, and no further before that is seen
		before := marked()
		s.press("Down")
		for until := time.Now().Add(3 * time.Second); marked() == before && time.Now().Before(until); {
			time.Sleep(10 * time.Millisecond)
		}
	}
	row := func(label string) { // of the open sheet
		s.has("changing: enter")
		for range 60 {
			for _, line := range strings.Split(s.text(), "\n") {
				if _, rest, ok := strings.Cut(line, "▸ "); ok && strings.HasPrefix(rest, label) {
					return
				}
			}
			down()
		}
		s.Fatalf("the sheet has no row %q:\n%s", label, s.text())
	}
	ask := func(text string) {
		s.has("enter takes it esc goes back")
		s.press("C-u")
		s.types(text)
		s.press("Enter")
	}
	for _, test := range []struct {
		name     string
		do       func()
		from, to string // what is replaced in the file; the rest stays
	}{
		{"a new role, wired to who fits", func() {
			s.press("A")
			s.has("Add to the draft", "a role: etcd")
			for range 60 { // real systems come first
				if _, chosen, _ := strings.Cut(s.text(), "▸  "); strings.HasPrefix(chosen, "a role: crew ") {
					break
				}
				down()
			}
			s.press("Enter")
			ask("mates")
		}, before[len(before)-len("    calls: {behind: relays}\n"):], "    calls: {behind: relays}\n  mates:\n    kit: crew\n    members: 2\n    calls: {queue: relays, store: wardens}\n"},
		{"a role of one's own", func() {
			s.press("A")
			s.has("Add to the draft")
			s.press("Down", "Down", "Enter")
			ask("clerks")
			s.has("Its command, with arguments")
			ask(`python3 -m http.server --bind {{.Address}} {{.Port "main"}}`)
			s.has("On which port does it listen?")
			ask("8000")
			s.has("What says that it is ready?")
			ask("/")
		}, before[len(before)-len("    calls: {behind: relays}\n"):], "    calls: {behind: relays}\n  clerks:\n    members: 1\n    program:\n      command: [python3, \"-m\", http.server, \"--bind\", \"{{.Address}}\", '{{.Port \"main\"}}']\n      ports: {main: {port: 8000}}\n      ready: {http: {port: main, path: /}}\n"},
		{"new nodes in a new zone", func() {
			s.press("A")
			s.has("Add to the draft")
			s.press("Enter")
			ask("heron-{1..2}")
			s.has("In which zone?")
			ask("east-quay")
		}, "\nroles:", "  - name: heron-{1..2}\n    zone: east-quay\n    size: {cpu: 2, memory: 1GiB}\n    labels: {disk: nvme}\n\nroles:"},
		{"a set of nodes", func() {
			s.press("A")
			s.has("Add to the draft")
			s.press("Down", "Enter")
			ask("heron")
			s.has("In which zones?")
			ask("east-quay, west-quay")
			s.has("How many nodes at the most?")
			ask("4")
		}, "\nroles:", "  - name: heron\n    zones: [east-quay, west-quay]\n    set: {least: 0, most: 4}\n    size: {cpu: 2, memory: 1GiB}\n    labels: {disk: nvme}\n\nroles:"},
		{"another name for a role", func() { s.press("c"); row("name"); s.press("Enter"); ask("keepers") }, "wardens", "keepers"},
		{"a note", func() { s.press("c"); row("about"); s.press("Enter"); ask("Agree: always.") }, "about: Agree on every booking.", `about: "Agree: always."`},
		{"a count", func() { s.press("c"); row("members"); s.press("Enter"); ask("5") }, "members: 3\n    spread: zone             # so", "members: 5\n    spread: zone             # so"},
		{"a size", func() { s.press("c"); row("room memory"); s.press("Enter"); ask("96MiB") }, "room: {cpu: 0.25, memory: 64MiB}", "room: {cpu: 0.25, memory: 96MiB}"},
		{"a choice", func() { s.press("c"); row("spread"); s.press("Enter") }, "spread: zone             # so", "spread: node             # so"},
		{"a setting", func() { s.press("c"); row("election"); s.press("Enter"); ask("800ms") }, "room: {cpu: 0.25, memory: 64MiB}\n", "room: {cpu: 0.25, memory: 64MiB}\n    settings: {election: 800ms}\n"},
		{"a wire, by pointing", func() {
			find("crews")
			s.press("c")
			row("calls queue")
			s.press("Enter")
			s.has("arrows point at a role")
			s.press("Enter") // only relays provide a queue
		}, "", ""},
		{"a gate, by pointing", func() {
			find("pier")
			s.press("c")
			row("wait for another")
			s.press("Enter")
			s.has("arrows point at a role")
			s.until("the cursor stands on wardens", func(text string) bool { return strings.Contains(text, "▸wardens") })
			s.press("Enter")
		}, "calls: {behind: relays}\n", "calls: {behind: relays}\n    after: {wardens: quorum}\n"},
		{"apart", func() { find("crews"); s.press("c"); row("apart"); s.press("Enter"); ask("pier") }, "settings: {takes: 50ms}\n", "settings: {takes: 50ms}\n    apart: [pier]\n"},
		{"a node taken out of its range", func() { find("tern-2"); s.press("c"); row("taken out"); s.press("Enter"); ask("flooded") },
			"  - name: tern-{1..3}\n    zone: south-quay\n    size: {cpu: 2, memory: 1GiB}\n    labels: {disk: nvme}\n",
			"  - name: tern-1\n    zone: south-quay\n    size: {cpu: 2, memory: 1GiB}\n    labels: {disk: nvme}\n  - name: tern-2\n    zone: south-quay\n    size: {cpu: 2, memory: 1GiB}\n    labels: {disk: nvme}\n    out: flooded\n" +
				"  - name: tern-3\n    zone: south-quay\n    size: {cpu: 2, memory: 1GiB}\n    labels: {disk: nvme}\n"},
		{"another name for a zone", func() { find("lighthouse"); s.press("c"); row("name"); s.press("Enter"); ask("beacon") }, "zone: lighthouse", "zone: beacon"},
		{"a role taken out, with what refers to it", func() { find("lookout"); s.press("c"); row("take the role out"); s.press("Enter") },
			before[strings.Index(before, "  lookout:\n"):strings.Index(before, "  pier:\n")], ""},
		{"two members at once", func() {
			find("crews-3")
			s.press("m")
			s.has("1 member marked")
			find("crews-4")
			s.press("m")
			s.has("2 members marked")
			s.press("x")
		}, "members: 4", "members: 2"},
	} {
		home()
		test.do()
		if test.from == "" { // it is as it was: nothing is written
			s.has("in the draft. u undoes it")
			s.press("Escape", "u")
			s.has("Undone")
			continue
		}
		after := strings.Replace(before, test.from, test.to, 1)
		if test.name == "another name for a role" {
			after = strings.ReplaceAll(before[:strings.Index(before, "  wardens:")], "", "") + strings.NewReplacer("  wardens:     ", "  keepers:     ", "{wardens: quorum}", "{keepers: quorum}", "store: wardens", "store: keepers").Replace(before[strings.Index(before, "  wardens:"):])
		}
		x.until(test.name+" is in the file", 10*time.Second, func() bool { return now() == after || now() != before })
		if got := now(); got != after {
			t.Fatalf("%s: the file is\n%s\nwant\n%s", test.name, got, after)
		}
		s.has("in the draft. u undoes it")
		s.press("Escape", "Escape")
		s.until("nothing is open", func(text string) bool { return !strings.Contains(text, "changing:") })
		s.press("u")
		x.until(test.name+" is undone", 10*time.Second, func() bool { return now() == before })
		s.has("Undone")
		s.press("U")
		x.until(test.name+" is made again", 10*time.Second, func() bool { return now() == after })
		s.has("Made again")
		s.press("u")
		x.until(test.name+" is undone again", 10*time.Second, func() bool { return now() == before })
		s.has("Undone")
	}
	for range strings.Count(before, "#") {
		if strings.Count(now(), "#") != strings.Count(before, "#") {
			t.Fatal("comments are gone")
		}
	}

	// What a member would be run with, and where it comes from.
	find("crews-1")
	s.press("F")
	s.has("what crews-1 would be run with", "--takes=50ms", "takes: the role, over 50ms by the kit's default", "crew.json")
	s.press("Tab")
	s.has("queue: the members of relays")
	s.press("Escape")

	// A finding is lived with, with a reason in the file.
	x.write(strings.Replace(before, "    kit: warden\n    members: 3", "    kit: warden\n    members: 2", 1))
	s.has("wardens has 2 voters")
	s.press("f")
	s.has("set members of wardens to 3")
	s.press("c")
	s.has("Why do you live with it?")
	s.types("two quays is what there is")
	s.press("Enter")
	s.has("Accepted: two quays is what there is")
	if !strings.Contains(now(), `- {finding: even number of voters, role: wardens, reason: "two quays is what there is"}`) {
		t.Errorf("the file:\n%s", now())
	}
	s.press("Escape", "q")
	x.until("the screen has gone", 10*time.Second, func() bool { return s.text() == "" })
}

// TestAPlacementIsProposed narrows what may hold a role, which moves whoever may not stay, widens it again, and lets the board
// propose what then would stand better.
func TestAPlacementIsProposed(t *testing.T) {
	t.Parallel()
	x := newTrial(t, ferries)
	x.must("deploy", x.file, "--yes")
	s := newScreen(t, x, 150, 44, "open", x.file)
	s.has("9 of 9 lit")
	s.press("p")
	s.has("Nothing would stand better elsewhere")
	wide, _ := os.ReadFile(x.file)
	x.write(strings.Replace(string(wide), "  crews:\n    members: 3", "  crews:\n    where: zone != \"lighthouse\"\n    members: 3", 1))
	s.has("draft +1 -1")
	s.press("v")
	s.has("place crews-4 on", "take crews-3 off puffin-1", "where of crews does not allow", "puffin-1 any more")
	s.press("d")
	s.has("The deploy is done", "9 of 9 lit")
	for _, m := range x.status().Members {
		if m.Role == "crews" && m.Zone == "lighthouse" {
			t.Errorf("%s still stands on %s", m.Member, m.Node)
		}
	}
	x.write(string(wide))
	s.until("the draft is read", func(string) bool {
		s.press("p")
		time.Sleep(200 * time.Millisecond)
		return strings.Contains(s.text(), "A placement is proposed")
	})
	s.has("to puffin-1")
	s.press("Enter")
	s.has("in the draft. u undoes it")
	s.press("v")
	s.has("a pin puts a member elsewhere")
	s.press("d")
	s.has("The deploy is done", "9 of 9 lit")
	there := 0
	for _, m := range x.status().Members {
		if m.Role == "crews" && m.Zone == "lighthouse" {
			there++
		}
	}
	if there != 1 {
		t.Errorf("%d of crews stand in the lighthouse, want 1", there)
	}
}

// TestTheEditorOpensAtTheRightPlace lets an editor of the test's own change the file and come back.
func TestTheEditorOpensAtTheRightPlace(t *testing.T) {
	x := newTrial(t, ferries)
	editor := filepath.Join(x.dir, "nano")
	if err := os.WriteFile(editor, []byte("#!/bin/sh\necho \"$@\" > "+x.dir+"/asked\nsed -i 's/^    members: 3/    members: 2/' \"$2\"\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	t.Setenv("EDITOR", editor)
	t.Setenv("VISUAL", "")
	s := newScreen(t, x, 150, 44, "open", x.file)
	s.has("the draft wants 9 members")
	s.press("/")
	s.has("Find")
	s.types("relays")
	s.press("Enter")
	s.has("▸relays")
	s.press("E")
	s.has("the draft wants 6 members")
	data, _ := os.ReadFile(x.file)
	line := 1 + strings.Count(string(data)[:strings.Index(string(data), "  relays:")], "\n")
	asked, _ := os.ReadFile(filepath.Join(x.dir, "asked"))
	if want := fmt.Sprintf("+%d %s\n", line, x.file); string(asked) != want && string(asked) != fmt.Sprintf("+%d %s\n", line+1, x.file) {
		t.Errorf("the editor was started with %q, want %q", asked, want)
	}
	s.press("q")
}
