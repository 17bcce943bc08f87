// Package leaseguard is the guard of a member of a role whose program elects nobody: the parent of the member's program, which holds the role's lease while
// the member leads, and with which the member dies. What it does next is decided by package lease; here it is done. A guard needs neither
// a controller nor an agent.
package leaseguard

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"

	"lanternfield/internal/core/lease"
	"lanternfield/internal/host"
)

// How often things are looked at.
const (
	pace      = 500 * time.Millisecond // while nothing is to be done
	soon      = 20 * time.Millisecond  // after something was
	storeWait = time.Second
	stateWait = 1500 * time.Millisecond
	unwell    = 2 * time.Second         // for how long a program that leads may not answer before that counts
	stuckFor  = 1500 * time.Millisecond // for how long a program may be unable to follow before it is started again
	actWait   = 30 * time.Second        // for what leads to leading or following
)

// kept is what a guard keeps on disk.
type kept struct {
	Number uint64     `json:"number"` // the highest that it has gone by
	Lead   lease.Name `json:"lead"`   // whose that was

	Bound time.Duration `json:"bound,omitempty"` // until when it has promised to take nothing, since this start of the machine
	Boot  string        `json:"boot,omitempty"`
}

// handing is an order to give the lease to another.
type handing struct {
	to   lease.Name
	done chan error
}

// standing is what a guard says of its member.
type standing struct {
	Leads   bool       `json:"leads"`
	Follows bool       `json:"follows"`
	Going   bool       `json:"going,omitempty"`
	Number  uint64     `json:"number"`
	Lead    lease.Name `json:"lead,omitempty"`
	Why     string     `json:"why,omitempty"`
}

type guard struct {
	argv     []string
	live     atomic.Pointer[program] // what runs; as program, for other goroutines
	program  *program
	fenced   atomic.Bool // the program was ended because the lease could: it is started again
	term     term
	wake     chan struct{}
	handOver chan handing

	mu       sync.Mutex // for what follows, which others read
	config   *lease.Config
	kept     kept
	claiming bool          // it is about to take the lease
	bound    time.Duration // until when it has promised to take nothing
	says     standing

	// Of the main loop alone.
	read    time.Time // when the configuration was changed
	trusted time.Time // when the authority was
	store   *store
	stop    context.CancelFunc
	id      clientv3.LeaseID
	seen    seen
	self    lease.Self
	report  lease.Report
	failing time.Time // since when the program does not say how it is
	fresh   bool      // its state was read in this turn
	stuck   time.Time // since when it cannot follow
	begun   time.Time // when the program was started
	free    time.Time // since when the lease is seen to be free
	mark    int64     // of the setting that was seen to hold
	barrier int64     // how far the member had written after that; -1 before that is known
}

// note writes a line into the member's log.
func note(line string) {
	fmt.Fprintf(os.Stderr, "%s guard: %s\n", time.Now().UTC().Format("2006-01-02 15:04:05.000 MST"), line)
}

// Run guards a member, whose program is argv, until that ends; it gives the exit status.
func Run(argv []string) int {
	g := &guard{argv: argv, wake: make(chan struct{}, 1), handOver: make(chan handing), barrier: -1}
	if len(argv) == 0 {
		note("there is nothing to run")
		return 2
	}
	if err := g.begin(); err != nil {
		note(err.Error())
		return 1
	}
	return g.run()
}

func (g *guard) begin() error {
	if err := os.MkdirAll("data/lease", 0o700); err != nil {
		return err
	}
	if err := g.configure(); err != nil {
		return err
	}
	if data, err := os.ReadFile(keptFile); err == nil {
		if err := json.Unmarshal(data, &g.kept); err != nil {
			return fmt.Errorf("%s cannot be read, and by it this member knows whom it may follow: %w", keptFile, err)
		}
	} else if !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if g.kept.Boot == bootID() {
		g.bound = g.kept.Bound // what an earlier run has promised; no promise outlives a start of the machine, which takes longer
	}
	if err := host.AdoptOrphans(); err != nil {
		return err
	}
	return g.listen()
}

