package keeper

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"lanternfield/internal/control"
	"lanternfield/internal/keyring"
)

// TestWhoStaysSaysThatItHandsOver: a keeper that is there for good ends where it is asked to hand over, and says so; where it is interrupted it does not.
func TestWhoStaysSaysThatItHandsOver(t *testing.T) {
	t.Setenv(keyring.OwnerVariable, filepath.Join(t.TempDir(), "owner.key"))
	for _, over := range []bool{true, false} {
		f := control.Folder{Dir: filepath.Join(t.TempDir(), "saltmarsh")}
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		started, said := make(chan struct{}), false
		ended := make(chan error, 1)
		go func() {
			ended <- Run(ctx, f, Options{Command: "lanternfield serve", Stay: true, Started: func() { close(started) }, HandedOver: func() { said = true }})
		}()
		select {
		case <-started:
		case err := <-ended:
			t.Fatalf("it does not keep the field: %v", err)
		}
		if over {
			if err := control.HandOver(ctx, f); err != nil {
				t.Error(err)
			}
		} else {
			cancel()
		}
		if err := <-ended; err != nil || said != over {
			t.Errorf("handed over %v: it said so %v, and ended with %v", over, said, err)
		}
		if _, err := os.Stat(filepath.Join(f.Own(), "control.sock")); err == nil {
			t.Error("its door is open still")
		}
	}
}
