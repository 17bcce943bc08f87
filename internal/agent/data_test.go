package agent

import (
	"context"
	"errors"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host"
)

// TestAFullDiskRefusesOrdersAndLosesNothing runs an agent on a file system that is too small.
func TestAFullDiskRefusesOrdersAndLosesNothing(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("a small file system takes root to mount")
	}
	dir := t.TempDir()
	if err := syscall.Mount("lantern", dir, "tmpfs", 0, "size=256k"); err != nil {
		t.Skipf("no small file system here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	c, end := started(t, dir)
	t.Cleanup(end) // before the file system goes
	var heard uint64
	put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: sleeper("it")})
	first := until(t, c, &heard, order.Ready)
	filler := filepath.Join(dir, "filler")
	f, err := os.Create(filler)
	if err != nil {
		t.Fatal(err)
	}
	for err == nil {
		_, err = f.Write(make([]byte, 512))
	}
	f.Close()

	err = c.Put(context.Background(), order.Order{Term: 1, Revision: 2, Member: "it-2", Want: order.Run, Spec: sleeper("it")})
	var refused *agentapi.Refused
	if !errors.As(err, &refused) || refused.Status != http.StatusInsufficientStorage || !strings.HasPrefix(refused.Why, "the disk is full (") {
		t.Errorf("an order on a full disk: %v", err)
	}
	// A crash on a full disk is reported all the same, and tried again until there is space.
	for _, pid := range host.FindAll(dir) {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
	if exit := until(t, c, &heard, order.Exited); exit.Incarnation != first.Incarnation {
		t.Errorf("got %+v", exit)
	}
	if why := until(t, c, &heard, order.StartFailed).Why; !strings.HasPrefix(why, "the disk is full (") {
		t.Errorf("a start on a full disk: %s", why)
	}
	if err := os.Remove(filler); err != nil {
		t.Fatal(err)
	}
	until(t, c, &heard, order.Ready)
	put(t, c, order.Order{Term: 1, Revision: 3, Member: "it-2", Want: order.Gone, Spec: sleeper("it")})
	put(t, c, order.Order{Term: 1, Revision: 4, Member: "it-1", Want: order.Gone, Spec: sleeper("it")})
	until(t, c, &heard, order.Removed)
	until(t, c, &heard, order.Removed)
}

// TestDataIsPutAsideAndTakenBack removes a member whose data is kept, has it come back to it, and has it deleted.
func TestDataIsPutAsideAndTakenBack(t *testing.T) {
	dir := t.TempDir()
	c, _ := started(t, dir)
	var heard uint64
	writer := sleeper("it")
	writer.Command = []string{"sh", "-c", "cat data/book >> data/book2; printf sailed >> data/book; exec sleep 600"}
	book := filepath.Join(dir, "members", "it-1", "data", "book")
	put(t, c, order.Order{Term: 1, Revision: 1, Member: "it-1", Want: order.Run, Spec: writer})
	until(t, c, &heard, order.Started)
	waitFor(t, func() bool { return content(book) == "sailed" })

	put(t, c, order.Order{Term: 1, Revision: 2, Member: "it-1", Want: order.Gone, Keep: true, Spec: writer})
	if r := until(t, c, &heard, order.Removed); !r.Kept || r.Bytes != int64(len("sailed")) {
		t.Errorf("reported as kept: %t, %d bytes", r.Kept, r.Bytes)
	}
	if _, err := os.Stat(filepath.Join(dir, "members", "it-1")); !os.IsNotExist(err) {
		t.Errorf("the folder of a member that is gone is left: %v", err)
	}

	put(t, c, order.Order{Term: 1, Revision: 3, Member: "it-1", Want: order.Run, Spec: writer})
	until(t, c, &heard, order.Started)
	waitFor(t, func() bool { return content(book) == "sailedsailed" })

	kept := filepath.Join(dir, "kept", "it-1")
	put(t, c, order.Order{Term: 1, Revision: 4, Member: "it-1", Want: order.Gone, Keep: true, Spec: writer})
	until(t, c, &heard, order.Removed)
	if content(filepath.Join(kept, "book")) != "sailedsailed" {
		t.Errorf("kept was %q", content(filepath.Join(kept, "book")))
	}
	put(t, c, order.Order{Term: 1, Revision: 5, Member: "it-1", Want: order.Gone})
	if r := until(t, c, &heard, order.Removed); r.Kept {
		t.Error("data that was to be deleted is reported as kept")
	}
	if _, err := os.Stat(kept); !os.IsNotExist(err) {
		t.Errorf("data that was to be deleted is left: %v", err)
	}
}

// TestDataIsNeverPutOverOther has data put aside where some is already: neither is lost.
func TestDataIsNeverPutOverOther(t *testing.T) {
	l := layout{dir: t.TempDir()}
	for _, name := range []string{filepath.Join(l.data("it-1"), "new"), filepath.Join(l.aside("it-1"), "old")} {
		if err := errors.Join(os.MkdirAll(filepath.Dir(name), 0o755), os.WriteFile(name, []byte("x"), 0o600)); err != nil {
			t.Fatal(err)
		}
	}
	if _, _, err := l.retainData("it-1"); err == nil || !strings.Contains(err.Error(), "Move one of the two away") {
		t.Errorf("putting aside over other data: %v", err)
	}
	if err := l.restoreData("it-1"); err == nil || !strings.Contains(err.Error(), "Move one of the two away") {
		t.Errorf("taking back over other data: %v", err)
	}
	if content(filepath.Join(l.data("it-1"), "new")) != "x" || content(filepath.Join(l.aside("it-1"), "old")) != "x" {
		t.Error("data was lost")
	}
}

func content(name string) string {
	data, _ := os.ReadFile(name)
	return string(data)
}
