package control

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/filter"
	"lanternfield/internal/core/machine"
	"lanternfield/internal/core/preflight"
	"lanternfield/internal/core/review"
	"lanternfield/internal/ground"
	"lanternfield/internal/ground/kind"
	"lanternfield/internal/host/packetfilter"
	"lanternfield/internal/inspect"
	"lanternfield/internal/secureshell"
)

// look reaches a node and asks it what it is and lacks. Ports that are to be free are listened at from then on.
func (p *flight) look(life context.Context, n *looked) {
	if p.reach(life, n); n.ask == nil { // what it is asked over lasts until the connections have been tried too
		return
	}
	ctx, cancel := context.WithTimeout(life, lookWithin)
	defer cancel()
	n.Pass(preflight.Reachable, preflight.Host)
	if n.Ground == kind.Local {
		n.Skip(preflight.HostKey, preflight.Login, preflight.Ports, preflight.Paths)
		n.needs.Ports = nil
	}
	r := inspect.Request{Folder: n.folder, Lookups: n.needs.Lookups}
	for _, port := range n.needs.Ports {
		r.Listen = append(r.Listen, machine.Socket{Address: port.At.Address, Port: port.At.Port})
	}
	began := time.Now()
	a, err := n.ask.Ask(ctx, inspect.Request{Folder: n.folder})
	took := time.Since(began)
	if err == nil {
		declared := n.declared.Size
		if n.Ground == kind.Local { // it is a share of this machine, whatever it says
			declared = field.Size{}
		}
		n.Judge(a.Machine, declared, a.Machine.At.Sub(began.Add(took/2)), took/2)
		r.Folder = ""
		a, err = n.ask.Ask(ctx, r)
	}
	if err != nil {
		n.Fail(preflight.Host, "it does not say what it is: "+err.Error(), "try again")
		n.ask.Close()
		n.ask = nil
		return
	}
	n.judgeLacks(a.Lacks)
	n.judgeFloating(ctx)
	n.judgePorts(a.Listens)
}

// judgeFloating notes which addresses the node could not have that one member of a role has at a time.
func (n *looked) judgeFloating(ctx context.Context) {
	for _, f := range n.needs.Floating {
		what := fmt.Sprintf("%s, which one of %s has at a time", f.Address, f.Role)
		if !n.Found.InNetwork(f.Address) {
			n.Fail(preflight.Host, fmt.Sprintf("%s, is in none of its networks: %s", what, strings.Join(n.Found.Addresses, ", ")), "take an address of the network that these hosts and their clients share")
			continue
		}
		if !f.Free {
			continue
		}
		a, err := n.ask.Ask(ctx, inspect.Request{Connect: []machine.Socket{{Address: f.Address, Port: 9}}}) // at which nobody has to listen
		if err == nil && (a.Connect[0].Why == "" || a.Connect[0].Refused) {
			n.Fail(preflight.Ports, what+", is somebody else's: a machine answers there", "take an address that nobody has, or end that")
		}
	}
}

// lackChecks are the checks that what a member lacks belongs to, with what to do where its reason does not say it.
var lackChecks = map[inspect.What]struct {
	check preflight.Check
	do    string
}{
	inspect.Program: {preflight.Programs, "install it there"},
	inspect.User:    {preflight.Users, "make that user there, or say another under `user:`"},
	inspect.Limit:   {preflight.Limits, ""},
	inspect.Kernel:  {preflight.Kernel, ""},
}

// judgeLacks notes what members would lack.
func (n *looked) judgeLacks(lacks []inspect.Lack) {
	said := map[string]bool{}
	for _, l := range lacks {
		if as := lackChecks[l.What]; !said[l.Why] {
			said[l.Why] = true
			if n.Ground == kind.Local { // nodes of this machine share it: what is done for one is done to all
				l.Step = nil
			}
			do := as.do
			if l.Step != nil {
				do = fmt.Sprintf("%s: `lanternfield nodes mend %s` does that, or M in the view of nodes", l.Step, n.Name)
			}
			n.FailMendable(as.check, fmt.Sprintf("%s: %s", l.Member, l.Why), do, l.Step)
		}
	}
	for _, as := range lackChecks {
		if len(n.needs.Lookups) == 0 {
			n.Skip(as.check)
		} else {
			n.Pass(as.check)
		}
	}
}

// judgePorts notes which ports are not free.
func (n *looked) judgePorts(listens []inspect.Outcome) {
	for i, o := range listens {
		port := n.needs.Ports[i]
		at := fmt.Sprintf("port %d of %s, %s of %s", port.At.Port, port.At.Address, port.Name, port.Member)
		switch {
		case o.Taken:
			n.Fail(preflight.Ports, fmt.Sprintf("%s, is taken by %s", at, o.Whose()), fmt.Sprintf("end that, or give %s another port", port.Member))
		case o.Why != "":
			n.Fail(preflight.Ports, fmt.Sprintf("%s, cannot be listened at: %s", at, o.Why), "correct the address or the port")
		}
	}
	switch {
	case n.Ground == kind.Local:
	case len(n.needs.Ports) == 0:
		n.Skip(preflight.Ports)
	default:
		n.Pass(preflight.Ports)
	}
}

