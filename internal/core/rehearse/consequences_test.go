package rehearse

import (
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/rollout"
)

// TestAReviewSaysWhatClientsNotice changes a field of three voters, one that writes down what they say, and crews that call both.
func TestAReviewSaysWhatClientsNotice(t *testing.T) {
	base := func() *field.Field {
		f := voting(3, 2)
		f.Roles = append(f.Roles, field.Role{Name: "ledger", Kind: field.Master, Members: 1, Program: &field.Program{Command: []string{"program"}}})
		f.Roles = append(f.Roles, field.Role{Name: "relays", Kind: field.Broker, Members: 2, Program: &field.Program{Command: []string{"program"}}})
		f.Role("crews").Calls["book"], f.Role("crews").Calls["queue"] = "ledger", "relays"
		for i := range f.Roles {
			f.Roles[i].Program.OnChange = field.OnRestart
		}
		field.FillDefaults(f)
		return f
	}
	w := votingWorld(t, base())
	w.Lead("wardens-2", 3)
	w.Run(time.Second)
	for _, test := range []struct {
		name    string
		change  func(*field.Field)
		notices []string
		stops   bool
		lasting []string
	}{
		{name: "nothing"},
		{name: "more crews", change: func(f *field.Field) { f.Role("crews").Members = 3 }},
		{name: "another command of voters", change: func(f *field.Field) { f.Role("wardens").Program.Command = []string{"other"} },
			notices: []string{"while 3 of wardens are restarted one by one, the leader last: wardens holds 2 of 3 votes: writes wait for an election; one more loss stops them (about "}},
		{name: "another command of the only one", change: func(f *field.Field) { f.Role("ledger").Program.Command = []string{"other"} }, stops: true,
			notices: []string{"while ledger-1 is restarted: ledger has nobody left to do its work; crews cannot do its work without ledger (about "}},
		{name: "fewer crews, whom nobody calls", change: func(f *field.Field) { f.Role("crews").Members = 1 }, lasting: []string{"the data of crews-2 is gone with it"}},
		{name: "fewer relays", change: func(f *field.Field) { f.Role("relays").Members = 1 },
			notices: []string{"relays-2 leaves: who is connected there is cut off"}, lasting: []string{"the data of relays-2 is gone with it"}},
		{name: "voters alone", change: func(f *field.Field) { f.Roles = f.Roles[:1]; f.Roles[0].Members = 3 }, stops: true,
			notices: []string{"relays ends, and its clients get no answer any more: crews cannot do its work without relays", "ledger ends, and its clients get no answer any more: crews cannot do its work without ledger"},
			lasting: []string{"the data of crews-1, crews-2, ledger-1, relays-1, relays-2 is gone with them"}},
	} {
		t.Run(test.name, func(t *testing.T) {
			draft := base()
			if test.change != nil {
				test.change(draft)
			}
			r, err := review.Of(w.State, draft)
			if err != nil {
				t.Fatal(err)
			}
			rollout.Ahead(w.State, draft, r, w.Now)
			rollout.Consequences(w.State, r, w.Now)
			stops := false
			var said []string
			for _, n := range r.Notices {
				said = append(said, r.Notice(n))
				stops = stops || n.Stops
			}
			if len(said) != len(test.notices) || stops != test.stops {
				t.Fatalf("stops %v; clients notice\n%s", stops, strings.Join(said, "\n"))
			}
			for i, want := range test.notices {
				if !strings.HasPrefix(said[i], want) {
					t.Errorf("clients notice %q, want %q", said[i], want)
				}
			}
			if got := strings.Join(r.Lasting, "; "); got != strings.Join(test.lasting, "; ") {
				t.Errorf("lasting: %s", got)
			}
			if text := r.Markdown(); len(said) > 0 && !strings.Contains(text, "### What clients notice\n\n- "+said[0]) {
				t.Errorf("as Markdown:\n%s", text)
			}
		})
	}
}
