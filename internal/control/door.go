package control

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"filippo.io/age"
)

// doorway is the socket of a controller, and who has come in.
type doorway struct {
	mu       sync.Mutex
	server   *http.Server
	listener net.Listener
	guests   map[int]Guest
	next     int
	busy     int          // requests that go on
	asked    atomic.Int32 // orders that go on
	left     time.Time    // when the last one left
	visited  bool         // somebody has been attached
	handover chan struct{}
	unsealed chan *age.X25519Identity // hears what opens the keyring
	once     sync.Once
}

// Guest is somebody who is attached to a controller.
type Guest struct {
	Who   string    `json:"who"`
	Since time.Time `json:"since"`
}

// Guests lists who is attached, first come first.
func (c *Controller) Guests() []Guest {
	c.door.mu.Lock()
	defer c.door.mu.Unlock()
	out := []Guest{}
	for _, g := range c.door.guests {
		out = append(out, g)
	}
	slices.SortFunc(out, func(a, b Guest) int { return cmp.Or(a.Since.Compare(b.Since), cmp.Compare(a.Who, b.Who)) })
	return out
}

// Alone tells whether nobody is attached and nothing is being asked, and since when; and whether anybody has been attached at all.
func (c *Controller) Alone() (since time.Time, alone, visited bool) {
	c.door.mu.Lock()
	defer c.door.mu.Unlock()
	return c.door.left, len(c.door.guests) == 0 && c.door.busy == 0, c.door.visited
}

// HandedOver gives a channel that is closed when somebody has asked the controller to let go of the field.
func (c *Controller) HandedOver() <-chan struct{} { return c.door.handover }

// attach keeps somebody attached for as long as the request goes on.
func (c *Controller) attach(w http.ResponseWriter, r *http.Request) {
	c.door.mu.Lock()
	c.door.next++
	id := c.door.next
	c.door.visited = true
	c.door.guests[id] = Guest{Who: r.FormValue("who"), Since: time.Now()}
	c.door.mu.Unlock()
	defer func() {
		c.door.mu.Lock()
		delete(c.door.guests, id)
		c.door.left = time.Now()
		c.door.mu.Unlock()
		c.wake()
	}()
	c.wake()
	w.WriteHeader(http.StatusOK)
	w.(http.Flusher).Flush()
	select {
	case <-r.Context().Done():
	case <-c.done:
	}
}

// wake has those who watch look again: who is attached has changed.
func (c *Controller) wake() {
	c.mu.Lock()
	defer c.mu.Unlock()
	s := *c.present()
	c.withKeeper(&s)
	c.snapshot = &s
	close(c.changed)
	c.changed = make(chan struct{})
}

// counted counts the requests that go on.
func (c *Controller) counted(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c.door.mu.Lock()
		c.door.busy++
		c.door.mu.Unlock()
		defer func() {
			c.door.mu.Lock()
			defer c.door.mu.Unlock()
			c.door.busy--
			c.door.left = time.Now()
		}()
		next.ServeHTTP(w, r)
	})
}

// listen opens the socket through which commands and screens act and look.
func (c *Controller) listen() error {
	c.door.guests, c.door.handover, c.door.left = map[int]Guest{}, make(chan struct{}), time.Now()
	c.door.unsealed = make(chan *age.X25519Identity, 1)
	c.door.server = &http.Server{Handler: c.counted(c.handler()), ReadHeaderTimeout: 5 * time.Second}
	return c.open()
}

func (c *Controller) open() error {
	path, done, err := c.folder.socket()
	if err != nil {
		return err
	}
	defer done()
	_ = os.Remove(filepath.Join(c.folder.own(), "control.sock")) // we hold the lock, so it is a dead controller's, or ours
	listener, err := net.Listen("unix", path)
	if err != nil {
		return fmt.Errorf("the socket in %s cannot be opened: %w", c.folder.Dir, err)
	}
	listener.(*net.UnixListener).SetUnlinkOnClose(false)
	if err := os.Chmod(path, 0o600); err != nil { // whatever the umask is; nobody else can get to it meanwhile, for the folder
		listener.Close()
		return fmt.Errorf("the socket in %s cannot be kept from others: %w", c.folder.own(), err)
	}
	c.door.mu.Lock()
	c.door.listener = listener
	c.door.mu.Unlock()
	go func() { _ = c.door.server.Serve(ownUsers{listener}) }()
	return nil
}

// closing is how long a socket that has been closed is watched for somebody who came in at the last moment.
const closing = 20 * time.Millisecond

// ErrNotAlone says that somebody came in as the door was being closed.
var ErrNotAlone = errors.New("somebody has come in")

// CloseAlone closes the socket, then lets go of the field, unless somebody has come in meanwhile: then the socket is open again.
func (c *Controller) CloseAlone() error {
	c.door.mu.Lock()
	listener := c.door.listener
	c.door.mu.Unlock()
	_ = listener.Close()
	_ = os.Remove(filepath.Join(c.folder.own(), "control.sock"))
	time.Sleep(closing)
	if _, alone, _ := c.Alone(); !alone {
		if err := c.open(); err != nil {
			return err
		}
		return ErrNotAlone
	}
	return c.Close()
}

// turnAway lets nobody in any more. What goes on through the socket goes on.
func (c *Controller) turnAway() {
	c.door.mu.Lock()
	defer c.door.mu.Unlock()
	if c.door.listener == nil {
		return
	}
	_ = c.door.listener.Close()
	if !c.Adrift() { // else the socket that is there is not ours
		_ = os.Remove(filepath.Join(c.folder.own(), "control.sock"))
	}
}

// answering is how long those who have ordered something are given to hear what came of it.
const answering = time.Second

// shut ends what goes on through the socket.
func (c *Controller) shut() error {
	if c.door.server == nil {
		return nil
	}
	for until := time.Now().Add(answering); c.door.asked.Load() > 0 && time.Now().Before(until); {
		time.Sleep(2 * time.Millisecond)
	}
	if err := c.door.server.Close(); !errors.Is(err, net.ErrClosed) {
		return err
	}
	return nil // its listener was closed before, and it had not noticed
}

// Adrift tells whether the field's folder is not where it was: then somebody else may hold the field that is there now.
func (c *Controller) Adrift() bool { return c.lock != nil && c.lock.Lost() }
