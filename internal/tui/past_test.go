package tui

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/control"
	"lanternfield/internal/keyring"
)

func (s replayed) Tide(_ context.Context, since time.Time) ([]control.Sample, error) {
	*s.done = append(*s.done, "tide")
	return slices.Clone(s.r.lasting), nil
}

// TestTheTideGoesAsFarBackAsOneLooks looks at a moment of which nothing of the tide has been read: it is read, once.
func TestTheTideGoesAsFarBackAsOneLooks(t *testing.T) {
	r, done := lived(t)
	r.lasting = r.tide
	r.tide, r.tideSince = nil, r.now.Add(-5*time.Second)
	r.follow(r.goTo(noon.Add(20500 * time.Millisecond)))
	r.shows(t, "the past: as it was at", "wardens-1 dark")
	if len(r.tide) == 0 || !slices.Equal(*done, []string{"tide"}) {
		t.Errorf("%d samples of the tide, asked for %v", len(r.tide), *done)
	}
	if r.follow(r.goTo(noon.Add(19 * time.Second))); len(*done) != 1 {
		t.Errorf("asked for again: %v", *done)
	}
}

// sealing is a session with who keeps the field without its keyring.
type sealing struct{ replayed }

func (s sealing) Access(context.Context, control.AccessAsked) ([]control.Access, error) {
	*s.done = append(*s.done, "access")
	return nil, &control.SealedError{Field: "saltmarsh", Sealed: keyring.Sealed{Passphrase: true}}
}

// TestAKeyringThatHasJustBeenSealedIsAskedFor presses the key that changes a secret before the view has heard that none can be told any more.
func TestAKeyringThatHasJustBeenSealedIsAskedFor(t *testing.T) {
	r, done := lived(t)
	r.session = sealing{replayed{r: r, done: done}}
	r.view = accessView
	cmd := r.app.press(press("c"))
	if cmd == nil || r.message != "" {
		t.Fatalf("it is not looked again: %q", r.message)
	}
	_, next := r.Update(cmd())
	if next == nil || r.access.Sealed == nil || strings.Contains(r.message, "Go to a secret first") || !slices.Equal(*done, []string{"access"}) {
		t.Errorf("after looking again: sealed %v, %q, did %v", r.access.Sealed, r.message, *done)
	}
}
