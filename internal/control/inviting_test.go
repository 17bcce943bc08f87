package control

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
)

// TestARestoredCopyRevivesNoInvitation backs a field up while an invitation is valid, and puts that back: who has the token may have used it since.
func TestARestoredCopyRevivesNoInvitation(t *testing.T) {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	f := FolderOf(t.TempDir(), "far-quay")
	if err := f.Make(); err != nil {
		t.Fatal(err)
	}
	c, err := Hold(ctx, f, "test")
	if err != nil {
		t.Fatal(err)
	}
	draft := &field.Field{Name: "far-quay", Nodes: []field.Node{{Name: "skua", Zone: "far", Ground: field.Ground{Kind: field.GroundJoin}}}, Roles: []field.Role{{Name: "bell", Program: &field.Program{Command: []string{"x"}}}}}
	field.FillDefaults(draft)
	for _, in := range []engine.Input{engine.Deploy{Draft: draft, By: "test"}, engine.Invite{ID: "a", Sum: "b", Node: "skua", Uses: 1, At: "127.0.0.1:0", For: time.Hour, By: "test"}} {
		if err := c.submit(ctx, input{in: in}); err != nil {
			t.Fatal(err)
		}
	}
	copied := filepath.Join(t.TempDir(), "copy")
	_, err = f.backUpTo(copied)
	if err = errors.Join(err, c.Close()); err != nil {
		t.Fatal(err)
	}
	root := t.TempDir()
	if _, err := Restore(root, copied, nil); err != nil {
		t.Fatal(err)
	}
	back := FolderOf(root, "far-quay")
	if list, err := back.Invitations(); err != nil || len(list) != 1 {
		t.Fatalf("the copy has %v, %v", list, err)
	}
	if c, err = Hold(ctx, back, "test"); err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	for {
		_, err := os.Stat(back.restored())
		if errors.Is(err, fs.ErrNotExist) {
			break
		}
		select {
		case <-ctx.Done():
			t.Fatal("the keeper has not seen that it goes on from a copy")
		case <-time.After(10 * time.Millisecond):
		}
	}
	if list := c.current().Invitations; len(list) > 0 {
		t.Errorf("%v are valid again", list)
	}
}
