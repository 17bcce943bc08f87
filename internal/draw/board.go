package draw

import (
	"fmt"
	"image/color"
	"slices"
	"strings"

	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"

	"lanternfield/internal/core/field"
)

// Theme is a set of colours.
type Theme struct {
	Page, Ink, Dim, Rule, Ground          color.RGBA
	Lit, Leads, Warm, Planned, Dark       color.RGBA
	LitGlow, WarmGlow, PlanGlow, DarkGlow color.RGBA
}

func rgb(c uint32) color.RGBA {
	return color.RGBA{uint8(c >> 16), uint8(c >> 8), uint8(c), 255}
}

// Light is for paper, Night for screens.
var (
	Light = Theme{Page: rgb(0xffffff), Ink: rgb(0x2b2a33), Dim: rgb(0x6f6c78), Rule: rgb(0xc3bcab), Ground: rgb(0xb9c4a8),
		Lit: rgb(0xb36b00), Leads: rgb(0x7a5200), Warm: rgb(0x9c6420), Planned: rgb(0x56618a), Dark: rgb(0xb3261e),
		LitGlow: rgb(0xffdc9c), WarmGlow: rgb(0xf3dfc0), PlanGlow: rgb(0xf2f3f8), DarkGlow: rgb(0xf8cfca)}
	Night = Theme{Page: rgb(0x0d1020), Ink: rgb(0xd9d3c3), Dim: rgb(0x8a90a6), Rule: rgb(0x343b57), Ground: rgb(0x2a3a38),
		Lit: rgb(0xffb347), Leads: rgb(0xffe08a), Warm: rgb(0xc9853a), Planned: rgb(0x7a86a8), Dark: rgb(0xff6b5e),
		LitGlow: rgb(0x4a3413), WarmGlow: rgb(0x33240f), PlanGlow: rgb(0x1a2038), DarkGlow: rgb(0x4a1719)}
)

// Measures of the board, in points.
const (
	edge    = 36.0
	margin  = 120.0 // for the names of roles
	column  = 66.0
	zoneGap = 14.0
	head    = 96.0
	lamp    = 16.0
	below   = 86.0 // ground, legend and verdict
)

// mostColumns is how many posts stand beside each other; more go on below, so that a page is not wider than a page.
const mostColumns = 20

// Board draws nodes as posts by zone, roles as rows and members as lanterns, as the snapshot has them.
func Board(snap *snapshot.Snapshot, t Theme) *Drawing {
	b := &boardDrawing{Drawing: &Drawing{Page: t.Page, W: 480}, t: t, snap: snap, at: map[field.NodeName]float64{}}
	b.text(edge, edge+14, 16, snap.Field, t.Ink, true)
	b.text(edge, edge+30, 9, fmt.Sprintf("%s, %s", snap.State, snap.At.Local().Format("2 January 2006, 15:04:05")), t.Dim, false)
	bands := bandsOf(snap.Nodes)
	top, bottom := edge, 0.0
	for i, nodes := range bands {
		bottom = b.band(nodes, i, len(bands), top)
		top = bottom - 24
	}
	b.H = bottom + below
	b.legend(bottom + 30)
	return b.Drawing
}

// bandsOf puts the nodes of each zone together and divides them into rows of posts. A zone begins a row of its own where
// it would not fit into what is left.
func bandsOf(all []snapshot.NodeView) [][]snapshot.NodeView {
	nodes := slices.Clone(all)
	order, size := map[field.ZoneName]int{}, map[field.ZoneName]int{}
	for _, n := range nodes {
		if size[n.Zone]++; size[n.Zone] == 1 {
			order[n.Zone] = len(order)
		}
	}
	slices.SortStableFunc(nodes, func(a, b snapshot.NodeView) int { return order[a.Zone] - order[b.Zone] })
	bands := [][]snapshot.NodeView{nil}
	for i, n := range nodes {
		last := &bands[len(bands)-1]
		begins := i == 0 || nodes[i-1].Zone != n.Zone
		if len(*last) == mostColumns || begins && len(*last) > 0 && len(*last)+size[n.Zone] > mostColumns {
			bands = append(bands, nil)
			last = &bands[len(bands)-1]
		}
		*last = append(*last, n)
	}
	return bands
}

