package store

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"testing"
	"time"
)

// TestADirectoryLeadsToTheSamePoints packs an hour of many series, and spoils its directory in every way: the same points are read, by the directory or by
// reading all.
func TestADirectoryLeadsToTheSamePoints(t *testing.T) {
	const members = 6000
	dir := t.TempDir()
	s := open(t, dir, Limits{})
	live(t, s, members, begin, begin.Add(40*time.Minute))
	var keys []string
	for m := 0; m < members; m += 37 {
		keys = append(keys, key(m))
	}
	keys = append(keys, key(members-1), "nobody", "", "zzz")
	ask := func(s *Store) [][]Bucket { return s.Summaries(keys, begin, begin.Add(40*time.Minute), 80) }
	want := ask(s)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = open(t, dir, Limits{})
	if err := s.Tidy(begin.Add(2 * time.Hour)); err != nil {
		t.Fatal(err)
	}
	g := s.group(true, begin)[0]
	x, err := read(s.path(g))
	if err != nil || !g.packed || len(x.blocks) != (members+perBlock-1)/perBlock || len(x.refs) > 0 {
		t.Fatalf("%s has %d blocks, %d keys: %v", g.name, len(x.blocks), len(x.refs), err)
	}
	data, err := os.ReadFile(s.path(g))
	if err != nil {
		t.Fatal(err)
	}
	list := int64(binary.LittleEndian.Uint64(data[len(data)-8:]))
	spoil := func(at int64) func([]byte) []byte {
		return func(d []byte) []byte { d[at] ^= 0x55; return d }
	}
	for what, change := range map[string]func([]byte) []byte{
		"as it is":                   func(d []byte) []byte { return d },
		"a block spoiled":            spoil(x.blocks[7].at + 100),
		"the length of a block":      spoil(x.blocks[3].at),
		"the list spoiled":           spoil(list + header + 5),
		"the mark spoiled":           spoil(int64(len(data)) - 12),
		"the way to the list":        spoil(int64(len(data)) - 3),
		"the end cut off":            func(d []byte) []byte { return d[:len(d)-5] },
		"cut off within a block":     func(d []byte) []byte { return d[:x.blocks[20].at+200] },
		"cut off before all of them": func(d []byte) []byte { return d[:x.blocks[0].at] },
	} {
		there := t.TempDir()
		if err := os.WriteFile(filepath.Join(there, g.name), change(bytes.Clone(data)), 0o600); err != nil {
			t.Fatal(err)
		}
		s := open(t, there, Limits{})
		for i, got := range ask(s) {
			if !reflect.DeepEqual(got, want[i]) {
				t.Errorf("%s: %s is not what was written: %s", what, keys[i], fmt.Sprint(got)[:200])
				break
			}
		}
		if all := s.Keys(begin); len(all) != members {
			t.Errorf("%s: %d keys", what, len(all))
		}
	}
	// Points that are spoiled are lost alone, and said.
	e, err := x.entriesOf(bytes.NewReader(data), 0)
	if err != nil {
		t.Fatal(err)
	}
	data[e[0].refs[0].at+3] ^= 0x55
	there := t.TempDir()
	if err := os.WriteFile(filepath.Join(there, g.name), data, 0o600); err != nil {
		t.Fatal(err)
	}
	s = open(t, there, Limits{})
	got := s.Summaries([]string{e[0].key, e[1].key, e[2].key}, begin, begin.Add(40*time.Minute), 1)
	if got[0][0].N != 0 || got[1][0].N != 480 || got[2][0].N != 480 || len(s.Lost()) != 1 {
		t.Errorf("with one spoiled: %+v, lost %v", got, s.Lost())
	}
}