const keptFile = "data/lease/kept.json"

// keep notes by which lease the member goes, before it does.
func (g *guard) keep(number uint64, lead lease.Name) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	k := g.kept
	k.Number, k.Lead = number, lead
	return g.put(k)
}

// put writes what the guard keeps. g.mu is held.
func (g *guard) put(k kept) error {
	if k == g.kept {
		return nil
	}
	next := keptFile + ".new"
	f, err := os.OpenFile(next, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString(text(k))
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = os.Rename(next, keptFile)
	}
	if err == nil {
		g.kept = k
	}
	return err
}

// configure reads the configuration where it has changed.
func (g *guard) configure() error {
	info, err := os.Stat(lease.ConfigFile)
	if err != nil {
		return err
	}
	if info.ModTime().Equal(g.read) {
		if at := g.believed(); !at.Equal(g.trusted) { // another authority
			g.trusted = at
			return g.connect()
		}
		return nil
	}
	data, err := os.ReadFile(lease.ConfigFile)
	if err != nil {
		return err
	}
	var c lease.Config
	if err := json.Unmarshal(data, &c); err != nil {
		return fmt.Errorf("%s: %w", lease.ConfigFile, err)
	}
	g.mu.Lock()
	before := g.config
	g.config = &c
	g.mu.Unlock()
	g.read = info.ModTime()
	g.trusted = g.believed()
	if before == nil || !reflect.DeepEqual(before.Store, c.Store) || g.store == nil {
		return g.connect()
	}
	return nil
}

func (g *guard) settings() *lease.Config {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.config
}

// believed tells when the authority that the store is believed by was changed.
func (g *guard) believed() time.Time {
	if info, err := os.Stat(g.config.StoreAuthority()); err == nil {
		return info.ModTime()
	}
	return time.Time{}
}

// connect opens the store anew.
func (g *guard) connect() error {
	if g.store != nil {
		g.stop()
		g.store.close()
		g.store = nil
	}
	s, err := open(g.config)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(context.Background())
	g.store, g.stop = s, cancel
	go func() {
		for ctx.Err() == nil {
			s.changes(ctx, g.rouse)
			select {
			case <-ctx.Done():
			case <-time.After(storeWait):
			}
		}
	}()
	return nil
}

// rouse has the main loop look at once.
func (g *guard) rouse() {
	select {
	case g.wake <- struct{}{}:
	default:
	}
}

func (g *guard) run() int {
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, syscall.SIGHUP, syscall.SIGINT, syscall.SIGTERM, syscall.SIGQUIT, syscall.SIGUSR1, syscall.SIGUSR2)
	go g.watch()
	for {
		wait := g.turn()
		var exited chan int
		if g.program != nil {
			exited = g.program.exited
		}
		select {
		case <-time.After(wait):
		case <-g.wake:
		case s := <-signals:
			if s := s.(syscall.Signal); g.program == nil || !g.ends(s) {
				if g.program == nil && s != syscall.SIGHUP {
					return 128 + int(s)
				}
				g.program.signal(s)
				break
			} else {
				return g.finish(s)
			}
		case h := <-g.handOver:
			h.done <- g.give(h.to)
		case code := <-exited:
			g.gone()
			g.letGo("its program has ended")
			if sweep(2 * time.Second); !g.fenced.Swap(false) {
				return code
			}
		}
		host.ReapOrphans()
	}
}

// ends tells whether a signal asks the program to end.
func (g *guard) ends(s syscall.Signal) bool {
	return s == syscall.SIGTERM || s == syscall.SIGINT || s == syscall.SIGQUIT || s == host.SignalByName(g.config.Stop)
}

