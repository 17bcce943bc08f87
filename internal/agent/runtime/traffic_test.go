package runtime

import (
	"io"
	"net"
	"testing"
	"time"
)

// TestTrafficIsAddedUp looks at connections that come, go, whose inodes are used again, and of which the system does not tell for once.
func TestTrafficIsAddedUp(t *testing.T) {
	var x traffic
	for i, look := range []struct {
		name string
		mine []uint64
		list map[uint64]carried
		want carried
	}{
		{"what was carried before does not count", []uint64{1}, map[uint64]carried{1: {1000, 500}, 9: {7, 7}}, carried{0, 0}},
		{"what is carried since does", []uint64{1}, map[uint64]carried{1: {1100, 520}, 9: {9000, 9000}}, carried{100, 20}},
		{"all of a new connection", []uint64{1, 2}, map[uint64]carried{1: {1100, 520}, 2: {40, 5}}, carried{140, 25}},
		{"what a closed one has carried stays", []uint64{2}, map[uint64]carried{2: {50, 5}}, carried{150, 25}},
		{"another connection has the inode", []uint64{2}, map[uint64]carried{2: {3, 4}}, carried{153, 29}},
		{"the system tells nothing", []uint64{2}, nil, carried{153, 29}},
		{"and then goes on telling", []uint64{2}, map[uint64]carried{2: {13, 4}}, carried{163, 29}},
		{"of a new one it tells nothing yet", []uint64{2, 3}, map[uint64]carried{2: {13, 4}}, carried{163, 29}},
		{"then how far that has come", []uint64{2, 3}, map[uint64]carried{2: {13, 4}, 3: {800, 900}}, carried{163, 29}},
		{"which counts from then on", []uint64{2, 3}, map[uint64]carried{2: {13, 4}, 3: {801, 902}}, carried{164, 31}},
	} {
		mine := map[uint64]bool{}
		for _, inode := range look.mine {
			mine[inode] = true
		}
		if got := x.look(mine, look.list); got != look.want {
			t.Errorf("%d %s: %+v, want %+v", i+1, look.name, got, look.want)
		}
	}
}

// TestManyConnectionsAreLookedAtLessOften: a look that takes long is not taken again before a hundred times as long has passed.
func TestManyConnectionsAreLookedAtLessOften(t *testing.T) {
	var x traffic
	now := time.Now()
	for _, step := range []struct{ took, next time.Duration }{{time.Millisecond, lookEvery}, {100 * time.Millisecond, 10 * time.Second}} {
		if x.due(now) == nil {
			t.Fatalf("it is not looked at after %s", step.next)
		}
		x.took(now, now.Add(step.took))
		if x.due(now.Add(step.next-1)) != nil {
			t.Errorf("after a look of %s it is looked at again before %s", step.took, step.next)
		}
		now = now.Add(step.next)
	}
}

// TestTheSystemTellsWhatConnectionsCarry sends a mebibyte to this very process, and has the system count it.
func TestTheSystemTellsWhatConnectionsCarry(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	out, err := net.Dial("tcp", listener.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer out.Close()
	in, err := listener.Accept()
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	var x traffic
	look := func() carried {
		inodes := map[uint64]bool{}
		socketsOf("/proc/self", inodes)
		return x.look(inodes, new(connections).now())
	}
	look()
	const much = 1 << 20
	go func() { _, _ = out.Write(make([]byte, much)) }()
	if _, err := io.ReadFull(in, make([]byte, much)); err != nil {
		t.Fatal(err)
	}
	var got carried
	for deadline := time.Now().Add(5 * time.Second); time.Now().Before(deadline) && got.sent < much; time.Sleep(10 * time.Millisecond) { // the last confirmation may be on its way
		got = look()
	}
	if got.received != much || got.sent != much {
		t.Errorf("the system counts %+v, and %d bytes were sent and received", got, much)
	}
}

// BenchmarkLook lists the connections of the machine, and finds those of this process: what an agent does for its members.
func BenchmarkLook(b *testing.B) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	defer listener.Close()
	for range 1000 {
		conn, err := net.Dial("tcp", listener.Addr().String())
		if err != nil {
			b.Fatal(err)
		}
		defer conn.Close()
	}
	var x traffic
	for b.Loop() {
		inodes := map[uint64]bool{}
		socketsOf("/proc/self", inodes)
		x.look(inodes, new(connections).now())
	}
}
