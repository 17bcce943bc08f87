// Package nodes is the view of machines: what was found on them, and the checks as lights on their posts, with the reason and the remedy for each that
// fails.
package nodes

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/preflight"
	"lanternfield/internal/core/wording"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/theme"
)

// View stands on a check of a node.
type View struct {
	Node    field.NodeName
	Check   preflight.Check
	Waiting []preflight.Node  // of the draft, of which nothing is known yet
	Matrix  *preflight.Matrix // as it was looked last; nil before
	At      time.Time         // when that was
	Why     string            // why it could not be looked
	Busy    bool              // it is being looked
	Done    int               // how many nodes have been looked at meanwhile
	Of      int
	Marked  map[field.NodeName]bool
	Past    bool // the screen shows the past, of which nothing is known here

	first int // the first node that is drawn
}

// checks are those that are wanted of any node; all while nothing is known.
func (v *View) checks() []preflight.Check {
	if v.Matrix == nil {
		return preflight.Checks
	}
	return slices.DeleteFunc(slices.Clone(preflight.Checks), func(c preflight.Check) bool {
		return !slices.ContainsFunc(v.Matrix.Nodes, func(n preflight.Node) bool { return n.Cells[c].Verdict != preflight.None })
	})
}

// nodes are the machines in their order on the screen, zone by zone: those that were looked at, or else those of the draft.
func (v *View) nodes() []preflight.Node {
	if v.Matrix == nil {
		return preflight.ByZone(v.Waiting)
	}
	return preflight.ByZone(v.Matrix.Nodes)
}

// place finds where it stands; on the first where that is not there any more.
func (v *View) place() (node, check int) {
	if v.Matrix == nil {
		return 0, 0
	}
	node = max(0, slices.IndexFunc(v.nodes(), func(n preflight.Node) bool { return n.Name == v.Node }))
	return node, max(0, slices.Index(v.checks(), v.Check))
}

// Move goes to another check, or to another node.
func (v *View) Move(nodes, checks int) {
	if v.Matrix == nil || len(v.Matrix.Nodes) == 0 {
		return
	}
	all, rows := v.nodes(), v.checks()
	node, check := v.place()
	v.Node = all[max(0, min(node+nodes, len(all)-1))].Name
	if len(rows) > 0 {
		v.Check = rows[max(0, min(check+checks, len(rows)-1))]
	}
}

// ToFailing goes to the next node of which something fails, and to the first that does.
func (v *View) ToFailing() bool {
	if v.Matrix == nil {
		return false
	}
	all := v.nodes()
	at, _ := v.place()
	for i := range all {
		n := all[(at+1+i)%len(all)]
		if c, cell := n.Worst(); cell.Verdict != preflight.Good {
			v.Node, v.Check = n.Name, c
			return true
		}
	}
	return false
}

// NewKeys tells whether the key of any host does not pass.
func (v *View) NewKeys() bool {
	return v.Matrix != nil && slices.ContainsFunc(v.Matrix.Nodes, func(n preflight.Node) bool { return n.Cells[preflight.HostKey].Verdict == preflight.Bad })
}

// Take takes in what was looked.
func (v *View) Take(m *preflight.Matrix, err error, now time.Time) {
	v.Busy, v.Done, v.Why = false, 0, ""
	if err != nil {
		v.Why = err.Error()
		return
	}
	fresh := v.Matrix == nil
	v.Matrix, v.At = m, now
	if fresh {
		v.Move(0, 0)
		if all := v.nodes(); len(all) > 0 { // what fails comes first
			v.Node = all[len(all)-1].Name
			if !v.ToFailing() {
				v.Node = all[0].Name
			}
		}
	}
}

// light is how a check is drawn: as the lanterns of the board.
func light(k theme.Theme, verdict preflight.Verdict) (rune, grid.Style) {
	switch verdict {
	case preflight.Good:
		return k.Or('●', '*'), k.In(k.Lit)
	case preflight.Bad:
		return k.Or('✖', 'x'), k.In(k.Fail).Strong()
	case preflight.Open:
		return '?', k.In(k.Fail)
	case "":
		return k.Or('○', '.'), k.In(k.Plan)
	}
	return k.Or('·', '-'), k.In(k.Faint)
}

// headWidth is the width of the names of the checks.
const headWidth = 12

