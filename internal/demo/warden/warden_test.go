package warden

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/demo/part"
)

// store is a store of wardens that run in this process.
type store struct {
	*testing.T
	dir     string
	found   []string
	address map[string]string
	end     map[string]func()
}

func newStore(t *testing.T, founders int) *store {
	s := &store{T: t, dir: t.TempDir(), address: map[string]string{}, end: map[string]func(){}}
	for i := range founders {
		name := fmt.Sprint("w", i+1)
		s.found = append(s.found, name+"="+s.place(name))
	}
	for i := range founders {
		s.start(fmt.Sprint("w", i+1), s.found)
	}
	return s
}

// place gives a warden an address that is free.
func (s *store) place(name string) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		s.Fatal(err)
	}
	defer l.Close()
	s.address[name] = l.Addr().String()
	return s.address[name]
}

func (s *store) start(name string, found []string) {
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() {
		done <- Run(ctx, Options{Options: part.Options{Name: name, Listen: s.address[name], Data: filepath.Join(s.dir, name)}, Found: found, Election: 200 * time.Millisecond})
	}()
	ended := false
	s.end[name] = func() {
		if !ended {
			ended = true
			cancel()
			if err := <-done; err != nil {
				s.Errorf("%s ended with %v", name, err)
			}
		}
	}
	s.Cleanup(s.end[name])
}

func (s *store) call(method, name, path, body string, into any) error {
	return part.Call(context.Background(), &http.Client{Timeout: 5 * time.Second}, method, "http://"+s.address[name]+path, strings.NewReader(body), into)
}

// until repeats until there is no error.
func (s *store) until(what string, try func() error) {
	s.Helper()
	deadline := time.Now().Add(20 * time.Second)
	for {
		err := try()
		if err == nil {
			return
		}
		if time.Now().After(deadline) {
			s.Fatalf("never %s: %v", what, err)
		}
		time.Sleep(10 * time.Millisecond)
	}
}

func (s *store) ready(names ...string) {
	s.Helper()
	for _, name := range names {
		s.until(name+" ready", func() error { return s.call("GET", name, "/health", "", nil) })
	}
}

func (s *store) leader(through string) string {
	var l struct{ Leader string }
	s.until("led", func() error {
		if err := s.call("GET", through, "/leader", "", &l); err != nil || l.Leader == "" {
			return fmt.Errorf("%q, %v", l.Leader, err)
		}
		return nil
	})
	return l.Leader
}

func (s *store) has(name, key, want string) {
	s.Helper()
	var got struct{ Value string }
	s.until(fmt.Sprintf("%s gave back %s", name, key), func() error { return s.call("GET", name, "/kv/"+key, "", &got) })
	if got.Value != want {
		s.Errorf("%s gives %q for %s, want %q", name, got.Value, key, want)
	}
}

func TestAnyWardenTakesAWriteAndEveryOtherGivesItBack(t *testing.T) {
	s := newStore(t, 3)
	s.ready("w1", "w2", "w3")
	for _, name := range []string{"w1", "w2", "w3"} {
		if err := s.call("PUT", name, "/kv/ferry/"+name, "gull of "+name, nil); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		for _, other := range []string{"w1", "w2", "w3"} {
			s.has(other, "ferry/"+name, "gull of "+name)
		}
	}
	if err := s.call("GET", "w1", "/kv/ferry/none", "", nil); err == nil || !strings.Contains(err.Error(), `there is no key "ferry/none"`) {
		t.Errorf("a key that is not there: %v", err)
	}
	s.until("all are listed", func() error { // as this member has them, so it may take a moment
		var all map[string]string
		if err := s.call("GET", "w2", "/kv?prefix=ferry/", "", &all); err != nil || len(all) != 3 {
			return fmt.Errorf("%v, %w", all, err)
		}
		return nil
	})
}

func TestALearnerJoinsVotesTakesOverAndIsLetGo(t *testing.T) {
	s := newStore(t, 1)
	s.ready("w1")
	if err := s.call("PUT", "w1", "/kv/ferry", "gull", nil); err != nil {
		t.Fatal(err)
	}
	s.place("w2")
	join := fmt.Sprintf(`{"id": "w2", "address": %q}`, s.address["w2"])
	if err := s.call("POST", "w1", "/members", join, nil); err != nil {
		t.Fatal(err)
	}
	if err := s.call("POST", "w1", "/members", join, nil); err == nil || !strings.Contains(err.Error(), "w2 is a member already") {
		t.Errorf("let in twice: %v", err)
	}
	if err := s.call("POST", "w1", "/members/w2/vote", "", nil); err == nil || !strings.Contains(err.Error(), "w2 is not ready to vote") {
		t.Errorf("voting before it runs: %v", err)
	}
	if err := s.call("PUT", "w1", "/kv/ferry", "tern", nil); err != nil {
		t.Errorf("a learner that is not up cost a write: %v", err)
	}
	s.start("w2", nil)
	s.ready("w2")
	if err := s.call("POST", "w2", "/members/w2/vote", "", nil); err != nil { // passed on to the leader
		t.Fatal(err)
	}
	s.has("w2", "ferry", "tern")
	if err := s.call("POST", "w1", "/hand-over", `{"to": "w2"}`, nil); err != nil {
		t.Fatal(err)
	}
	s.until("w2 leads", func() error {
		if l := s.leader("w1"); l != "w2" {
			return fmt.Errorf("%s leads", l)
		}
		return nil
	})
	s.until("w1 is let go", func() error { return s.call("DELETE", "w2", "/members/w1", "", nil) })
	var list struct{ Members []listed }
	if err := s.call("GET", "w2", "/members", "", &list); err != nil || len(list.Members) != 1 || list.Members[0].ID != "w2" || !list.Members[0].Voter {
		t.Errorf("the list: %+v, %v", list, err)
	}
	s.end["w1"]()
	if err := s.call("PUT", "w2", "/kv/ferry", "puffin", nil); err != nil {
		t.Errorf("alone: %v", err)
	}
}

func TestAStoppedStoreComesBackWithItsDataAndIsNotFoundedAnew(t *testing.T) {
	s := newStore(t, 3)
	s.ready("w1", "w2", "w3")
	if err := s.call("PUT", "w1", "/kv/ferry", "gull", nil); err != nil {
		t.Fatal(err)
	}
	term := func() (l struct{ Term uint64 }) {
		_ = s.call("GET", "w1", "/leader", "", &l)
		return l
	}
	before := term()
	for _, name := range []string{"w1", "w2", "w3"} {
		s.end[name]()
	}
	for _, name := range []string{"w1", "w2", "w3"} {
		s.start(name, s.found)
	}
	s.ready("w1", "w2", "w3")
	s.has("w3", "ferry", "gull")
	if after := term(); after.Term <= before.Term {
		t.Errorf("term %d after %d: it was founded anew", after.Term, before.Term)
	}
}