// finish ends the program in order, and gives up the lease only then.
func (g *guard) finish(s syscall.Signal) int {
	g.mu.Lock()
	g.says.Going = true
	g.mu.Unlock()
	g.say("it is asked to end")
	if drain := time.Duration(g.config.Drain); drain > 0 && (g.says.Leads || g.says.Follows) {
		select {
		case <-time.After(drain):
		case code := <-g.program.exited:
			g.program.exited <- code
		}
	}
	g.program.signal(s)
	code := <-g.program.exited
	g.gone()
	sweep(2 * time.Second)
	g.letGo("it was asked to end")
	return code
}

// say has the member's log, and those who ask, told what the guard does.
func (g *guard) say(why string) {
	g.mu.Lock()
	if g.says.Why != why {
		note(why)
	}
	g.says.Why = why
	g.mu.Unlock()
	_ = os.WriteFile("data/lease/why", []byte(why+"\n"), 0o644)
}

// standing is what is said of the member now.
func (g *guard) standing() standing {
	g.mu.Lock()
	defer g.mu.Unlock()
	s := g.says
	if _, left := g.term.left(); s.Leads && left <= 0 {
		s.Leads = false
	}
	s.Number, s.Lead = g.kept.Number, g.kept.Lead
	return s
}

// watch renews the lease that is held, and ends the program before the lease can have ended. It waits for nothing that the program does.
func (g *guard) watch() {
	var asking sync.WaitGroup
	renewed, promised := time.Duration(0), time.Duration(0)
	for ; ; time.Sleep(50 * time.Millisecond) {
		number := g.term.held()
		if number == 0 {
			continue
		}
		left, all := g.term.left()
		if all <= 0 {
			if g.term.end() {
				g.fenced.Store(true)
				if p := g.live.Load(); p != nil {
					p.kill()
				}
				g.say("the lease could not be renewed in time: its program was ended, so that it takes no writes while another may")
				g.rouse()
			}
			continue
		}
		lasts := time.Duration(g.settings().For)
		if at := now(); at-renewed > lasts/5 {
			renewed = at
			asking.Go(func() { g.renew(number, lasts) })
		}
		if at := now(); left < lasts/2 && at-promised > lasts/5 {
			promised = at
			asking.Go(func() {
				if g.promises(number) {
					g.term.agreed(number, at)
				}
			})
		}
	}
}

func (g *guard) renew(number uint64, lasts time.Duration) {
	g.mu.Lock()
	s, id := g.store, g.id
	g.mu.Unlock()
	if s == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), lasts/4)
	defer cancel()
	sent := now()
	switch err := s.renew(ctx, id); {
	case err == nil:
		g.term.renewed(number, sent)
	case errors.Is(err, errGone) && g.term.held() == number:
		g.rouse() // the main loop sees it, and ends it
	}
}

// letGo gives up the lease, where it is held. The program has ended, or is about to be.
func (g *guard) letGo(why string) {
	g.mu.Lock()
	g.says.Leads, g.says.Follows = false, false
	g.mu.Unlock()
	held := g.term.end()
	if held {
		g.say("the lease is given up: " + why)
	}
	if g.id != 0 && g.store != nil {
		ctx, cancel := context.WithTimeout(context.Background(), storeWait)
		g.store.release(ctx, g.id)
		cancel()
	}
	g.setID(0)
}

func (g *guard) setID(id clientv3.LeaseID) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.id = id
}

// turn looks once at everything and does the next thing. It gives how long to wait before the next turn.
func (g *guard) turn() time.Duration {
	if err := g.configure(); err != nil {
		g.say(err.Error())
	}
	g.look()
	if g.program == nil {
		return g.launch()
	}
	g.ask()
	action := lease.Next(g.view())
	g.tell(action)
	if g.unable() {
		return soon
	}
	if action.Kind == lease.Wait {
		if r := g.seen.Record; !g.fresh || g.term.held() != 0 && r != nil && len(r.Sync) < g.config.Want {
			return soon * 5
		}
		return pace
	}
	if err := g.do(action); err != nil {
		g.say(fmt.Sprintf("%s: %v", phrase(action), err))
		return pace / 2
	}
	return soon
}

