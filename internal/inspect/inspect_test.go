package inspect

import (
	"context"
	"net"
	"os"
	"runtime"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/machine"
	"lanternfield/internal/core/order"
)

// asked is this machine, asked over a connection.
func asked(t *testing.T) *Client {
	t.Helper()
	ours, theirs := net.Pipe()
	ended := make(chan error, 1)
	go func() {
		err := Serve(context.Background(), theirs)
		theirs.Close()
		ended <- err
	}()
	c := NewClient(ours)
	t.Cleanup(func() {
		c.Close()
		select {
		case <-ended:
		case <-time.After(5 * time.Second):
			t.Error("it goes on although nobody asks any more")
		}
	})
	return c
}

func ask(t *testing.T, c *Client, r Request) *Answer {
	t.Helper()
	a, err := c.Ask(context.Background(), r)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

func TestThisMachineTellsWhatItIs(t *testing.T) {
	m := ask(t, asked(t), Request{Folder: "/var/lib/not/there/yet"}).Machine
	if m == nil || m.CPUs != runtime.NumCPU() && m.CPUs < 1 || m.Memory < 64<<20 || m.Free > m.Memory || m.Disk == 0 || m.DiskFree > m.Disk || m.Arch != runtime.GOARCH || m.System == "" || m.Kernel == "" ||
		m.Root != (os.Geteuid() == 0) || time.Since(m.At).Abs() > time.Minute {
		t.Errorf("it tells %+v", m)
	}
}

// TestAPathIsTriedFromOneToTheOther has one machine listen where nobody does yet, and another connect.
func TestAPathIsTriedFromOneToTheOther(t *testing.T) {
	held, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer held.Close()
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := func(l net.Listener) machine.Socket {
		return machine.Socket{Address: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port}
	}
	taken, open := port(held), port(free)
	free.Close()
	listens, connects := asked(t), asked(t)
	a := ask(t, listens, Request{Listen: []machine.Socket{taken, open, {Address: "192.0.2.1", Port: 9}}}).Listens
	if !a[0].Taken || a[0].PID != os.Getpid() || a[0].Program == "" || !strings.Contains(a[0].Whose(), "process ") {
		t.Errorf("what is taken: %+v", a[0])
	}
	if a[1].Why != "" || a[2].Why != "the machine has no such address" {
		t.Errorf("what is free, and what is not here: %+v, %+v", a[1], a[2])
	}
	c := ask(t, connects, Request{Connect: []machine.Socket{open, taken}}).Connect
	if c[0].Why != "" || c[1].Why != "" || c[0].Took > 200*time.Millisecond {
		t.Errorf("to ours and to another: %+v", c)
	}
	listens.Close() // what was listened at is free again
	if c = ask(t, connects, Request{Connect: []machine.Socket{open}}).Connect; !c[0].Refused || c[0].Why != "connection refused" {
		t.Errorf("it is still listened at: %+v", c)
	}
}

// TestAllThatIsLackingIsTold has a member lack everything that it could: all of it is told at once.
func TestAllThatIsLackingIsTold(t *testing.T) {
	a := ask(t, asked(t), Request{Lookups: []order.Lookup{
		{Member: "it-1", Program: "no-such-program-here", User: "no-such-user-here", Limits: field.Limits{OpenFiles: 1 << 40}, Kernel: map[string]int{"vm.max_map_count": 1 << 60}},
		{Member: "it-2", Program: "sh"},
	}})
	got := map[What]string{}
	for _, l := range a.Lacks {
		if l.Member != "it-1" {
			t.Errorf("%s lacks %s: %s", l.Member, l.What, l.Why)
		}
		got[l.What] = l.Why
	}
	for what, want := range map[What]string{Program: `"no-such-program-here" is not installed`, User: `the user "no-such-user-here" is not known`, Limit: "it needs 1099511627776 open files", Kernel: "vm.max_map_count"} {
		if !strings.Contains(got[what], want) || strings.Contains(got[what], "it is tried again") {
			t.Errorf("%s: %q, want %q", what, got[what], want)
		}
	}
}
