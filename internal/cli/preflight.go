package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"lanternfield/internal/control"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/preflight"
	"lanternfield/internal/core/wording"
)

// checkNodes looks at the machines of a draft.
func (a *app) checkNodes(ctx context.Context, folder control.Folder, f draft) error {
	if found := finding.Whole(f.Field); finding.HasErrors(found) {
		a.printFindings(f, found)
		return errBadAnswer
	}
	m, err := folder.Preflight(ctx, f.Field, a.lookedAt)
	a.progressEnds()
	if err != nil {
		return err
	}
	if a.json {
		a.printJSON(map[string]any{"field": f.Field.Name, "ok": m.OK(), "nodes": m.Nodes, "paths": m.Paths, "took_ms": m.Took.Milliseconds()})
	} else {
		a.printMatrix(m)
	}
	if !m.OK() {
		return errBadAnswer
	}
	return nil
}

// lookedAt shows how many nodes have been looked at, where somebody sees it.
func (a *app) lookedAt(done, of int) {
	if a.errScreen == nil || !isTerminal(a.errScreen) || a.json {
		return
	}
	a.showing = true
	fmt.Fprintf(a.errScreen, "\rlooking at the nodes: %d of %d", done, of)
}

// cellMarks are how a check of a node is shown.
var cellMarks = map[preflight.Verdict]string{preflight.Good: "ok", preflight.Bad: "FAILS", preflight.Open: "?", preflight.None: "-"}

// printMatrix prints the checks against the nodes, then each that fails.
func (a *app) printMatrix(m *preflight.Matrix) {
	var checks []preflight.Check
	for _, c := range preflight.Checks { // what nobody wants of any node is left out
		for _, n := range m.Nodes {
			if n.Cells[c].Verdict != preflight.None {
				checks = append(checks, c)
				break
			}
		}
	}
	widest := 4
	for _, n := range m.Nodes {
		widest = max(widest, len(n.Name))
	}
	fmt.Fprintf(a.out, "%-*s", widest, "node")
	for _, c := range checks {
		fmt.Fprintf(a.out, "  %s", c)
	}
	fmt.Fprintln(a.out)
	for _, n := range m.Nodes {
		fmt.Fprintf(a.out, "%-*s", widest, n.Name)
		for _, c := range checks {
			fmt.Fprintf(a.out, "  %-*s", len(c), cellMarks[n.Cells[c].Verdict])
		}
		fmt.Fprintln(a.out)
	}
	failures := m.Failures()
	if len(failures) > 0 {
		fmt.Fprintln(a.out)
	}
	for _, x := range failures {
		fmt.Fprintf(a.out, "%s, %s: %s\n", x.Node, x.Check, x.Why)
		if x.Do != "" {
			fmt.Fprintf(a.out, "%s  to mend it: %s\n", strings.Repeat(" ", 2), x.Do)
		}
	}
	fmt.Fprintf(a.out, "\n%s, %s between them tried, looked at in %.1f s: %s\n", wording.Counted(len(m.Nodes), "node"), wording.Counted(m.Paths, "path"), m.Took.Round(100*time.Millisecond).Seconds(), m.Outcome())
}