// look reads the store.
func (g *guard) look() {
	g.seen = seen{}
	if g.store == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), storeWait)
	defer cancel()
	got, err := g.store.read(ctx)
	if err != nil {
		return
	}
	g.seen = got
	switch {
	case got.Holder != nil:
		g.free = time.Time{}
	case g.free.IsZero():
		g.free = time.Now()
	}
}

// launch starts the program: as one that follows where somebody holds the lease, else as one that follows nobody yet. It never takes writes then.
func (g *guard) launch() time.Duration {
	if !g.seen.Known && time.Since(g.begun) < 3*time.Second && !g.begun.IsZero() {
		return soon * 5
	}
	p := &program{argv: g.argv}
	g.self = lease.Self{Blocked: true, InEffect: true}
	g.barrier, g.mark = -1, 0
	if h := g.seen.Holder; g.seen.Known && h != nil && h.Member != g.config.Member && h.Number >= g.kept.Number {
		if err := g.keep(h.Number, h.Member); err != nil {
			g.say(err.Error())
			return pace
		}
		p.env = g.leadOf(h.Member)
		g.self.Follows = h.Member
	}
	if r := g.seen.Record; g.seen.Known && r == nil && g.config.Founds {
		p.env = append(p.env, "LEASE_BEGINS=yes") // nobody has anything yet
	}
	if err := p.start(); err != nil {
		g.say(err.Error())
		return pace
	}
	g.live.Store(p)
	g.fenced.Store(false)
	g.program, g.begun, g.failing, g.stuck = p, time.Now(), time.Time{}, time.Time{}
	return soon * 5
}

// leadOf tells commands who leads.
func (g *guard) leadOf(name lease.Name) []string {
	for _, p := range g.config.Members {
		if p.Member == name {
			return []string{"LEAD_MEMBER=" + string(p.Member), "LEAD_ADDRESS=" + p.Address, "LEAD_PORT=" + strconv.Itoa(p.Port)}
		}
	}
	return nil
}

// ask has the program say how it is.
func (g *guard) ask() {
	g.fresh = false
	out, err := run(context.Background(), g.config.State, stateWait)
	var r lease.Report
	if err == nil {
		if err = json.Unmarshal(out, &r); err != nil {
			err = fmt.Errorf("%s: %w", g.config.State[len(g.config.State)-1], err)
		}
	}
	s := &g.self
	if err != nil {
		if g.failing.IsZero() {
			g.failing = time.Now().Add(-stateWait / 2) // it was asked earlier than that, or there is nobody to ask
		}
		if time.Since(g.failing) > unwell {
			s.Up = false
		}
		return
	}
	g.failing, g.fresh = time.Time{}, true
	if r.Busy {
		return
	}
	g.report = r
	follows := s.Follows
	*s = lease.Self{Up: true, Leads: r.Leads, Follows: follows, Cut: r.Follows == "" && !r.Gets, Blocked: r.Blocked, InEffect: true}
	if s.Cut {
		s.Follows = ""
	}
	for _, name := range r.Confirm {
		s.Confirm = append(s.Confirm, lease.Name(name))
	}
	slices.Sort(s.Confirm)
	for _, f := range r.Followers {
		s.InEffect = s.InEffect && f.Current
	}
	switch { // how far it had written is read after the setting was seen to hold
	case !s.InEffect || r.Mark != g.mark:
		g.mark, g.barrier = 0, -1
		if s.InEffect {
			g.mark = r.Mark
		}
	case g.barrier < 0:
		g.barrier = r.Written
	}
	for _, f := range r.Followers {
		if f.Gets {
			s.Streaming = append(s.Streaming, lease.Name(f.Member))
		}
		if f.Gets && g.barrier >= 0 && f.Flushed >= g.barrier {
			s.InSync = append(s.InSync, lease.Name(f.Member))
		}
	}
	slices.Sort(s.Streaming)
}

