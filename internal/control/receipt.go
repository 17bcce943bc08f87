package control

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"
	"lanternfield/internal/eventlog/sqlite"
	"lanternfield/internal/ground"
	"lanternfield/internal/ground/hosts"
	"lanternfield/internal/ground/kind"
)

// Receipt says what was taken down, and what was found when it was looked for afterwards.
type Receipt struct {
	Field   string        `json:"field"`
	At      time.Time     `json:"at"`
	Members []ReceiptLine `json:"members"`
	Nodes   []ReceiptLine `json:"nodes"`
	Left    []string      `json:"left"` // what should be gone and is not; empty when all is well
	// Unconfirmed is what nobody could be asked about.
	Unconfirmed []string `json:"unconfirmed,omitempty"`
	// Stays is what was done on machines and was left there on purpose, with the reason.
	Stays []string `json:"stays,omitempty"`
}

// ReceiptLine is one thing that was made and is gone.
type ReceiptLine struct {
	Name    string         `json:"name"`
	Node    field.NodeName `json:"node,omitempty"`
	Address string         `json:"address,omitempty"`
	Ports   map[string]int `json:"ports,omitempty"`
	PIDs    []int          `json:"pids,omitempty"` // of all its processes
	Folder  string         `json:"folder"`
	Never   bool           `json:"never,omitempty"`  // it was asked for, and never there
	Itself  bool           `json:"itself,omitempty"` // it has joined by invitation: its own agent alone could look there
}

// WriteReceipt makes the receipt of a retired field out of its log, looks for each thing on this machine, and keeps the
// receipt in the state folder.
func WriteReceipt(f Folder) (*Receipt, error) {
	log, err := sqlite.OpenToRead(f.events())
	if err != nil {
		return nil, err
	}
	defer log.Close()
	l, err := ledgerOf(log)
	if err != nil {
		return nil, err
	}
	r := &Receipt{Field: fieldName(f), At: time.Now().UTC(), Members: []ReceiptLine{}, Nodes: []ReceiptLine{}, Left: []string{}}
	made := l.addMembers(r)
	nodes := l.addNodes(r)
	r.Stays = l.stays
	r.Stays = append(r.Stays, f.keysThatStay()...)
	for _, e := range l.state.Mended() {
		r.Unconfirmed = append(r.Unconfirmed, strings.TrimSuffix(fmt.Sprintf("%s: not undone there: %s: %s", e.Node, e.Entry, e.Owed), ": "))
	}
	g, err := f.ground(l.state)
	if err != nil {
		return nil, err
	}
	r.Left = append(r.Left, g.Left(context.Background(), nodes, made)...)
	_ = os.Remove(f.nodes()) // only if it is empty
	data, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(f.receipt(), append(data, '\n'), 0o600); err != nil {
		return nil, stateError(f.Dir, err)
	}
	return r, nil
}

// keysThatStay words which keys that were brought to hosts are still there.
func (f Folder) keysThatStay() []string {
	var out []string
	for _, node := range f.broughtKeys().Nodes() {
		var b hosts.Brought
		if f.broughtKeys().Read(node, &b) {
			out = append(out, fmt.Sprintf("%s: the key by which %s lets you in; `lanternfield nodes bring-key --take-back` takes it away", node, b.Host))
		}
	}
	return out
}

// ledger is what a log tells of what was made since the field was deployed, or deployed anew.
type ledger struct {
	state    *state.State
	planned  map[field.MemberName]place.Member
	pids     map[field.MemberName][]int
	accounts map[field.NodeName]state.NodeAccounted
	retired  bool
	stays    []string
}

func ledgerOf(log eventlog.Reader) (*ledger, error) {
	l := &ledger{state: state.NewState(), planned: map[field.MemberName]place.Member{}, pids: map[field.MemberName][]int{}, accounts: map[field.NodeName]state.NodeAccounted{}}
	begin, _ := log.Begin()
	err := log.Read(0, func(e eventlog.Stored) error {
		l.note(e.Fact)
		if e.Seq > begin { // what is before it is folded in the event that stands for it
			state.Apply(l.state, e.Event)
		}
		return nil
	})
	return l, err
}

