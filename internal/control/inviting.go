package control

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"sync"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
	"lanternfield/internal/ground"
	"lanternfield/internal/ground/guests"
	"lanternfield/internal/ground/kind"
	"lanternfield/internal/identity"
	"lanternfield/internal/joining"
	"lanternfield/internal/joining/door"
)

// InviteAsked is what somebody asks for who invites machines.
type InviteAsked struct {
	Node field.NodeName `json:"node,omitempty"`
	Zone field.ZoneName `json:"zone,omitempty"`
	Uses int            `json:"uses"`
	For  time.Duration  `json:"for"`
	At   string         `json:"at,omitempty"` // ADDRESS or ADDRESS:PORT at which machines knock; empty for what seems right
	By   string         `json:"by"`
}

// Invitation is what is handed over to who stands at the machine. It is not kept.
type Invitation struct {
	ID    string    `json:"id"`
	As    string    `json:"as"` // what a machine may be that uses it
	Uses  int       `json:"uses"`
	Until time.Time `json:"until"`
	At    string    `json:"at"`
	Token string    `json:"token"`
	Pin   string    `json:"pin"` // by which curl knows the door
}

// Command is what is typed on the machine: it brings the agent and joins.
func (i Invitation) Command() string {
	return fmt.Sprintf("curl -fsSk --pinnedpubkey '%s' https://%s/join | %s='%s' sh", i.Pin, i.At, joining.Variable, i.Token)
}

// doors are the addresses at which machines may knock now.
type doors struct {
	mu   sync.Mutex
	open map[netip.AddrPort]*door.Door
}

// Invite lets machines join. The invitation is given once, and nothing by which it could be made again is kept.
func (c *Controller) Invite(ctx context.Context, ask InviteAsked) (*Invitation, error) {
	if c.sealed != nil {
		return nil, c.sealed
	}
	if err := c.trusted(); err != nil {
		return nil, err
	}
	at, err := c.knockAt(ask.At)
	if err != nil {
		return nil, err
	}
	authority := c.counting.authority
	c.doors.mu.Lock()
	defer c.doors.mu.Unlock()
	d, err := c.openDoor(at, authority)
	if err != nil {
		return nil, fmt.Errorf("the port for machines that join cannot be opened: %w; say another with --at ADDRESS:PORT", err)
	}
	defer c.tidyDoors()
	t, err := joining.NewToken(authority.Print(), d.At())
	if err != nil {
		return nil, err
	}
	in := engine.Invite{ID: t.ID, Sum: t.Sum(), Node: ask.Node, Zone: ask.Zone, Uses: ask.Uses, At: d.At().String(), For: ask.For, By: ask.By}
	if err := c.submit(ctx, input{in: in}); err != nil {
		return nil, err
	}
	kept := c.current().Invitations[t.ID]
	return &Invitation{ID: t.ID, As: kept.For(), Uses: kept.Uses, Until: kept.Until, At: kept.At, Token: t.String(), Pin: d.Pin()}, nil
}

// knockAt is where machines are to knock: as somebody says, or the address from which this machine speaks to others.
func (c *Controller) knockAt(said string) (netip.AddrPort, error) {
	if said != "" {
		if at, err := netip.ParseAddrPort(said); err == nil && !at.Addr().IsUnspecified() && at.Port() != 0 {
			return at, nil
		}
		a, err := netip.ParseAddr(said)
		if err != nil || a.IsUnspecified() {
			return netip.AddrPort{}, fmt.Errorf("%q is no address that machines could connect to: say one of this machine, or ADDRESS:PORT", said)
		}
		return netip.AddrPortFrom(a, 0), nil
	}
	s := c.current()
	if s.Field == nil {
		return netip.AddrPort{}, ErrNothing
	}
	for i := range s.Field.Nodes { // one from which nodes on other machines are reached
		n := &s.Field.Nodes[i]
		if address := s.Field.Given(n); address != "" && kind.Machines(s.Field.GroundOf(n)) {
			if a := fromHere(address); a.IsValid() {
				return netip.AddrPortFrom(a, 0), nil
			}
		}
	}
	own, _ := net.InterfaceAddrs()
	for _, o := range own {
		if n, is := o.(*net.IPNet); is {
			if a, ok := netip.AddrFromSlice(n.IP); ok && a.Unmap().IsGlobalUnicast() && a.Unmap().Is4() {
				return netip.AddrPortFrom(a.Unmap(), 0), nil
			}
		}
	}
	return netip.AddrPort{}, errors.New("this machine has no address that others could connect to: say one with --at ADDRESS")
}

