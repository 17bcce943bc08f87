// Package house holds the house to its plan: which room may use which (docs/architecture.md).
package house

import (
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// rule says what the packages with that prefix must not reach, directly or through others.
type rule struct {
	of    string
	never []string
	why   string
}

const module = "lanternfield/internal/"

var rules = []rule{
	{"core/", []string{"os", "os/exec", "net/http", "database/sql", "charm.land/bubbletea/v2", module + "control", module + "agent", module + "ground", module + "fieldfile", module + "tui"},
		"the computation has no files, no network and no interface"},
	{"core/state", []string{module + "core/engine", module + "core/snapshot", module + "core/review"}, "what is so comes before what is decided and shown"},
	{"core/snapshot", []string{module + "core/engine", module + "core/guard", module + "core/review"}, "what is shown decides nothing"},
	{"core/engine", []string{module + "core/snapshot"}, "nothing is decided by what is shown"},
	{"agent", []string{"charm.land/bubbletea/v2", "modernc.org/sqlite", "gonum.org/v1/plot", "github.com/goccy/go-yaml", "github.com/spf13/cobra", module + "core/state", module + "core/engine", module + "core/place",
		module + "core/plan", module + "control", module + "ground", module + "fieldfile"}, "an agent is a program of its own: no screen, no database, no plotting, no solver"},
	{"agent", []string{"go.etcd.io/etcd/client/v3"}, "guards alone talk to an etcd"},
	{"agent/service", []string{"golang.org/x/crypto/ssh", module + "carried"}, "what runs on a host is brought there, and brings nobody"},
	{"secureshell", []string{module + "agent", module + "control", module + "ground", module + "core/state"}, "a host is reached without knowing any field's state"},
	{"joining", []string{module + "agent", module + "control"}, "what passes between a machine that joins and the keeper belongs to neither"},
	{"leaseguard", []string{"charm.land/bubbletea/v2", "modernc.org/sqlite", module + "agent", module + "control", module + "core/state", module + "core/engine", module + "fieldfile"},
		"a guard stays small, and goes on while everything else is dead"},
	{"agentapi", []string{module + "agent", module + "control", module + "core/state"}, "what passes between controller and agents belongs to neither"},
	{"host", []string{module + "agent", module + "control", module + "core/state"}, "what is ours of a machine is found without knowing any field"},
	{"control", []string{module + "agent", module + "tui", module + "cli", module + "fieldfile", "charm.land/bubbletea/v2"}, "a controller knows agents by what passes between them"},
	{"ground", []string{module + "agent", module + "control", module + "core/engine"}, "a ground brings nodes, and decides nothing about fields"},
	{"tui", []string{module + "agent", module + "cli"}, "screens act and look through a session"},
}

func TestTheHouseIsAsPlanned(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports ","}} {{join .Deps ","}}`, module+"...").Output()
	if err != nil {
		t.Fatal(err)
	}
	used := map[string]int{}
	for line := range strings.Lines(string(out)) {
		f := strings.SplitN(strings.TrimSpace(line), " ", 3)
		if len(f) < 3 {
			continue
		}
		name := strings.TrimPrefix(f[0], module)
		direct, all := strings.Split(f[1], ","), strings.Split(f[2], ",")
		for _, r := range rules {
			if name != r.of && !strings.HasPrefix(name, strings.TrimSuffix(r.of, "/")+"/") {
				continue
			}
			used[r.of]++
			for _, never := range r.never {
				// What comes with the standard library and with packages of others is theirs; of what we write, no import will do.
				reached := all
				if !strings.Contains(never, ".") && !strings.HasPrefix(never, module) {
					reached = direct
				}
				if slices.Contains(reached, never) {
					t.Errorf("%s reaches %s: %s", name, never, r.why)
				}
			}
		}
	}
	for _, r := range rules {
		if used[r.of] == 0 {
			t.Errorf("the rule for %s is about no package", r.of)
		}
	}
}
