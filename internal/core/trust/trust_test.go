package trust

import (
	"strings"
	"testing"
	"time"
)

// TestMarksAreRecognizedAndReplaced puts marks into a text and something else in their place.
func TestMarksAreRecognizedAndReplaced(t *testing.T) {
	c := Certificate{Field: "saltmarsh", Holder: "store-1", Names: Names("127.0.0.1", "store-1", "", "store-1"), Issue: Issue{Number: 2, From: time.Unix(0, 0).UTC(), Until: time.Unix(90, 0).UTC()}}
	key, chain := c.Marks()
	if key != (Mark{Kind: Key, Certificate: &c}).String() || chain != (Mark{Kind: Chain, Certificate: &c}).String() {
		t.Errorf("the two ways to write a mark differ: %q", key)
	}
	authority := Mark{Kind: Authorities, Field: "saltmarsh", Authorities: []Authority{{Number: 1}, {Number: 2}}}.String()
	for _, row := range []struct {
		text     string
		any, key bool
	}{{"plain", false, false}, {"a " + chain, true, false}, {chain + key, true, true}, {authority, true, false}} {
		if any, isKey := Has(row.text); any != row.any || isKey != row.key {
			t.Errorf("%q: %v %v", row.text, any, isKey)
		}
	}
	got := Put("a "+chain+" b "+key+" c "+authority, Mark.Word)
	want := "a (the certificate of store-1: number 2, until 1 Jan 1970) b (the key of store-1: number 2, until 1 Jan 1970) c (the authorities 1 and 2 of the members of saltmarsh)"
	if got != want {
		t.Errorf("got %s", got)
	}
	if got := strings.Join(c.Names, " "); got != "store-1 127.0.0.1" {
		t.Errorf("names: %s", got)
	}
	if due := c.Issue.Due(); due != time.Unix(60, 0).UTC() {
		t.Errorf("due at %s", due)
	}
}