// fromHere is the address from which this machine would speak to another one. Nothing is sent.
func fromHere(to string) netip.Addr {
	conn, err := net.Dial("udp", net.JoinHostPort(to, "9"))
	if err != nil {
		return netip.Addr{}
	}
	defer conn.Close()
	at, err := netip.ParseAddrPort(conn.LocalAddr().String())
	if err != nil || at.Addr().IsLoopback() {
		return netip.Addr{}
	}
	return at.Addr().Unmap()
}

// openDoor gives the door at an address, opening it where it is not. The caller holds the doors.
func (c *Controller) openDoor(at netip.AddrPort, authority *identity.Authority) (*door.Door, error) {
	for _, d := range c.doors.open {
		if d.At() == at || at.Port() == 0 && d.At().Addr() == at.Addr() {
			return d, nil
		}
	}
	d, err := door.Open(at, authority, sum(c.ring.Key(), "door"), c)
	if err != nil {
		return nil, err
	}
	if c.doors.open == nil {
		c.doors.open = map[netip.AddrPort]*door.Door{}
	}
	c.doors.open[d.At()] = d
	return d, nil
}

// wantedDoors are the places at which machines may have to knock.
func wantedDoors(s *state.State, now time.Time) map[netip.AddrPort]bool {
	wanted := map[netip.AddrPort]bool{}
	for _, i := range s.OpenInvitations(now) {
		use := i.Left() > 0
		for _, node := range i.Used { // who was let in and has not arrived may knock again
			n := s.Nodes[node]
			use = use || n != nil && !n.Released && (!n.There() || n.Unreachable)
		}
		if at, err := netip.ParseAddrPort(i.At); err == nil && use {
			wanted[at] = true
		}
	}
	return wanted
}

// tidyDoors opens the doors that are wanted and shuts the others. The caller holds them.
func (c *Controller) tidyDoors() {
	wanted := wantedDoors(c.current(), time.Now())
	for at, d := range c.doors.open {
		if !wanted[at] {
			d.Shut()
			delete(c.doors.open, at)
		}
	}
	failed := ""
	for at := range wanted {
		if _, why := c.openDoor(at, c.counting.authority); why != nil {
			failed = fmt.Sprintf("invited machines cannot join: %v", why)
		}
	}
	c.mu.Lock()
	same := failed == c.unjoined
	c.unjoined = failed
	c.mu.Unlock()
	if !same {
		slog.Warn("the port for machines that join", "why", failed)
		c.publish()
	}
}

// How often it is looked which invitations have ended, and how long a machine that was let in is given to let go.
const (
	doorLook = time.Second
	doorEnd  = 500 * time.Millisecond
)

// restored marks a state folder that was put back from a copy, until a keeper has seen it.
func (f Folder) restored() string { return filepath.Join(f.own(), "restored") }

// voidInvitations ends all invitations of a state that was put back from a copy: they may have been used, or revoked, since that was made.
func (c *Controller) voidInvitations(ctx context.Context) error {
	if _, err := os.Stat(c.folder.restored()); err != nil {
		return nil
	}
	for id := range c.current().Invitations {
		if err := c.submit(ctx, input{in: engine.Revoke{ID: id, By: "the restore of a copy"}}); err != nil {
			return err
		}
	}
	return os.Remove(c.folder.restored())
}

// inviting keeps the doors open as long as somebody may knock.
func (c *Controller) inviting(ctx context.Context) {
	defer func() {
		c.doors.mu.Lock()
		defer c.doors.mu.Unlock()
		for _, d := range c.doors.open {
			_ = d.Close()
		}
	}()
	void := c.voidInvitations(ctx)
	if void != nil && ctx.Err() == nil {
		slog.Error("the invitations of a restored copy cannot be ended, so no machine may join", "error", void)
	}
	for {
		changed := c.Changed()
		if c.sealed == nil && void == nil && c.invites() {
			c.doors.mu.Lock()
			c.tidyDoors()
			c.doors.mu.Unlock()
		}
		select {
		case <-ctx.Done():
			return
		case <-changed:
		case <-time.After(doorLook):
		}
		select { // who has just been let in hears the end of it
		case <-ctx.Done():
			return
		case <-time.After(doorEnd):
		}
	}
}

// invites tells whether there is an invitation, or a door.
func (c *Controller) invites() bool {
	c.mu.Lock()
	any := len(c.state.Invitations) > 0
	c.mu.Unlock()
	c.doors.mu.Lock()
	defer c.doors.mu.Unlock()
	return any || len(c.doors.open) > 0
}