// Draw draws the view into an area.
func (v *View) Draw(g *grid.Grid, k theme.Theme, now time.Time, a board.Area) {
	a.X, a.Y, a.W, a.H = a.X+1, a.Y+1, a.W-2, a.H-1
	g.Clip(a.X, a.Y, a.W, "machines", k.Quiet())
	g.Clip(a.X+headWidth, a.Y, a.W-headWidth, v.state(now, a.W-headWidth), v.stateStyle(k))
	y := a.Y + 2
	if text := v.instead(); text != "" {
		for _, line := range grid.Wrap(text, min(a.W, 96)) {
			g.Clip(a.X, y, a.W, line, k.Text())
			y++
		}
		return
	}
	right, y := v.drawMatrix(g, k, board.Area{X: a.X, Y: y, W: a.W, H: a.Y + a.H - y})
	if a.X+a.W-right > sideWidth {
		v.drawNode(g, k, board.Area{X: right, Y: a.Y + 2, W: a.X + a.W - right, H: a.H - 4})
	} else {
		v.drawNode(g, k, board.Area{X: a.X, Y: y, W: a.W, H: a.Y + a.H - y})
	}
	if a.H >= roomy {
		g.Clip(a.X, a.Y+a.H-1, a.W, "Another machine: A on the board adds nodes; ground: {kind: ssh} makes them hosts of yours, {kind: join} machines that you invite.", k.Quiet())
	}
}

// roomy is from how many lines on there is room for a hint at the bottom.
const roomy = 20

// sideWidth is how wide the side has to be for what was found of a node to stand beside the posts, and not below them.
const sideWidth = 64

// instead says what there is to say where nothing is known.
func (v *View) instead() string {
	switch {
	case v.Past:
		return "What machines were like at that moment is not kept. n returns to now."
	case v.Matrix == nil && !v.Busy:
		return "Nothing has been looked at yet. enter looks at all machines of the draft: whether they can be reached, and have what members need there. Nothing is changed."
	}
	return ""
}

// state says when it was looked, and what came of it, as far as there is room.
func (v *View) state(now time.Time, width int) string {
	parts := v.states(now)
	for len(parts) > 1 && grid.Width(strings.Join(parts, " · ")) > width {
		parts = parts[:len(parts)-1]
	}
	return strings.Join(parts, " · ")
}

func (v *View) states(now time.Time) []string {
	var parts []string
	switch {
	case v.Past:
		return nil
	case v.Busy && v.Of > 0:
		parts = append(parts, fmt.Sprintf("looking: %d of %s", v.Done, wording.Counted(v.Of, "node")))
	case v.Busy:
		parts = append(parts, "looking")
	}
	switch {
	case v.Busy:
		parts = append(parts, "nothing is changed there, and nothing is left")
	case v.Why != "":
		parts = append(parts, "could not be looked at: "+v.Why)
	}
	if m := v.Matrix; m != nil && v.Why == "" {
		parts = append(parts, m.Outcome())
		if m.Paths > 0 {
			parts = append(parts, wording.Counted(m.Paths, "path")+" tried")
		}
		parts = append(parts, "looked at "+ago(now.Sub(v.At)))
	}
	return parts
}

func ago(d time.Duration) string {
	switch {
	case d < 2*time.Second:
		return "just now"
	case d < 2*time.Minute:
		return fmt.Sprintf("%d s ago", int(d.Seconds()))
	}
	return fmt.Sprintf("%d min ago", int(d.Minutes()))
}

func (v *View) stateStyle(k theme.Theme) grid.Style {
	switch {
	case v.Busy:
		return k.In(k.Warm)
	case v.Why != "" || v.Matrix != nil && !v.Matrix.OK():
		return k.In(k.Fail)
	}
	return k.In(k.Lit)
}

// rows are the checks that are drawn: all, or, where there is no room for them, those that fail somewhere and the one that it stands on.
func (v *View) rows(room int) (rows []preflight.Check, left int) {
	all := v.checks()
	if len(all) <= room {
		return all, 0
	}
	for _, c := range all {
		fails := slices.ContainsFunc(v.nodes(), func(n preflight.Node) bool {
			return n.Cells[c].Verdict == preflight.Bad || n.Cells[c].Verdict == preflight.Open
		})
		if fails || c == v.Check {
			rows = append(rows, c)
		}
	}
	left = len(all) - len(rows)
	most := max(1, room-1)
	from := max(0, min(slices.Index(rows, v.Check)-most/2, len(rows)-most))
	return rows[from:min(len(rows), from+most)], left
}

// least is how many lines are kept for what is said of a node, where that stands below the posts.
const least = 4

