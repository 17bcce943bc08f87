package control

import (
	"bytes"
	"fmt"
	"io"
	"reflect"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
)

// TestOnlyWhatHasChangedPassesToWhoWatches sends snapshots of a thousand members: each arrives whole, and a change of one member takes little.
func TestOnlyWhatHasChangedPassesToWhoWatches(t *testing.T) {
	members := func(n int) []snapshot.MemberView {
		out := []snapshot.MemberView{}
		for i := range n {
			out = append(out, snapshot.MemberView{Member: field.RoleName("crews").Member(i + 1), Role: "crews", Number: i + 1, Phase: state.Ready, Why: strings.Repeat("x", i%7)})
		}
		return out
	}
	first := members(1000)
	second := append([]snapshot.MemberView{}, first...)
	second[400].Phase, second[400].Why = state.Failed, "ended with exit code 3"
	fewer := append(append([]snapshot.MemberView{}, second[:10]...), second[12:600]...)
	var want []*snapshot.Snapshot
	for i, m := range [][]snapshot.MemberView{first, second, second, fewer, {}, members(3)} {
		want = append(want, &snapshot.Snapshot{Field: "ferries", Verdict: fmt.Sprint("as of ", i), Members: m})
	}
	var out bytes.Buffer
	var sizes []int
	ch := make(chan *snapshot.Snapshot)
	go func() {
		defer close(ch)
		for _, s := range want {
			ch <- s
		}
	}()
	if err := passOn(&out, func() { sizes = append(sizes, out.Len()) }, ch); err != nil {
		t.Fatal(err)
	}
	var got []*snapshot.Snapshot
	if err := takeUp(&out, func(s *snapshot.Snapshot) bool { got = append(got, s); return true }); err != io.EOF {
		t.Errorf("ended with %v", err)
	}
	if len(got) != len(want) {
		t.Fatalf("%d of %d came through", len(got), len(want))
	}
	for i := range want {
		if !reflect.DeepEqual(got[i].Members, want[i].Members) || got[i].Verdict != want[i].Verdict {
			t.Errorf("snapshot %d came through as another: %s, %d members", i, got[i].Verdict, len(got[i].Members))
		}
	}
	if whole, one, none := sizes[0], sizes[1]-sizes[0], sizes[2]-sizes[1]; one > whole/100 || none >= one {
		t.Errorf("all %d bytes, one %d, none %d", whole, one, none)
	}
}

// TestWhoWatchesMayLeave has who watches go after the first snapshot.
func TestWhoWatchesMayLeave(t *testing.T) {
	text := `{"snapshot":{"field":"ferries"},"count":1}` + "\n" + `{"member":{"member":"crews-1"}}` + "\n" + `{"done":true}` + "\n"
	n := 0
	if err := takeUp(strings.NewReader(text+text), func(s *snapshot.Snapshot) bool { n += len(s.Members); return false }); err != nil || n != 1 {
		t.Errorf("%d, %v", n, err)
	}
	if err := takeUp(strings.NewReader(`{"done":true}`+text[:60]), func(*snapshot.Snapshot) bool { t.Error("half of one was given"); return true }); err == nil {
		t.Error("it was not told that the text was cut off")
	}
}
