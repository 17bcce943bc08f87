package cli

import (
	"fmt"
	"slices"

	"lanternfield/internal/control"
	"lanternfield/internal/core/journal"
)

// linked is an event with how the one after it follows from it.
type linked struct {
	control.Entry
	How string `json:"how,omitempty"` // it led to the one after it
}

// lookedBack is how many events back it is looked for what one follows from.
const lookedBack = 20_000

// causes prints an event, and before it what it follows from, back to where it began.
func (a *app) causes(folder control.Folder, seq uint64) error {
	var entries []control.Entry
	from := uint64(0)
	if seq > lookedBack {
		from = seq - lookedBack
	}
	if err := control.EachEntry(folder, control.Range{After: from, Before: seq + 1}, func(e control.Entry) error {
		entries = append(entries, e)
		return nil
	}); err != nil {
		return err
	}
	if n := len(entries); n == 0 || entries[n-1].Seq != seq {
		return fmt.Errorf("there is no event %d; `lanternfield journal --json` gives the numbers", seq)
	}
	slices.SortStableFunc(entries, func(x, y control.Entry) int { return x.At.Compare(y.At) })
	calls, of, err := control.Wiring(folder)
	if err != nil {
		return err
	}
	events := make([]journal.Event, len(entries))
	at := 0
	for i, e := range entries {
		events[i] = journal.Event{At: e.At, Kind: e.Kind, Member: e.Member, Role: e.Role, Node: e.Node}
		if m, known := of[e.Member]; known {
			events[i].Role, events[i].Node = m.Role, m.Node
		}
		if e.Seq == seq {
			at = i
		}
	}
	chain := []linked{{Entry: entries[at]}}
	for {
		i, how := journal.Cause(events[:at+1], at, calls)
		if i < 0 {
			break
		}
		chain, at = append(chain, linked{entries[i], how}), i
	}
	slices.Reverse(chain)
	if a.json {
		a.printJSON(chain)
		return nil
	}
	for i, x := range chain {
		printEntry(a.out, x.Entry)
		if i < len(chain)-1 {
			fmt.Fprintf(a.out, "%25s%s:\n", "", x.How)
		}
	}
	return nil
}
