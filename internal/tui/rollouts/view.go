// Package rollouts is the view of what is carried out, over time: a row a member in the order of deployment, its phases as segments that differ in
// shape and tone, gates as posts in the way, what is expected after now, and below why the chosen member waits, down to the root.
package rollouts

import (
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/snapshot"
)

// View stands on a member, or on a role.
type View struct {
	Record *rollout.Record        // as it was read last; nil before, and where there is none
	Other  *rollout.Record        // that it is compared with; nil where it is with none
	List   []snapshot.RolloutView // those that there were, oldest first
	Why    string                 // why none can be told
	Ahead  bool                   // it is not carried out yet: it is the draft's review

	Role   field.RoleName   // where it stands
	Member field.MemberName // of that role; empty on the role itself

	folds map[field.RoleName]bool // as a person wants it; else as there is room
	first int                     // the first line that is drawn
	rows  int                     // that there was room for
}

// line is a line of the picture: a role, or one of its members.
type line struct {
	role   field.RoleName
	row    *rollout.Row // nil: the role itself
	all    []*rollout.Row
	folded bool
}

// least is how many members a role may have that is never folded by itself.
const least = 3

// lines lists what there is to be drawn, folded as far as there is no room.
func (v *View) lines() []line {
	if v.Record == nil {
		return nil
	}
	var roles []line
	for i := range v.Record.Rows {
		row := &v.Record.Rows[i]
		if n := len(roles); n == 0 || roles[n-1].role != row.Role {
			roles = append(roles, line{role: row.Role})
		}
		last := &roles[len(roles)-1]
		last.all = append(last.all, row)
	}
	need := len(roles) + len(v.Record.Rows)
	for _, busy := range []bool{false, true} { // what is done, or has not begun, is folded first
		for i := range roles {
			if r := &roles[i]; need > v.rows && len(r.all) > least && !r.folded && moving(r.all) == busy {
				r.folded = true
				need -= len(r.all)
			}
		}
	}
	var out []line
	for _, r := range roles {
		if chosen, said := v.folds[r.role]; said {
			r.folded = chosen
		}
		out = append(out, r)
		if !r.folded {
			for _, row := range r.all {
				out = append(out, line{role: r.role, row: row})
			}
		}
	}
	return out
}

// moving tells whether anybody of a role is on the way.
func moving(rows []*rollout.Row) bool {
	return slices.ContainsFunc(rows, func(r *rollout.Row) bool { return r.Done.IsZero() && !r.Begun.IsZero() })
}

// place finds the line on which it stands; on the role where its member is folded away.
func (v *View) place(lines []line) int {
	role := 0
	for i, l := range lines {
		if l.role != v.Role {
			continue
		}
		if l.row == nil {
			role = i
		}
		if l.row != nil && l.row.Member == v.Member {
			return i
		}
	}
	return role
}

// Move goes up and down.
func (v *View) Move(by int) {
	lines := v.lines()
	if len(lines) == 0 {
		return
	}
	v.stand(lines[max(0, min(v.place(lines)+by, len(lines)-1))])
}

func (v *View) stand(l line) {
	v.Role, v.Member = l.role, ""
	if l.row != nil {
		v.Member = l.row.Member
	}
}

// Fold folds the role on which it stands, or opens it.
func (v *View) Fold() {
	for _, l := range v.lines() {
		if l.role == v.Role && l.row == nil {
			if v.folds == nil {
				v.folds = map[field.RoleName]bool{}
			}
			v.folds[l.role] = !l.folded
			if !l.folded {
				v.Member = ""
			}
			return
		}
	}
}

// Row is the row on which it stands; of a role, the one that is worst off, or done last.
func (v *View) Row() *rollout.Row {
	if v.Record == nil {
		return nil
	}
	if v.Member != "" {
		return v.Record.Row(v.Member)
	}
	var worst *rollout.Row
	for i := range v.Record.Rows {
		if row := &v.Record.Rows[i]; row.Role == v.Role && (worst == nil || later(row, worst)) {
			worst = row
		}
	}
	return worst
}

// later tells whether a row is more worth looking at than another.
func later(a, b *rollout.Row) bool {
	if rank(a) != rank(b) {
		return rank(a) > rank(b)
	}
	return a.Done.After(b.Done)
}

func rank(r *rollout.Row) int {
	switch {
	case !r.Done.IsZero():
		return 0
	case bad(r.Now().Phase):
		return 5
	case r.Pace != nil && r.Pace.Word == "stuck":
		return 4
	case r.Pace != nil && r.Pace.Word == "slow":
		return 3
	case !r.Begun.IsZero():
		return 2
	}
	return 1
}

// ToWaiting goes to the next member that is not done, those that are worst off first; false where all are.
func (v *View) ToWaiting() bool {
	if v.Record == nil {
		return false
	}
	var open []*rollout.Row
	for i := range v.Record.Rows {
		if row := &v.Record.Rows[i]; row.Done.IsZero() && row.Action != rollout.Flaps {
			open = append(open, row)
		}
	}
	slices.SortStableFunc(open, func(a, b *rollout.Row) int { return rank(b) - rank(a) })
	if len(open) == 0 {
		return false
	}
	at := slices.IndexFunc(open, func(r *rollout.Row) bool { return r.Member == v.Member })
	next := open[(at+1)%len(open)]
	if v.folds == nil {
		v.folds = map[field.RoleName]bool{}
	}
	v.folds[next.Role] = false
	v.Role, v.Member = next.Role, next.Member
	return true
}

// Step gives the rollout before, or after, the one that is shown; ok is false where there is none.
func (v *View) Step(by int) (number int, ok bool) {
	at := len(v.List)
	for i, r := range v.List {
		if v.Record != nil && v.Record.Number > 0 && r.Number == v.Record.Number {
			at = i
		}
	}
	if at+by < 0 || at+by >= len(v.List) {
		return 0, false
	}
	return v.List[at+by].Number, true
}

// Covering gives the number of the rollout that went on at a moment, or had ended last before it; 0 where there was none.
func (v *View) Covering(at time.Time) int {
	number := 0
	for _, r := range v.List {
		if !r.Began.After(at) {
			number = r.Number
		}
	}
	return number
}

// Anew forgets how roles were folded: another rollout is shown.
func (v *View) Anew() { v.folds, v.first = nil, 0 }
