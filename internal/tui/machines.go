package tui

import (
	"fmt"
	"slices"
	"sync/atomic"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/preflight"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/wording"
	"lanternfield/internal/ground/kind"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/sheet"
)

var nodesView = &view{name: "Nodes"}

func init() {
	nodesView.wide = true
	nodesView.key = func(k keyMap) key.Binding { return k.Nodes }
	nodesView.open = func(a *app) tea.Cmd {
		a.view = nodesView
		if a.machines.Matrix == nil && !a.machines.Busy {
			return a.lookAtMachines()
		}
		return nil
	}
	nodesView.press = func(a *app, is keyIs) tea.Cmd { return a.pressNodes(is) }
	nodesView.keys = func(a *app) []hint {
		hints := []hint{{a.arrows().all, "move"}, hintOf(a.keys.LookNow, "look now")}
		if a.machines.NewKeys() {
			hints = append(hints, hintOf(a.keys.BelieveKeys, "the keys of new hosts"))
		}
		if slices.ContainsFunc(a.snap.Nodes, func(n snapshot.NodeView) bool { return n.Awaited }) {
			hints = append(hints, hintOf(a.keys.Invite, "invite its machine"))
		}
		if m := a.machines.Matrix; m != nil && len(m.Mendable()) > 0 {
			hints = append(hints, hintOf(a.keys.MendThere, "mend what can be mended"))
		}
		if m := a.machines.Matrix; m != nil && !m.OK() {
			hints = append(hints, hintOf(a.keys.Dark, "to what fails"))
		}
		if n := len(a.machines.Marked); n > 0 {
			hints = append(hints, hintOf(a.keys.Change, fmt.Sprintf("change the %d that are marked", n)))
		} else {
			hints = append(hints, hintOf(a.keys.Change, "change it"), hintOf(a.keys.MarkNode, "mark"))
		}
		return append(hints, hintOf(a.keys.Board, "board"))
	}
	nodesView.draw = func(a *app, g *grid.Grid, f frame) {
		a.machines.Past = a.past != nil
		a.machines.Done, a.machines.Of = int(a.lookedAt.done.Load()), int(a.lookedAt.of.Load())
		a.machines.Draw(g, a.look, a.now, f.area)
	}
}

// firstLook looks at the hosts of a file that has just been made: whether they are ready is what comes next.
func (a *app) firstLook() tea.Cmd {
	if !a.fresh {
		return nil
	}
	a.fresh = false
	if !slices.ContainsFunc(a.draft.Nodes, func(n field.Node) bool { return kind.Machines(a.draft.GroundOf(&n)) }) {
		return nil
	}
	return nodesView.open(a)
}

// machinesMsg brings what was found of machines.
type machinesMsg struct {
	matrix *preflight.Matrix
	err    error
}

// lookedAt is how far the looking at machines has come.
type lookedAt struct{ done, of atomic.Int32 }

// lookAtMachines looks at all machines of the draft, beside the screen.
func (a *app) lookAtMachines() tea.Cmd {
	if a.inPast() || a.machines.Busy {
		return nil
	}
	if a.draft == nil {
		a.say(true, "There is no draft whose machines could be looked at: the field file cannot be read.")
		return nil
	}
	a.machines.Busy, a.machines.Why, a.machines.Waiting = true, "", nil
	for i := range a.draft.Nodes {
		n := &a.draft.Nodes[i]
		a.machines.Waiting = append(a.machines.Waiting, preflight.Node{Name: n.Name, Zone: n.Zone, Ground: a.draft.GroundOf(n), Address: a.draft.Given(n)})
	}
	a.lookedAt.done.Store(0)
	a.lookedAt.of.Store(int32(len(a.draft.Nodes)))
	folder, ctx, draft, at := a.folder, a.ctx, a.draft, &a.lookedAt
	return func() tea.Msg {
		m, err := folder.Preflight(ctx, draft, func(done, of int) {
			at.done.Store(int32(done))
			at.of.Store(int32(of))
		})
		return machinesMsg{m, err}
	}
}

// takeMachines takes in what was found.
func (a *app) takeMachines(msg machinesMsg) { a.machines.Take(msg.matrix, msg.err, time.Now()) }

