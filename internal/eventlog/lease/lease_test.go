package lease

import (
	"os"
	"path/filepath"
	"testing"
)

func TestOneHoldsALeaseAndOthersAreToldWho(t *testing.T) {
	name := filepath.Join(t.TempDir(), "lock")
	if now, last := Look(name); now != nil || last != nil {
		t.Errorf("before anybody: %v, %v", now, last)
	}
	first, holder, err := Acquire(name, "first")
	if err != nil || holder != nil {
		t.Fatal(holder, err)
	}
	second, holder, err := Acquire(name, "second")
	if err != nil || second != nil || holder.PID != os.Getpid() || holder.Command != "first" {
		t.Errorf("a second one: %v, held by %v, %v", second, holder, err)
	}
	if now, last := Look(name); now == nil || now.Command != "first" || last != nil {
		t.Errorf("while it is held: %v, %v", now, last)
	}
	if err := first.Release(); err != nil {
		t.Fatal(err)
	}
	if now, last := Look(name); now != nil || last == nil || last.Command != "first" {
		t.Errorf("after it was released: %v, %v", now, last)
	}
	if second, holder, err = Acquire(name, "2nd"); err != nil || holder != nil {
		t.Fatal(holder, err)
	}
	if now, _ := Look(name); now == nil || now.Command != "2nd" { // shorter than who held it before
		t.Errorf("held by %v", now)
	}
	if second.Lost() {
		t.Error("a lease that is held is lost")
	}
	if err := os.Rename(name, name+".away"); err != nil {
		t.Fatal(err)
	}
	if !second.Lost() {
		t.Error("the file was moved, and the lease is not lost")
	}
	third, _, err := Acquire(name, "third")
	if err != nil || !second.Lost() || third.Lost() {
		t.Errorf("another file in its place: lost %v, %v", second.Lost(), err)
	}
}