// reach finds a way to ask a node: through its agent, where one runs; on this machine; or by SSH.
func (p *flight) reach(ctx context.Context, n *looked) {
	bound := p.state.Nodes[n.Name]
	n.Skip(preflight.Agent)
	if bound != nil && !bound.Released && bound.There() {
		n.Address, n.folder = bound.Address, bound.Dir
		delete(n.Cells, preflight.Agent)
		client, err := p.ground.Find(ctx, n.Name, bound.Binding())
		if err == nil {
			var conn io.ReadWriteCloser
			if conn, err = client.Inspect(ctx); err == nil {
				n.Pass(preflight.Agent)
				n.Skip(preflight.HostKey, preflight.Login) // its certificate says who it is
				n.ask = inspect.NewClient(conn)
				return
			}
		}
		if n.Ground == kind.Join {
			n.Fail(preflight.Reachable, err.Error(), "is the machine up, and the port of its agent open? Where the agent does not run, invite the machine again")
			return
		}
		if n.Ground != kind.SSH {
			n.Fail(preflight.Agent, err.Error(), "deploy or open the field: that starts it")
			return
		}
		if fault := p.hosts.Reach(ctx, []ground.Want{wanted(p.draft, n.declared, 0)})[0]; fault != nil {
			n.fault(fault)
			return
		}
		n.Pass(preflight.Reachable, preflight.HostKey, preflight.Login)
		n.Fail(preflight.Agent, err.Error(), "deploy or open the field: that starts it")
		return
	}
	var err error
	switch n.Ground {
	case kind.Local:
		n.folder = filepath.Join(p.folder.nodes(), string(n.Name))
		ours, theirs := net.Pipe()
		go func() {
			defer theirs.Close()
			_ = inspect.Serve(context.WithoutCancel(ctx), theirs)
		}()
		n.ask = inspect.NewClient(ours)
	case kind.SSH:
		if n.ask, n.folder, err = p.hosts.Inspect(ctx, wanted(p.draft, n.declared, 0)); err != nil {
			n.ask = nil
			n.fault(err)
		} else {
			n.Pass(preflight.HostKey, preflight.Login)
		}
	case kind.Join:
		n.Skip(preflight.HostKey, preflight.Login)
		n.Fail(preflight.Reachable, "no machine has joined as it yet", fmt.Sprintf("once it is deployed, `lanternfield invite --node %s`, or i in the view of nodes, prints what to run on it", n.Name))
	default:
		n.Skip(preflight.Checks...)
	}
}

// faultChecks are the checks at which a way to a host may fail, in their order.
var faultChecks = []preflight.Check{preflight.Reachable, preflight.HostKey, preflight.Login, preflight.Host}

var faultOf = map[secureshell.Kind]preflight.Check{secureshell.UnknownKey: preflight.HostKey, secureshell.ChangedKey: preflight.HostKey, secureshell.Login: preflight.Login,
	secureshell.Sudo: preflight.Login, secureshell.Failed: preflight.Host}

// fault notes why a host cannot be asked. What comes before that is well.
func (n *looked) fault(err error) {
	check, why, do := preflight.Reachable, err.Error(), ""
	var fault *secureshell.Fault
	if errors.As(err, &fault) {
		why, do = fault.Host+" "+fault.Why, fault.Do
		if c, known := faultOf[fault.Kind]; known {
			check = c
		}
	}
	for _, c := range faultChecks {
		if c == check {
			break
		}
		n.Pass(c)
	}
	n.Fail(check, why, do)
}

// paths tries the connections that members have to be able to open, each from where it would be opened. It gives how many were tried.
func (p *flight) paths(ctx context.Context, all []review.Path) (tried int) {
	by := map[field.NodeName][]review.Path{}
	asked := map[field.NodeName]*looked{}
	for _, n := range p.nodes {
		if n.ask != nil && n.Ground != kind.Local {
			asked[n.Name] = n
		}
	}
	open := map[field.NodeName]bool{}
	for _, path := range all {
		switch {
		case asked[path.From] == nil:
		case asked[path.To] == nil: // nobody listens there, and what fails is said of that node
			open[path.From] = true
		default:
			by[path.From] = append(by[path.From], path)
			tried++
		}
	}
	for _, n := range asked {
		for _, o := range n.needs.Outside {
			tried += len(o.At)
		}
	}
	p.each(func(n *looked) {
		if asked[n.Name] == nil {
			return
		}
		if len(by[n.Name]) == 0 && len(n.needs.Outside) == 0 && !open[n.Name] {
			n.Skip(preflight.Paths)
			return
		}
		p.tryPaths(ctx, n, by[n.Name])
		n.tryOutside(ctx)
		if !open[n.Name] {
			n.Pass(preflight.Paths)
		}
	})
	return tried
}