// drawMatrix draws the nodes as posts, zone by zone, with the checks as lights on them. It gives the column on the right, and the line below.
func (v *View) drawMatrix(g *grid.Grid, k theme.Theme, a board.Area) (right, below int) {
	all := v.nodes()
	node, _ := v.place()
	wide := 6
	for _, n := range all {
		wide = max(wide, len(n.Name)+2)
	}
	room := a.H - 4
	if headWidth+len(all)*wide+sideWidth > a.W {
		room -= least
	}
	checks, left := v.rows(room)
	fit := max(1, (a.W-headWidth)/wide)
	v.first = max(0, min(v.first, len(all)-fit))
	v.first = min(max(v.first, node-fit+1), node)
	shown := all[v.first:min(v.first+fit, len(all))]
	ground := a.Y + 2 + len(checks)
	zone := field.ZoneName("\x00")
	for i, n := range shown {
		x := a.X + headWidth + i*wide
		if n.Zone != zone {
			zone = n.Zone
			width := wide
			for j := i + 1; j < len(shown) && shown[j].Zone == zone; j++ {
				width += wide
			}
			g.Clip(x, a.Y, width-1, string(zone), k.Quiet())
			g.Fill(x, ground, width-2, 1, k.Or('▀', '='), k.In(k.Ground))
		}
		style := k.Text()
		if _, cell := n.Worst(); cell.Verdict == preflight.Bad {
			style = k.In(k.Fail)
		}
		if v.first+i == node {
			g.Fill(x-1, a.Y+1, wide, len(checks)+1, ' ', grid.Style{Fg: k.Paper, Bg: k.Raise})
			style = style.Strong()
		}
		if v.Marked[n.Name] {
			g.Set(x-1, a.Y+1, k.Or('▐', '#'), k.In(k.Act))
			style = k.In(k.Act).Strong()
		}
		g.Clip(x, a.Y+1, wide-1, string(n.Name), style)
		for r, c := range checks {
			shape, style := light(k, n.Cells[c].Verdict)
			g.Set(x+(len(n.Name)-1)/2, a.Y+2+r, shape, style)
		}
	}
	for r, c := range checks {
		style := k.Quiet()
		if c == v.Check {
			style = k.In(k.Act).Strong()
		}
		g.Clip(a.X, a.Y+2+r, headWidth-1, string(c), style)
	}
	if before, after := v.first, len(all)-v.first-len(shown); before+after > 0 {
		g.Clip(a.X, a.Y+1, headWidth-1, fmt.Sprintf("%d+%d more", before, after), k.In(k.Faint))
	}
	if left > 0 {
		ground++
		g.Clip(a.X, ground, a.W, fmt.Sprintf("%d more %s everywhere", left, wording.Plural(left, "check holds", "checks hold")), k.Quiet())
	}
	return a.X + headWidth + len(shown)*wide + 2, ground + 1
}

// drawNode draws what was found of the node under the cursor, and what fails of it.
func (v *View) drawNode(g *grid.Grid, k theme.Theme, a board.Area) {
	all := v.nodes()
	at, _ := v.place()
	if len(all) == 0 {
		return
	}
	n, y := all[at], a.Y
	row := func(head, text string, headStyle, style grid.Style) {
		for i, part := range grid.Wrap(text, max(20, a.W-headWidth)) {
			if i == 0 && y < a.Y+a.H {
				g.Clip(a.X, y, headWidth-1, head, headStyle)
			}
			if y < a.Y+a.H {
				g.Clip(a.X+headWidth, y, a.W-headWidth, part, style)
			}
			y++
		}
	}
	where := []string{map[string]string{"local": "on this machine", "ssh": "a host reached by SSH", "join": "a machine that joins by invitation"}[n.Ground]}
	if n.Address != "" {
		where = append(where, "at "+n.Address)
	}
	row(string(n.Name), strings.Join(where, " · "), k.Text().Strong(), k.Text())
	for _, p := range n.Cells[v.Check].Problems { // the one that it stands on
		row(string(v.Check), p.Why, k.In(k.Fail).Strong(), k.In(k.Fail))
		if p.Do != "" {
			row("mend it", p.Do, k.Quiet(), k.In(k.Act))
		}
	}
	if n.Cells[v.Check].Verdict == preflight.Open {
		why := "it could not be looked at, because of what fails before it"
		if _, worst := n.Worst(); worst.Verdict == preflight.Open {
			why = "some of it could not be looked at: it leads to machines that could not be asked"
		}
		row(string(v.Check), why, k.In(k.Fail).Strong(), k.In(k.Fail))
	}
	for _, c := range preflight.Checks {
		for _, p := range n.Cells[c].Problems {
			if c != v.Check {
				row(string(c), p.Why, k.Quiet(), k.In(k.Fail))
			}
		}
	}
	if m := n.Found; m != nil {
		what := fmt.Sprintf("%s · kernel %s · %s", m.System, m.Kernel, m.Arch)
		if m.Virtual != "" {
			what += " · a guest of " + m.Virtual
		}
		row("system", what, k.Quiet(), k.Text())
		row("offers", fmt.Sprintf("%s · %s of memory, %s of it available · %s of disk, %s of it free", wording.Counted(m.CPUs, "core"), m.Memory, m.Free, m.Disk, m.DiskFree), k.Quiet(), k.Text())
		row("addresses", strings.Join(m.Addresses, ", "), k.Quiet(), k.Text())
		var listens []string
		for _, s := range m.Listens {
			listens = append(listens, strings.TrimSpace(fmt.Sprintf("%d %s", s.Port, s.Program)))
		}
		if n.Ground != "local" {
			slices.Sort(listens)
			row("listening", strings.Join(slices.Compact(listens), ", "), k.Quiet(), k.Quiet())
		}
	}
}
