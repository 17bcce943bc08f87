// Package access is the view of how clients get in: the ways in with forms that are ready to be used, the certificates of members, and whether the roles
// were proved to do their work.
package access

import (
	"time"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/theme"
)

// View stands on a way in, on a certificate, on a secret, or on a proof.
type View struct {
	At     int
	Ways   []control.Access     // as they were asked for last; none in the past
	Trust  *snapshot.Trust      // likewise; nil where it is not known
	Sealed *control.SealedError // why no more is known than what was asked for before; nil where the keyring is open
	Shown  bool                 // secrets are shown
	Draft  *field.Field         // what is to be, while nothing runs; nil else
}

// things are what can be stood on, in their order on the screen.
func (v *View) certificates() []snapshot.Certificate {
	if v.Trust == nil {
		return nil
	}
	return v.Trust.Certificates
}

func (v *View) secrets() []snapshot.Secret {
	if v.Trust == nil {
		return nil
	}
	return v.Trust.Secrets
}

// beforeProofs counts what can be stood on above the proofs.
func (v *View) beforeProofs() int { return len(v.Ways) + len(v.certificates()) + len(v.secrets()) }

func (v *View) count(s *snapshot.Snapshot) int { return v.beforeProofs() + len(s.Proofs) }

// Move goes to another thing.
func (v *View) Move(s *snapshot.Snapshot, by int) { v.At = max(0, min(v.At+by, v.count(s)-1)) }

// Way is the way in that it stands on; nil where it stands on something else.
func (v *View) Way() *control.Access {
	if v.At >= len(v.Ways) {
		return nil
	}
	return &v.Ways[v.At]
}

// Certificate is the certificate that it stands on.
func (v *View) Certificate() *snapshot.Certificate {
	if i := v.At - len(v.Ways); i >= 0 && i < len(v.certificates()) {
		return &v.Trust.Certificates[i]
	}
	return nil
}

// SecretUnder is the name of the secret that it stands on, or of the one of the way in that it stands on; empty where there is none.
func (v *View) SecretUnder() string {
	if w := v.Way(); w != nil {
		return w.Secret
	}
	if i := v.At - len(v.Ways) - len(v.certificates()); i >= 0 && i < len(v.secrets()) {
		return v.secrets()[i].Name
	}
	return ""
}

// Under is the proof that it stands on; nil where it stands on something else.
func (v *View) Under(s *snapshot.Snapshot) *snapshot.ProofView {
	if i := v.At - v.beforeProofs(); i >= 0 && i < len(s.Proofs) {
		return &s.Proofs[i]
	}
	return nil
}

// Take takes in what was asked for. It goes on standing on what it stood on.
func (v *View) Take(ways []control.Access, trust *snapshot.Trust) {
	before := v.beforeProofs()
	role, member, secret := "", "", ""
	if w := v.Way(); w != nil {
		role = string(w.Role)
	} else if c := v.Certificate(); c != nil {
		member = string(c.Member)
	} else {
		secret = v.SecretUnder()
	}
	v.Ways, v.Trust = ways, trust
	after := v.beforeProofs()
	if v.At >= before && before > 0 {
		v.At += after - before
	}
	for i, w := range v.Ways {
		if role != "" && string(w.Role) == role {
			v.At = i
		}
	}
	for i, c := range v.certificates() {
		if member != "" && string(c.Member) == member {
			v.At = len(v.Ways) + i
		}
	}
	for i, x := range v.secrets() {
		if secret != "" && x.Name == secret {
			v.At = len(v.Ways) + len(v.certificates()) + i
		}
	}
}

// line is a line to be drawn: pieces, each with its style.
type line struct {
	pieces []piece
	thing  int // that it begins; -1 for none
}

type piece struct {
	at    int // column; -1: right after the one before
	text  string
	style grid.Style
}

// plain is a line that begins nothing.
func plain(pieces ...piece) line { return line{thing: -1, pieces: pieces} }

// Draw draws the view into an area.
func (v *View) Draw(g *grid.Grid, k theme.Theme, s *snapshot.Snapshot, now time.Time, a board.Area) {
	a.X, a.Y, a.W, a.H = a.X+1, a.Y+1, a.W-2, a.H-1
	v.At = max(0, min(v.At, v.count(s)-1))
	lines := v.waysIn(k, s, a.W)
	lines = append(lines, v.trusted(k, now, a.W)...)
	lines = append(lines, v.kept(k, a.W)...)
	lines = append(lines, v.proofs(k, s, now, a.W)...)
	first := 0
	for y, l := range lines { // what it stands on is to be seen, with what follows it
		if l.thing == v.At && y > a.H*2/3 {
			first = min(y-a.H/3, max(0, len(lines)-a.H))
		}
	}
	for y, l := range lines[first:] {
		if y >= a.H {
			break
		}
		x := a.X
		if l.thing == v.At && v.count(s) > 0 {
			g.Fill(a.X, a.Y+y, a.W, 1, ' ', grid.Style{Fg: k.Paper, Bg: k.Raise})
		}
		for _, p := range l.pieces {
			if p.at >= 0 {
				x = a.X + p.at
			}
			x = g.Clip(x, a.Y+y, a.X+a.W-x, p.text, p.style)
		}
	}
}
