package leaseguard

import (
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"lanternfield/internal/core/lease"
)

// now is the time since the machine was started, the time that it slept included.
func now() time.Duration {
	var t unix.Timespec
	if unix.ClockGettime(unix.CLOCK_BOOTTIME, &t) != nil {
		return 0
	}
	return time.Duration(t.Nano())
}

// bootID tells one start of the machine from the next.
func bootID() string {
	data, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	return strings.TrimSpace(string(data))
}

// term is a lease that is held, with until when its holder may go by it. For several goroutines.
type term struct {
	mu       sync.Mutex
	number   uint64
	until    time.Duration // by the store
	promised time.Duration // by all others
	lasts    time.Duration
}

// begin says that the lease was taken; what was asked for was sent then.
func (t *term) begin(number uint64, sent, lasts time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.number, t.lasts, t.until, t.promised = number, lasts, lease.Deadline(sent, lasts), 0
}

// renewed says that the store has renewed it.
func (t *term) renewed(number uint64, sent time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.number == number {
		t.until = max(t.until, lease.Deadline(sent, t.lasts))
	}
}

// agreed says that all others have promised to take nothing, when they were asked at that time.
func (t *term) agreed(number uint64, sent time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.number == number {
		t.promised = max(t.promised, lease.Deadline(sent, t.lasts))
	}
}

// left is how long the lease may still be gone by, by the store and in all; 0 and less where it may not.
func (t *term) left() (store, all time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	at := now()
	return t.until - at, max(t.until, t.promised) - at
}

// held gives the number of the lease; 0 where none is held.
func (t *term) held() uint64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.number
}

// end says that it is not held any more, and tells whether it was.
func (t *term) end() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	was := t.number != 0
	t.number, t.until, t.promised = 0, 0, 0
	return was
}