// view is what is decided by.
func (g *guard) view() lease.View {
	g.mu.Lock()
	defer g.mu.Unlock()
	c := g.config
	v := lease.View{Me: c.Member, Want: c.Want, Founds: c.Founds, Paused: c.Paused, Promised: g.kept.Number, Holding: g.term.held(), Store: g.seen.Store, Self: g.self}
	for _, p := range c.Members {
		if p.Member != c.Member {
			v.Others = append(v.Others, p.Member)
		}
	}
	v.Bound = now() < g.bound
	v.Yields = g.seen.Record != nil && g.seen.Record.Heir != "" && !g.free.IsZero() && time.Since(g.free) < time.Duration(c.For)
	return v
}

// tell says what the guard does or waits for.
func (g *guard) tell(a lease.Action) {
	held := g.term.held() != 0
	g.mu.Lock()
	g.says.Leads = held && g.self.Up && g.self.Leads
	g.says.Follows = !held && g.self.Up && !g.self.Leads && g.report.Gets && g.self.Follows != ""
	g.mu.Unlock()
	g.say(phrase(a))
}

// phrase words an action.
func phrase(a lease.Action) string {
	switch a.Kind {
	case lease.Wait:
		return a.Why
	case lease.Fence:
		return "it is ended and starts again, taking no writes: " + a.Why
	case lease.Drop:
		return "it gives up a lease: " + a.Why
	case lease.Acquire:
		return fmt.Sprintf("it takes the lease, number %d: %s", a.Record.Number, a.Why)
	case lease.Cut:
		return "it stops following: " + a.Why
	case lease.Confirm:
		return fmt.Sprintf("writes are confirmed by %s: %s", lease.List(a.Names), a.Why)
	case lease.Promote:
		return "it takes writes: " + a.Why
	case lease.Write:
		return fmt.Sprintf("from now on %s may take over: %s", lease.List(a.Record.Sync), a.Why)
	}
	return fmt.Sprintf("it follows %s, number %d", a.To.Member, a.To.Number)
}

// unable starts the program again where it cannot follow without that, and tells whether it has.
func (g *guard) unable() bool {
	switch {
	case !g.fresh || !g.report.Stuck || g.term.held() != 0:
		g.stuck = time.Time{}
	case g.stuck.IsZero():
		g.stuck = time.Now()
	case time.Since(g.stuck) > stuckFor && time.Since(g.begun) > 2*stuckFor:
		g.say("its program cannot follow as it is: it is started again")
		g.endProgram(host.SignalByName(g.config.Stop), 10*time.Second)
		return true
	}
	return false
}

// endProgram ends the program, with a signal at first.
func (g *guard) endProgram(s syscall.Signal, within time.Duration) {
	p := g.program
	p.signal(s)
	select {
	case <-p.exited:
		sweep(2 * time.Second)
	case <-time.After(within):
		p.kill()
		<-p.exited
	}
	g.gone()
}

// gone says that the program has ended.
func (g *guard) gone() {
	g.live.Store(nil)
	g.program = nil
}

// fence ends the program at once, and gives up the lease.
func (g *guard) fence() {
	g.program.kill()
	<-g.program.exited
	g.gone()
	g.letGo("its program was ended")
}

// do does what was decided.
func (g *guard) do(a lease.Action) error {
	ctx, cancel := context.WithTimeout(context.Background(), storeWait)
	defer cancel()
	var err error
	switch a.Kind {
	case lease.Fence:
		g.fence()
	case lease.Drop:
		err = g.store.drop(ctx, g.seen)
	case lease.Acquire:
		err = g.acquire(ctx, a.Record)
	case lease.Write:
		_, err = g.store.write(ctx, a.Record, g.seen)
	case lease.Cut:
		_, err = run(context.Background(), g.config.Cut, actWait)
		g.self.Follows = ""
	case lease.Confirm:
		var names []string
		for _, n := range a.Names {
			names = append(names, string(n))
		}
		_, err = run(context.Background(), g.config.Confirm, actWait, "CONFIRM="+strings.Join(names, " "))
	case lease.Promote:
		err = g.steps(g.config.TakeLead)
	case lease.Attach:
		if err = g.keep(a.To.Number, a.To.Member); err == nil {
			if err = g.steps(g.config.AttachTo, g.leadOf(a.To.Member)...); err == nil {
				g.self.Follows = a.To.Member
			}
		}
	}
	return err
}