// band draws a row of posts with the roles that have somebody there, all of them where it is the only row, and gives where
// it ends.
func (b *boardDrawing) band(nodes []snapshot.NodeView, band, bands int, top float64) (bottom float64) {
	x := edge + margin
	var zones []Shape
	for i, n := range nodes {
		if i == 0 || n.Zone != nodes[i-1].Zone {
			if i > 0 {
				x += zoneGap
			}
			zones = append(zones, Shape{X: x, Label: string(n.Zone)})
		}
		b.at[n.Node] = x + column/2
		x += column
		zones[len(zones)-1].W = x - zones[len(zones)-1].X
	}
	b.W = max(b.W, x+edge)
	y := top + head
	var roles []snapshot.RoleView
	rows := map[field.RoleName]float64{}
	for _, r := range b.snap.Roles {
		height, anybody := b.rowHeight(r.Role, nodes)
		if !anybody && bands > 1 && (band < bands-1 || b.stands(r.Role)) {
			continue // it stands in another row, or, having nobody, in the last
		}
		rows[r.Role] = y
		roles = append(roles, r)
		y += height
	}
	b.titles(zones, nodes, top, y)
	for _, r := range roles {
		b.role(r, nodes, rows[r.Role])
	}
	return y
}

// stands tells whether a role has anybody anywhere.
func (b *boardDrawing) stands(role field.RoleName) bool {
	return slices.ContainsFunc(b.snap.Members, func(m snapshot.MemberView) bool { return m.Role == role })
}

type boardDrawing struct {
	*Drawing
	t    Theme
	snap *snapshot.Snapshot
	at   map[field.NodeName]float64 // the middle of each post
}

func (b *boardDrawing) text(x, y, size float64, s string, c color.RGBA, bold bool) {
	b.add(Shape{Kind: Text, X: x, Y: y, Text: s, Size: size, Fill: c, Bold: bold})
}

// titles names the zones and nodes of a row of posts and draws the posts down to the ground.
func (b *boardDrawing) titles(zones []Shape, nodes []snapshot.NodeView, top, bottom float64) {
	for _, z := range zones {
		name := z.Label
		if name == "" {
			name = "no zone"
		}
		b.text(z.X+4, top+58, 10, name, b.t.Ink, true)
		b.add(Shape{Kind: Line, X: z.X + 2, Y: edge + 64, W: z.W - 4, Edge: b.t.Rule, Width: 0.7})
		b.add(Shape{Kind: Box, X: z.X, Y: bottom, W: z.W, H: 5, Fill: b.t.Ground, Label: "ground of " + name})
	}
	for _, n := range nodes {
		x := b.at[n.Node]
		c := b.t.Dim
		if n.Unreachable {
			c = b.t.Dark
		}
		b.centred(x, top+78, 8, string(n.Node), c)
		b.add(Shape{Kind: Line, X: x, Y: top + head - 10, H: bottom - top - head + 10, Edge: b.t.Rule, Width: 0.7})
	}
}

// centred writes a text around a middle; its width is estimated, which is enough for names.
func (b *boardDrawing) centred(x, y, size float64, s string, c color.RGBA) {
	b.text(x-float64(len(s))*size*0.26, y, size, s, c, false)
}

// here lists the members of a role on each node.
func (b *boardDrawing) here(role field.RoleName) map[field.NodeName][]snapshot.MemberView {
	out := map[field.NodeName][]snapshot.MemberView{}
	for _, m := range b.snap.Members {
		if m.Role == role {
			out[m.Node] = append(out[m.Node], m)
		}
	}
	return out
}

// rowHeight is the height of a role's row, and whether anybody stands in it: members of one node stand below each other.
func (b *boardDrawing) rowHeight(role field.RoleName, nodes []snapshot.NodeView) (height float64, anybody bool) {
	most, here := 0, b.here(role)
	for _, n := range nodes {
		most = max(most, len(here[n.Node]))
	}
	return float64(max(most, 1))*(lamp+16) + 14, most > 0
}