// expecting tells whether machines may knock. The caller holds the controller's lock.
func (c *Controller) expecting() bool {
	return c.sealed == nil && len(c.state.Invitations) > 0 && len(wantedDoors(c.state, time.Now())) > 0
}

// guests is the ground of machines that join.
func (c *Controller) guests() (*guests.Guests, error) {
	several, _ := c.ground.(ground.Several)
	if g, is := several[kind.Join].(*guests.Guests); is {
		return g, nil
	}
	return nil, errors.New("no machine can join here")
}

// machineName is how a machine may call itself.
var machineName = regexp.MustCompile(`^[A-Za-z0-9-]{1,60}$`)

// Admit lets a machine in that has shown an invitation, or says why not.
func (c *Controller) Admit(ctx context.Context, h joining.Hello, from netip.Addr) (at joining.Place, err error) {
	address, err := netip.ParseAddr(h.Address)
	if err != nil || !machineName.MatchString(h.Machine) || !path.IsAbs(h.Folder) || path.Clean(h.Folder) != h.Folder || h.Folder == "/" {
		return at, errors.New("what this machine says of itself is malformed")
	}
	if err := c.submit(ctx, input{in: engine.Admit{ID: h.ID, Sum: joining.SumOf(h.Secret), Machine: h.Machine, From: from.String(), At: time.Now().UTC()}}); err != nil {
		return at, err
	}
	s := c.current()
	node := s.Invitations[h.ID].Used[h.Machine]
	declared := s.Field.Node(node)
	if declared == nil {
		return at, fmt.Errorf("%s is not in the field any more", node)
	}
	g := s.Field.GroundFor(declared)
	at = joining.Place{Field: s.Field.Name, Node: string(node), Address: s.Field.Given(declared), Folder: g.Folder}
	at.First, at.Last = g.AgentPorts()
	if n := s.Nodes[node]; at.Address == "" && n != nil && n.There() {
		at.Address = n.Address // it has come back
	}
	if at.Address == "" {
		at.Address = address.Unmap().String()
	}
	if at.Folder == "" {
		at.Folder = h.Folder
	}
	for _, n := range s.Nodes {
		if n.Name != node && !n.Released && n.Address == at.Address {
			return at, fmt.Errorf("%s is the address of %s already: join with --address, at which the other members reach this machine", at.Address, n.Name)
		}
	}
	return at, nil
}

// Enrol makes the agent of a node known.
func (c *Controller) Enrol(_ context.Context, node field.NodeName, with io.ReadWriter) (url string, err error) {
	return c.counting.authority.Enrol(with, string(node), sealOf(c.ring, node))
}

// arriveWithin is how long an agent that has just come up is tried to be spoken with.
const arriveWithin = 5 * time.Second

// Arrived notes that the agent of a node runs, and tries to speak with it.
func (c *Controller) Arrived(ctx context.Context, h joining.Hello, at joining.Place, url string) error {
	g, err := c.guests()
	if err != nil {
		return err
	}
	node := field.NodeName(at.Node)
	if err := g.Came(node, guests.Guest{URL: url, Address: at.Address, Dir: path.Join(at.Folder, at.Field, at.Node), Machine: h.Machine}); err != nil {
		return err
	}
	c.mu.Lock()
	if d := c.driving[node]; d != nil {
		d.knock()
	}
	c.mu.Unlock()
	client, err := g.Client(node, url, nil)
	if err != nil {
		return err
	}
	defer client.Close()
	ctx, cancel := context.WithTimeout(ctx, arriveWithin)
	defer cancel()
	for {
		if _, err = ground.Shows(ctx, client); err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the keeper of %s cannot connect to it at %s: %w. Open that port for the machine on which the keeper runs", at.Field, url, err)
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// Invitations lists those that count, oldest first.
func (f Folder) Invitations() ([]state.Invitation, error) {
	s, err := readState(f)
	if err != nil {
		return nil, err
	}
	return s.OpenInvitations(time.Now()), nil
}

// Invite lets machines join.
func (r *remote) Invite(ctx context.Context, ask InviteAsked) (*Invitation, error) {
	out := &Invitation{}
	return out, r.call(ctx, http.MethodPost, "/v1/invite", ask, out)
}

// revoke ends invitations; names: their IDs.
const revoke = "revoke"

// Revoke ends an invitation. Who has joined by it stays.
func Revoke(ctx context.Context, s Session, id, by string) error {
	return s.Do(ctx, Request{What: revoke, Names: []string{id}, By: by})
}
