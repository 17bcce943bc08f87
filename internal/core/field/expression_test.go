package field

import (
	"strings"
	"testing"
)

func TestExpressionsAreCheckedAgainstWhatTheySee(t *testing.T) {
	http, tcp, exec := SightOf(Call{HTTP: &HTTPCall{}}), SightOf(Call{TCP: &TCPCall{}}), SightOf(Call{Exec: []string{"x"}})
	for _, test := range []struct {
		text   string
		sees   Sight
		yields Yields
		want   string
	}{
		{`status == 200 and body.health == "true"`, http, YieldsTruth, ""},
		{`headers["x-role"] == "leader"`, http, YieldsTruth, ""},
		{`any(body.members, {#.ID == "7" and not (#.isLearner ?? false)})`, http, YieldsTruth, ""},
		{`foo == 1`, http, YieldsTruth, `there is no foo here; there is body, headers, me, status`},
		{`statsu == 200`, http, YieldsTruth, `there is no statsu here; did you mean "status"?`},
		{`output contains "PONG"`, http, YieldsTruth, "there is no output here"},
		{`output contains "PONG"`, tcp, YieldsTruth, ""},
		{`code == 0 and trim(output) == "ok"`, exec, YieldsTruth, ""},
		{`status == "200"`, http, YieldsTruth, "invalid operation: == (mismatched types int and string)"},
		{`status + 1`, http, YieldsTruth, "it must give true or false, and gives a number"},
		{`output`, exec, YieldsTruth, "it must give true or false, and gives a text"},
		{`body.members`, http, YieldsList, ""},
		{`split(trim(output), "\n")`, exec, YieldsList, ""},
		{`output`, exec, YieldsList, "it must give a list, and gives a text"},
		{`item.name`, SightOfItem(), YieldsAny, ""},
		{`itme.name`, SightOfItem(), YieldsAny, `there is no itme here; did you mean "item"?`},
		{`int(body.term)`, http, YieldsNumber, ""},
		{`code == 0`, exec, YieldsNumber, "it must give a number, and gives true or false"},
		{`output ==`, exec, YieldsTruth, "unexpected token EOF"},
	} {
		err := CheckExpression(test.text, test.sees, test.yields)
		if (err == nil) != (test.want == "") || err != nil && !strings.HasPrefix(err.Error(), test.want) {
			t.Errorf("%s: got %v, want %q", test.text, err, test.want)
		}
	}
}

func TestOfEquallyCloseWordsTheOneWithTheSameFirstLetterIsMeant(t *testing.T) {
	kinds := []string{"master", "broker", "worker", "monitor", "entry"}
	for word, want := range map[string]string{"wroker": "worker", "borker": "broker", "mastre": "master", "entyr": "entry", "zzzz": ""} {
		if got := Nearest(word, kinds); got != want {
			t.Errorf("Nearest(%q) is %q, want %q", word, got, want)
		}
	}
}
