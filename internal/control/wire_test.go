package control

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/review"
	"lanternfield/internal/eventlog"
)

// TestErrorsKeepTheirTypesAcrossTheSocket sends each kind there and back: its words and what it is made of are the same.
func TestErrorsKeepTheirTypesAcrossTheSocket(t *testing.T) {
	at := time.Date(2026, 1, 1, 12, 0, 0, 0, time.UTC)
	for _, err := range []error{
		&LacksError{Field: "saltmarsh", Lost: []string{"gull-1: it was told more"}},
		&HeldError{Field: "saltmarsh", Holder: Holder{PID: 7, Command: "lanternfield open", Since: at}, Answers: true},
		&eventlog.Broken{Seq: 9, Name: "events.db", Says: "now “x”", At: at},
		&review.Changed{Come: []plan.Step{{Member: "crews-4", Text: "place crews-4"}}, What: "deploy", By: "lanternfield open, process 9", Since: at},
		&eventlog.TooOld{At: at, From: at.Add(time.Hour)},
		&MissingError{Lacks: []string{"crews-1 on gull-1: the program is not installed"}},
	} {
		for _, sent := range []error{err, fmt.Errorf("it was tried: %w", err)} {
			got := DecodeError(EncodeError(sent))
			if got.Error() != sent.Error() {
				t.Errorf("%T says %q, want %q", err, got, sent)
			}
			typed := reflect.New(reflect.TypeOf(err))
			if !errors.As(got, typed.Interface()) || !reflect.DeepEqual(typed.Elem().Interface(), err) {
				t.Errorf("%T came back as %#v", err, errors.Unwrap(got))
			}
		}
	}
	if got := DecodeError(EncodeError(fmt.Errorf("nothing here: %w", ErrNothing))); !errors.Is(got, ErrNothing) {
		t.Errorf("that nothing is stored came back as %#v", got)
	}
	if got := DecodeError(EncodeError(errors.New("no more than words"))); got.Error() != "no more than words" || errors.Unwrap(got) != nil {
		t.Errorf("words came back as %#v", got)
	}
}

// TestTheDoorStaysOpenForWhoComesInAtTheLastMoment has somebody attached as a controller closes: it goes on, and is found again.
func TestTheDoorStaysOpenForWhoComesInAtTheLastMoment(t *testing.T) {
	f := folder(t)
	c, err := Hold(context.Background(), f, "test")
	if err != nil {
		t.Fatal(err)
	}
	if _, alone, visited := c.Alone(); !alone || visited {
		t.Errorf("alone %v, visited %v before anybody came", alone, visited)
	}
	guest, k, err := Attach(context.Background(), f, "a screen")
	if err != nil || k.Command != "test" {
		t.Fatalf("attached to %+v, %v", k, err)
	}
	if err := c.CloseAlone(); !errors.Is(err, ErrNotAlone) {
		t.Fatalf("closed under a guest: %v", err)
	}
	if s, err := guest.Snapshot(context.Background()); err != nil || s.Keeper == nil || strings.Join(s.Keeper.Attached, " ") != "a screen" {
		t.Errorf("the guest sees %+v, %v", s, err)
	}
	second, _, err := Attach(context.Background(), f, "another")
	if err != nil {
		t.Fatalf("the door was not opened again: %v", err)
	}
	for _, s := range []Session{guest, second} {
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	}
	for deadline := time.Now().Add(10 * time.Second); ; {
		if _, alone, _ := c.Alone(); alone {
			break
		}
		if time.Now().After(deadline) {
			t.Fatal("guests that have left are still counted")
		}
		time.Sleep(time.Millisecond)
	}
	if err := c.CloseAlone(); err != nil {
		t.Error(err)
	}
	if _, _, err := Attach(context.Background(), f, "late"); !errors.Is(err, ErrNobody) {
		t.Errorf("after it was closed: %v", err)
	}
	if now, last := f.Holder(); now != nil || last == nil || last.Command != "test" {
		t.Errorf("the lock says %v, before that %v", now, last)
	}
}

// TestACommandGoesOnWithWhoKeepsTheFieldNext has one who keeps the field let go of it for another while a command goes on: what the command asks next is asked of
// that one. Where nobody comes, it says so in a moment.
func TestACommandGoesOnWithWhoKeepsTheFieldNext(t *testing.T) {
	f := folder(t)
	first, err := Hold(t.Context(), f, "deploy")
	if err != nil {
		t.Fatal(err)
	}
	command, _, err := Attach(t.Context(), f, "access")
	if err != nil {
		t.Fatal(err)
	}
	defer command.Close()
	if err := first.Close(); err != nil {
		t.Fatal(err)
	}
	next := make(chan *Controller, 1)
	go func() {
		c, err := Hold(context.Background(), f, "serve")
		if err != nil {
			t.Error(err)
		}
		next <- c
	}()
	if s, err := command.Snapshot(t.Context()); err != nil || s.Keeper == nil || s.Keeper.Command != "serve" {
		t.Errorf("who keeps the field next is not found: %+v, %v", s, err)
	}
	if err := (<-next).Close(); err != nil {
		t.Fatal(err)
	}
	began := time.Now()
	if _, err := command.Snapshot(t.Context()); err == nil || !strings.Contains(err.Error(), "does not answer") || time.Since(began) < nobodyFor {
		t.Errorf("nobody keeps the field, which is known after %s: %v", time.Since(began), err)
	}
}
