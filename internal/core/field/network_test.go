package field

import (
	"strings"
	"testing"
)

func TestANodeHasAnAddressOnEachNetwork(t *testing.T) {
	f := &Field{Networks: []string{"front", "back", "store"}}
	for _, test := range []struct{ main, network, want string }{
		{"127.70.1.5", "", "127.70.1.5"}, {"127.70.1.5", "front", "127.70.1.5"}, {"127.70.1.5", "back", "127.134.1.5"}, {"127.127.1.5", "store", "127.255.1.5"},
		{"<gull-1>", "back", "<gull-1 on back>"}, {"127.70.1.5", "side", `there is no network "side"; there is front, back, store`},
	} {
		got, err := f.AddressOn("", test.main, test.network)
		if err != nil {
			got = err.Error()
		}
		if got != test.want {
			t.Errorf("%s on %s: got %s, want %s", test.main, test.network, got, test.want)
		}
	}
	if _, err := (&Field{}).AddressOn("", "127.70.1.5", "back"); err == nil || !strings.Contains(err.Error(), "names no networks") {
		t.Errorf("got %v", err)
	}
}
