package field

import (
	"strings"
	"testing"
)

func TestANodeHasAnAddressOnEachNetwork(t *testing.T) {
	f := &Field{Networks: []string{"front", "back", "store"}}
	others := map[string]string{"back": "10.2.0.5"}
	for _, test := range []struct{ network, want string }{
		{"", "10.1.0.5"}, {"front", "10.1.0.5"}, {"back", "10.2.0.5"}, {"store", "gull-1 has no address on the network store"},
		{"side", `there is no network "side"; there is front, back, store`},
	} {
		got, err := f.OnNetwork("gull-1", "10.1.0.5", others, test.network)
		if err != nil {
			got = err.Error()
		}
		if got != test.want {
			t.Errorf("on %q: got %s, want %s", test.network, got, test.want)
		}
	}
	if _, err := (&Field{}).OnNetwork("gull-1", "10.1.0.5", others, "back"); err == nil || !strings.Contains(err.Error(), "names no networks") {
		t.Errorf("got %v", err)
	}
}