func (g *guard) steps(steps [][]string, env ...string) error {
	for _, argv := range steps {
		if _, err := run(context.Background(), argv, actWait, env...); err != nil {
			return err
		}
	}
	return nil
}

// acquire takes the lease. Nothing is promised to another meanwhile.
func (g *guard) acquire(ctx context.Context, r lease.Record) error {
	g.mu.Lock()
	if g.claiming = now() >= g.bound || g.seen.Record == nil || g.seen.Record.Lead == g.config.Member; !g.claiming {
		g.mu.Unlock()
		return errors.New("it has promised to wait")
	}
	g.mu.Unlock()
	defer func() {
		g.mu.Lock()
		g.claiming = false
		g.mu.Unlock()
	}()
	if was := g.seen.Record; was != nil && was.Lead != g.config.Member {
		if number, who := g.highest(); number > was.Number {
			return fmt.Errorf("%s goes by number %d, and the store knows of %d only: %s", who, number, was.Number, putBack)
		}
	}
	sent, lasts := now(), time.Duration(g.config.For)
	id, got, taken, err := g.store.acquire(ctx, r, g.seen, lasts)
	if err != nil || !taken {
		if id != 0 {
			again, cancel := context.WithTimeout(context.Background(), storeWait)
			defer cancel()
			g.store.release(again, id)
		}
		if err == nil {
			err = errors.New("another was faster")
		}
		return err
	}
	g.setID(id)
	g.seen = got
	g.term.begin(r.Number, sent, lasts)
	if err := g.keep(r.Number, r.Lead); err != nil {
		g.fence()
		return err
	}
	return nil
}

// putBack says what to do about a store that knows less than members do.
const putBack = "it was put back to an earlier state, so nobody takes over by it. docs/leases.md says how to go on"

// give hands the lease over: the program ends in order, which brings all that it has written to those that follow; then the lease is for the other.
func (g *guard) give(to lease.Name) error {
	g.look()
	switch r := g.seen.Record; {
	case to == g.kept.Lead:
		return nil // it leads already
	case g.term.held() == 0:
		return fmt.Errorf("%s does not lead", g.config.Member)
	case !g.seen.Known || r == nil:
		return errors.New("the lease store does not answer")
	case !slices.Contains(r.Sync, to):
		return fmt.Errorf("%s may lack writes that were acknowledged: %s may take over", to, lease.List(r.Sync))
	default:
		g.say(fmt.Sprintf("the lease is handed over to %s", to))
		g.mu.Lock()
		g.says.Leads = false
		g.mu.Unlock()
		g.endProgram(host.SignalByName(g.config.Stop), time.Duration(g.config.For))
		ctx, cancel := context.WithTimeout(context.Background(), storeWait)
		defer cancel()
		next := *r
		next.Heir = to
		_, err := g.store.write(ctx, next, g.seen)
		g.letGo("it is for " + string(to))
		return err
	}
}

// trusted checks who connects: a member, by a certificate of the field's authority.
func trusted(pool *x509.CertPool, s tls.ConnectionState) error {
	if len(s.PeerCertificates) == 0 {
		return errors.New("no certificate")
	}
	between := x509.NewCertPool()
	for _, c := range s.PeerCertificates[1:] {
		between.AddCert(c)
	}
	_, err := s.PeerCertificates[0].Verify(x509.VerifyOptions{Roots: pool, Intermediates: between, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}})
	return err
}