// pressNodes takes the keys of the view of machines.
func (a *app) pressNodes(is keyIs) tea.Cmd {
	switch {
	case is(a.keys.Up):
		a.machines.Move(0, -1)
	case is(a.keys.Down):
		a.machines.Move(0, 1)
	case is(a.keys.Left):
		a.machines.Move(-1, 0)
	case is(a.keys.Right):
		a.machines.Move(1, 0)
	case is(a.keys.First):
		a.machines.Move(-1<<20, 0)
	case is(a.keys.Last):
		a.machines.Move(1<<20, 0)
	case is(a.keys.Dark):
		if !a.machines.ToFailing() {
			a.say(false, "Nothing fails on any of the machines.")
		}
	case is(a.keys.BelieveKeys):
		return a.askKeys()
	case is(a.keys.Invite):
		return a.invite()
	case is(a.keys.MendThere):
		return a.askToMend()
	case is(a.keys.MarkNode):
		a.markNode()
	case is(a.keys.Change):
		a.openNodes()
	case is(a.keys.Close) && len(a.machines.Marked) > 0:
		a.machines.Marked = nil
		a.say(false, "Nothing is marked any more.")
	case is(a.keys.LookNow):
		return a.lookAtMachines()
	case is(a.keys.Close):
		a.view = boardView
	}
	return nil
}

// markNode marks the machine that it stands on, or lets go of it.
func (a *app) markNode() {
	node := a.machines.Node
	if a.inPast() || node == "" {
		return
	}
	if a.machines.Marked == nil {
		a.machines.Marked = map[field.NodeName]bool{}
	}
	if a.machines.Marked[node] {
		delete(a.machines.Marked, node)
	} else {
		a.machines.Marked[node] = true
	}
	if n := len(a.machines.Marked); n == 0 {
		a.say(false, "Nothing is marked any more.")
	} else {
		a.say(false, fmt.Sprintf("%s marked: c changes all of them; esc unmarks them.", counted(n, "machine")))
	}
}

// openNodes opens what can be said of the machines that are marked, or of the one that it stands on.
func (a *app) openNodes() {
	if a.inPast() {
		return
	}
	if a.loaded == nil {
		a.say(true, "There is no draft that could be changed. "+a.trouble)
		return
	}
	var names []field.NodeName
	for i := range a.draft.Nodes {
		if n := a.draft.Nodes[i].Name; a.machines.Marked[n] || len(a.machines.Marked) == 0 && n == a.machines.Node {
			names = append(names, n)
		}
	}
	if len(names) == 0 {
		a.say(true, "Stand on a machine of the draft, or mark some with m.")
		return
	}
	title := "node " + string(names[0])
	if len(names) > 1 {
		title = counted(len(names), "node")
	}
	a.sheets = sheets{pages: []page{{title, func() []sheet.Row {
		var nodes []*field.Node
		for _, name := range names {
			if n := a.draft.Node(name); n != nil {
				nodes = append(nodes, n)
			}
		}
		if len(nodes) == 1 {
			return sheet.OfNode(a.draft, nodes[0], a.loaded.NodeEntry(nodes[0].Name))
		}
		return sheet.OfNodes(a.draft, nodes)
	}}}}
	a.mode = inSheet
}

// keysMsg brings the keys that hosts show and that nobody has confirmed.
type keysMsg struct {
	shown []control.ShownKey
	err   error
}

// askKeys has hosts show their keys, to be compared.
func (a *app) askKeys() tea.Cmd {
	if a.inPast() || a.draft == nil {
		return nil
	}
	if !a.machines.NewKeys() {
		a.say(false, "No host shows a key that nobody has confirmed.")
		return nil
	}
	folder, ctx, draft := a.folder, a.ctx, a.draft
	return func() tea.Msg {
		shown, _, err := folder.HostKeys(ctx, draft, nil)
		return keysMsg{shown, err}
	}
}

// takeKeys asks whether the keys that hosts show are theirs. A key that has changed is another matter, which is not decided by one key press.
func (a *app) takeKeys(msg keysMsg) {
	fresh := slices.DeleteFunc(msg.shown, func(k control.ShownKey) bool { return k.Changed })
	switch {
	case msg.err != nil:
		a.say(true, "Hosts cannot be asked for their keys: "+msg.err.Error()+".")
		return
	case len(fresh) == 0:
		a.say(false, "No host shows a key that nobody has confirmed.")
		return
	}
	q := &ask{title: fmt.Sprintf("Are these the keys of the %s?", wording.Plural(len(fresh), "host", fmt.Sprintf("%d hosts", len(fresh))))}
	for _, k := range fresh {
		q.text = append(q.text, fmt.Sprintf("%s %s %s %s", k.Node, k.Host, k.Key.Type, k.Key.Print))
	}
	q.text = append(q.text, "Compare them with what this says on each host:  ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub")
	q.do = func() tea.Cmd {
		if err := a.folder.Believe(fresh); err != nil {
			a.say(true, "The keys cannot be noted: "+err.Error()+".")
			return nil
		}
		a.say(false, "They are accepted.")
		return a.lookAtMachines()
	}
	a.ask, a.mode, a.scroll = q, inConfirm, 0
}