// tryOutside has a node connect to what its members call outside the field, whose names it has to know.
func (n *looked) tryOutside(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, lookWithin)
	defer cancel()
	for _, o := range n.needs.Outside {
		r := inspect.Request{}
		for _, at := range o.At {
			host, port, err := net.SplitHostPort(at)
			number, bad := strconv.Atoi(port)
			if err != nil || bad != nil {
				continue // the file is refused for it
			}
			r.Connect = append(r.Connect, machine.Socket{Address: host, Port: number})
		}
		a, err := n.ask.Ask(ctx, r)
		if err != nil {
			n.Fail(preflight.Paths, "it went away while connections were tried: "+err.Error(), "try again")
			return
		}
		reached, why := 0, []string{}
		for _, c := range a.Connect {
			if c.Why == "" {
				reached++
			} else {
				why = append(why, fmt.Sprintf("%s:%d: %s", c.Address, c.Port, c.Why))
			}
		}
		if reached < o.Need {
			n.Fail(preflight.Paths, fmt.Sprintf("%s on %s can connect to %d of %s, which is outside, and %d are needed: %s", o.Member, n.Name, reached, o.Role, o.Need, strings.Join(why, "; ")),
				"is it there, does the host know its name, and is it let through?")
		}
	}
}

// tryPaths has a node open the connections, and notes those that cannot be opened.
func (p *flight) tryPaths(ctx context.Context, n *looked, paths []review.Path) {
	ctx, cancel := context.WithTimeout(ctx, lookWithin)
	defer cancel()
	r := inspect.Request{}
	for _, path := range paths {
		r.Connect = append(r.Connect, machine.Socket{Address: path.At.Address, Port: path.At.Port})
	}
	a, err := n.ask.Ask(ctx, r)
	if err != nil {
		n.Fail(preflight.Paths, "it went away while connections were tried: "+err.Error(), "try again")
		return
	}
	asked := 0
	for i, o := range a.Connect {
		path := paths[i]
		if o.Why == "" {
			continue
		}
		do := fmt.Sprintf("open TCP %d from %s to %s (%s), on both hosts and whatever stands between them", path.At.Port, n.Address, path.At.Address, path.To)
		if o.Refused && !path.Comes {
			do = fmt.Sprintf("is %s running? If it is, %s", path.Members[1], do)
		}
		why := fmt.Sprintf("%s on %s cannot connect to %s on %s at %s:%d (%s): %s", path.Members[0], path.From, path.Members[1], path.To, path.At.Address,
			path.At.Port, path.Port, o.Why)
		if asked++; asked <= mostBlamed {
			rule, open, ours := p.blame(ctx, n, path)
			if ours { // it follows when the draft is carried out
				continue
			}
			if rule != "" {
				why, do = why+". "+rule, open
			}
		}
		n.Fail(preflight.Paths, why, do)
	}
}

// mostBlamed is of how many connections of a node it is looked which rule keeps them away.
const mostBlamed = 20

// blame finds the rule of a packet filter, on either machine, that keeps a connection away, and what would open it. Rules of others are named, and never touched;
// those of the field itself are told.
func (p *flight) blame(ctx context.Context, from *looked, path review.Path) (rule, open string, ours bool) {
	a, err := netip.ParseAddr(from.Address)
	b, err2 := netip.ParseAddr(path.At.Address)
	if err != nil || err2 != nil {
		return "", "", false
	}
	for _, at := range []field.NodeName{path.To, path.From} {
		i := slices.IndexFunc(p.nodes, func(n *looked) bool { return n.Name == at && n.ask != nil })
		if i < 0 {
			continue
		}
		said, err := p.nodes[i].ask.Ask(ctx, inspect.Request{Filter: []packetfilter.Conn{{From: a, To: b, Port: path.At.Port, Out: at == path.From}}})
		if err != nil || len(said.Filter) == 0 {
			continue
		}
		for _, x := range said.Filter[0] {
			if strings.HasPrefix(x.Where, "table inet "+filter.TableOf(p.draft.Name, at)+",") {
				return "", "", true
			}
			does := "blocks it"
			if !x.Sure {
				does = "may block it"
			}
			return fmt.Sprintf("The packet filter of %s %s: %s: %s", at, does, x.Where, x.Rule), fmt.Sprintf("as root on %s: %s; and make that persistent where the host keeps its rules", at, x.Open), false
		}
	}
	return "", "", false
}
