package render

import (
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// TestTheRestNamesSecretsAndShowsNone gives a spec that has some wherever one may stand.
func TestTheRestNamesSecretsAndShowsNone(t *testing.T) {
	mark := Secret{Name: "votes", Number: 2}.Mark()
	text := rest(&order.Spec{Version: "7.2", Command: []string{"never", mark}, TLS: &order.TLS{},
		Apply:    []field.Probe{{Call: field.Call{HTTP: &field.HTTPCall{Path: "/set?key=" + mark}}}},
		Floating: &order.Floating{Address: "10.7.0.50", Password: mark, TLS: &order.TLS{}}})
	var all []string
	for _, l := range text.Lines {
		all = append(all, l.Text)
	}
	got := strings.Join(all, "\n")
	if strings.ContainsAny(got, "\x00") || strings.Contains(got, "never") || strings.Contains(got, "tls") {
		t.Errorf("got\n%q", got)
	}
	for _, want := range []string{"version: 7.2", "floating.address: 10.7.0.50", "floating.password: (secret votes", "apply.1.http.path: /set?key=(secret votes"} {
		if !strings.Contains(got, want) {
			t.Errorf("%q is missing of\n%s", want, got)
		}
	}
}
