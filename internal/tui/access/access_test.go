package access

import (
	"strings"
	"testing"
	"time"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/trust"
	"lanternfield/internal/keyring"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/theme"
)

func ways(names ...string) []control.Access {
	var out []control.Access
	for _, n := range names {
		out = append(out, control.Access{Access: render.Access{Role: field.RoleName(n), Secret: n + "-secret", Write: []render.Host{{Member: "x-1", Address: "127.9.9.9", Port: 7}}}})
	}
	return out
}

func trusted(members []string, secrets ...snapshot.Secret) *snapshot.Trust {
	t := &snapshot.Trust{Authorities: []trust.Authority{{Number: 1}}, Secrets: secrets}
	for _, m := range members {
		t.Certificates = append(t.Certificates, snapshot.Certificate{Member: field.MemberName(m)})
	}
	return t
}

// TestWhatItStandsOn goes through all that there is, and has more come and go around it.
func TestWhatItStandsOn(t *testing.T) {
	s := &snapshot.Snapshot{Proofs: []snapshot.ProofView{{Role: "berths", Name: "p"}}}
	v := &View{}
	v.Take(ways("berths", "orders"), trusted([]string{"berths-1"}, snapshot.Secret{Name: "berths-secret"}, snapshot.Secret{Name: "peers"}))
	type at struct{ way, certificate, secret, proof string }
	where := func() at {
		var a at
		if w := v.Way(); w != nil {
			a.way = string(w.Role)
		}
		if c := v.Certificate(); c != nil {
			a.certificate = string(c.Member)
		}
		if p := v.Under(s); p != nil {
			a.proof = p.Name
		}
		a.secret = v.SecretUnder()
		return a
	}
	for i, want := range []at{{way: "berths", secret: "berths-secret"}, {way: "orders", secret: "orders-secret"}, {certificate: "berths-1"}, {secret: "berths-secret"}, {secret: "peers"}, {proof: "p"}} {
		if v.At = i; where() != want {
			t.Errorf("at %d it stands on %+v, want %+v", i, where(), want)
		}
		v.Take(ways("attic", "berths", "orders"), trusted([]string{"attic-1", "berths-1"}, snapshot.Secret{Name: "attic-secret"}, snapshot.Secret{Name: "berths-secret"}, snapshot.Secret{Name: "peers"}))
		if where() != want {
			t.Errorf("at %d, once more has come, it stands on %+v, want %+v", i, where(), want)
		}
		v.Take(ways("berths", "orders"), trusted([]string{"berths-1"}, snapshot.Secret{Name: "berths-secret"}, snapshot.Secret{Name: "peers"}))
		if where() != want {
			t.Errorf("at %d, once that has gone, it stands on %+v, want %+v", i, where(), want)
		}
	}
	if v.Move(s, 1<<20); where().proof != "p" {
		t.Errorf("the last is %+v", where())
	}
}

// TestSecretsAreListedByName draws secrets in each of their states, and no secret.
func TestSecretsAreListedByName(t *testing.T) {
	v := &View{}
	v.Take(nil, trusted([]string{"berths-1"}, snapshot.Secret{Name: "base", Number: 1, Roles: []field.RoleName{"berths", "pier"}},
		snapshot.Secret{Name: "queue", Number: 3, Given: true, Since: time.Date(2026, 11, 26, 12, 0, 0, 0, time.Local), About: "the password of clients", Waits: []field.RoleName{"rooms"}},
		snapshot.Secret{Name: "peers", Number: 1, Fixed: true}))
	k := theme.Theme{ASCII: true}
	draw := func() string {
		g := grid.New(100, 30, k.Text())
		v.Draw(g, k, &snapshot.Snapshot{}, time.Now(), board.Area{W: 100, H: 30})
		return g.Plain()
	}
	v.At = 2
	text := draw()
	for _, want := range []string{"base", "number 1", "made at the first deploy", "berths pier", "number 3", "given on 26 Nov 2026", "the password of clients", "rooms is still to take it"} {
		if !strings.Contains(text, want) {
			t.Errorf("it does not show %q:\n%s", want, text)
		}
	}
	if v.At = 3; !strings.Contains(draw(), "its program takes it once; it cannot be changed") {
		t.Errorf("it does not say that a secret is fixed:\n%s", draw())
	}
}

// TestASealedKeyringIsSaid has nothing known as the keyring is sealed: that is said, rather than that nobody is ready. What was known before stays.
func TestASealedKeyringIsSaid(t *testing.T) {
	v := &View{Sealed: &control.SealedError{Field: "harbour", Sealed: keyring.Sealed{Why: "its passphrase is not at hand", Passphrase: true}}}
	drawn := func() string {
		g := grid.New(100, 30, theme.Dark().Text())
		v.Draw(g, theme.Dark(), &snapshot.Snapshot{}, time.Time{}, board.Area{W: 100, H: 30})
		return g.Plain()
	}
	if got := drawn(); !strings.Contains(got, "the keyring of harbour is sealed") || strings.Contains(got, "Nobody is ready") {
		t.Errorf("with nothing known it says:\n%s", got)
	}
	v.Take(nil, trusted(nil, snapshot.Secret{Name: "crews"}))
	if got := drawn(); !strings.Contains(got, "crews") || strings.Contains(got, "is sealed") || v.SecretUnder() != "crews" {
		t.Errorf("with what was known before it says:\n%s", got)
	}
}