func (b *boardDrawing) role(r snapshot.RoleView, nodes []snapshot.NodeView, y float64) {
	b.text(edge, y+12, 11, string(r.Role), b.t.Ink, true)
	b.add(Shape{Kind: Text, X: edge + margin - 24, Y: y + 12, Text: fmt.Sprintf("%d/%d", r.Ready, r.Want), Size: 11, Fill: b.t.Lit, Bold: true, Right: true})
	about := string(r.Kind)
	if r.Votes && r.Voters > 0 && r.Worked {
		about += fmt.Sprintf(", survives %d", max(r.Survives, 0))
		if r.Survives < 0 {
			about = string(r.Kind) + ", no quorum"
		}
	}
	b.text(edge, y+24, 8, about, b.t.Dim, false)
	here := b.here(r.Role)
	for _, n := range nodes {
		for i, m := range here[n.Node] {
			b.lantern(b.at[n.Node], y+float64(i)*(lamp+16), m)
		}
	}
}

// lantern draws a member: state is told by shape as well as by colour.
func (b *boardDrawing) lantern(x, y float64, m snapshot.MemberView) {
	body := Shape{Kind: Box, X: x - lamp/2, Y: y, W: lamp, H: lamp, Label: string(m.Member), Fill: b.t.LitGlow, Edge: b.t.Lit, Width: 0.8}
	c := b.t.Lit
	switch m.Phase {
	case state.Ready:
		if m.Leads {
			body.Edge, body.Width = b.t.Leads, 2
		}
	case state.Placing, state.Starting, state.Joining, state.Draining, state.Stopping:
		body.Fill, body.Edge, c = b.t.WarmGlow, b.t.Warm, b.t.Warm
	case state.Failed, state.Unready, state.Unknown:
		body.Fill, body.Edge, c = b.t.DarkGlow, b.t.Dark, b.t.Dark
	default:
		body.Fill, body.Edge, body.Dashed, c = b.t.PlanGlow, b.t.Planned, true, b.t.Planned
	}
	b.add(body)
	mid := y + lamp/2
	switch m.Phase {
	case state.Ready:
		b.add(Shape{Kind: Disc, X: x, Y: mid, W: 7, Fill: c})
		if m.Leads {
			b.add(Shape{Kind: Disc, X: x, Y: mid, W: 11, Edge: b.t.Leads, Width: 1})
		}
	case state.Failed, state.Unready:
		b.add(Shape{Kind: Line, X: x - 3.5, Y: mid - 3.5, W: 7, H: 7, Edge: c, Width: 1.6})
		b.add(Shape{Kind: Line, X: x - 3.5, Y: mid + 3.5, W: 7, H: -7, Edge: c, Width: 1.6})
	case state.Unknown:
		b.centred(x, mid+3.5, 10, "?", c)
	case state.Placing, state.Starting, state.Joining, state.Draining, state.Stopping:
		b.add(Shape{Kind: Disc, X: x, Y: mid, W: 7, Edge: c, Width: 1.6})
		b.add(Shape{Kind: Disc, X: x, Y: mid, W: 3, Fill: c})
	default:
		b.add(Shape{Kind: Disc, X: x, Y: mid, W: 7, Edge: c, Width: 1})
	}
	b.centred(x, y+lamp+8, 7, string(m.Member), b.t.Dim)
}

// legend says what the shapes mean, and ends with the verdict.
func (b *boardDrawing) legend(y float64) {
	x := edge
	for _, e := range []struct {
		phase state.Phase
		leads bool
		word  string
	}{{state.Ready, false, "lit"}, {state.Ready, true, "leads"}, {state.Starting, false, "warming"}, {state.Failed, false, "dark"},
		{state.Unknown, false, "unknown"}, {state.Planned, false, "planned"}} {
		b.lantern(x+lamp/2, y-lamp/2, snapshot.MemberView{Phase: e.phase, Leads: e.leads})
		b.text(x+lamp+5, y+3, 8, e.word, b.t.Dim, false)
		x += 68
	}
	line, at := "", y+26
	for _, word := range strings.Fields(b.snap.Verdict) {
		if float64(len(line)+len(word))*4.6 > b.W-2*edge {
			b.text(edge, at, 9, line, b.t.Ink, false)
			line, at = "", at+12
		}
		line = strings.TrimSpace(line + " " + word)
	}
	b.text(edge, at, 9, line, b.t.Ink, false)
	b.H = max(b.H, at+edge/2)
}