func (l *ledger) note(fact state.Fact) {
	switch f := fact.(type) {
	case state.FieldRetired:
		l.retired = true
	case state.MemberPlanned:
		l.planned[f.Name] = f.Member
	case state.MemberStarted:
		if !f.Adopted {
			l.pids[f.Member] = append(l.pids[f.Member], f.PID)
		}
	case state.MendingUndone:
		if f.Stays != "" {
			l.stays = append(l.stays, fmt.Sprintf("%s: %s", f.Node, f.Stays))
		}
	case state.NodeAccounted:
		if before, given := l.accounts[f.Node]; !given || before.Unconfirmed != "" { // what was once confirmed stays so
			l.accounts[f.Node] = f
		}
	case state.Accepted:
		if l.retired {
			l.retired, l.stays = false, nil
			clear(l.pids)
			clear(l.accounts)
			clear(l.planned)
		}
		for name := range f.Bound {
			delete(l.accounts, name)
		}
	}
}

// addMembers writes all members that there ever were into a receipt, and gives what a ground is to look for.
func (l *ledger) addMembers(r *Receipt) []ground.Made {
	var made []ground.Made
	for _, m := range slices.SortedFunc(maps.Values(l.planned), func(a, b place.Member) int {
		return cmp.Or(cmp.Compare(a.Role, b.Role), cmp.Compare(a.Name.Number(), b.Name.Number()))
	}) {
		n := l.state.Nodes[m.Node]
		line := ReceiptLine{Name: string(m.Name), Node: m.Node, Address: n.Address, Ports: m.Ports, PIDs: l.pids[m.Name],
			Folder: filepath.Join(n.Dir, "members", string(m.Name)), Never: len(l.pids[m.Name]) == 0}
		r.Members = append(r.Members, line)
		made = append(made, ground.Made{Member: m.Name, Node: m.Node, Folder: line.Folder, PIDs: line.PIDs})
	}
	return made
}

// addNodes writes all nodes into a receipt, with what their agents did not confirm, and gives where they were.
func (l *ledger) addNodes(r *Receipt) ground.Bindings {
	nodes := ground.Bindings{}
	for _, n := range state.SortedNodes(l.state) {
		if !n.Lost { // nobody will answer for it
			nodes[n.Name] = n.Binding()
		}
		switch account, given := l.accounts[n.Name]; {
		case !n.There():
		case !given:
			r.Unconfirmed = append(r.Unconfirmed, fmt.Sprintf("%s: its agent gave no account before it ended", n.Name))
		case account.Unconfirmed != "":
			r.Unconfirmed = append(r.Unconfirmed, fmt.Sprintf("%s: %s", n.Name, account.Unconfirmed))
		case len(account.Left) > 0:
			r.Unconfirmed = append(r.Unconfirmed, fmt.Sprintf("%s: its agent still held %s when it ended", n.Name, strings.Join(account.Left, ", ")))
		}
		r.Nodes = append(r.Nodes, ReceiptLine{Name: string(n.Name), Address: n.Address, Folder: n.Dir, Never: !n.There(), Itself: n.There() && n.Kind == kind.Join})
	}
	return nodes
}

// Forget removes what is kept of a field: its history and its receipt. The field must be retired, or never deployed.
func Forget(f Folder) error {
	if _, err := os.Stat(f.events()); err != nil {
		return fmt.Errorf("nothing is known of %s: %s holds no history", fieldName(f), f.Dir)
	}
	lock, holder, err := f.take("forget")
	for until := time.Now().Add(5 * time.Second); err == nil && lock == nil && time.Now().Before(until); { // its holder may just be ending
		time.Sleep(20 * time.Millisecond)
		lock, holder, err = f.take("forget")
	}
	if err != nil {
		return err
	}
	if lock == nil {
		return &HeldError{Field: fieldName(f), Holder: *holder, Answers: f.answers(context.Background())}
	}
	defer lock.Release()
	s, err := readState(f)
	if err != nil && !errors.Is(err, ErrNothing) {
		return err
	}
	if err == nil && s.Deployed() {
		return fmt.Errorf("%s is deployed; retire it before it is forgotten", fieldName(f))
	}
	return os.RemoveAll(f.Dir)
}
