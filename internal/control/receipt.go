package control

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"lanternfield/internal/agent"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/store"
)

// Receipt says what was taken down, and what was found when it was looked for afterwards.
type Receipt struct {
	Field   string        `json:"field"`
	At      time.Time     `json:"at"`
	Members []ReceiptLine `json:"members"`
	Nodes   []ReceiptLine `json:"nodes"`
	Left    []string      `json:"left"` // what should be gone and is not; empty when all is well
}

// ReceiptLine is one thing that was made and is gone.
type ReceiptLine struct {
	Name    string         `json:"name"`
	Node    field.NodeName `json:"node,omitempty"`
	Address string         `json:"address,omitempty"`
	Ports   map[string]int `json:"ports,omitempty"`
	PIDs    []int          `json:"pids,omitempty"` // of all its processes
	Folder  string         `json:"folder"`
}

// WriteReceipt makes the receipt of a retired field out of its log, looks for each thing on this machine, and keeps the
// receipt in the state folder.
func WriteReceipt(f Folder) (*Receipt, error) {
	r := &Receipt{Field: fieldName(f), At: time.Now().UTC(), Members: []ReceiptLine{}, Nodes: []ReceiptLine{}, Left: []string{}}
	log, err := store.OpenToRead(f.events())
	if err != nil {
		return nil, err
	}
	defer log.Close()
	s := engine.NewState()
	pids := map[field.MemberName][]int{}
	err = log.Read(0, func(e store.Stored) error {
		if _, again := e.Fact.(engine.Accepted); again && s.Retired {
			clear(pids)
		}
		if started, ok := e.Fact.(engine.MemberStarted); ok && !started.Adopted {
			pids[started.Member] = append(pids[started.Member], started.PID)
		}
		engine.Apply(s, e.Event)
		return nil
	})
	if err != nil {
		return nil, err
	}
	for _, m := range engine.SortedMembers(s) {
		n := s.Nodes[m.Node]
		line := ReceiptLine{Name: string(m.Name), Node: m.Node, Address: n.Address, Ports: m.Ports, PIDs: pids[m.Name],
			Folder: filepath.Join(n.Dir, "members", string(m.Name))}
		r.Members = append(r.Members, line)
		r.look(line, string(m.Name))
	}
	for _, n := range engine.SortedNodes(s) {
		line := ReceiptLine{Name: string(n.Name), Address: n.Address, Folder: n.Dir}
		r.Nodes = append(r.Nodes, line)
		r.look(line, "the agent of "+string(n.Name))
		for _, pid := range agent.FindAll(n.Dir) {
			r.Left = append(r.Left, fmt.Sprintf("process %d, which was started on %s", pid, n.Name))
		}
	}
	_ = os.Remove(f.nodes()) // only if it is empty
	data, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(filepath.Join(f.Dir, "receipt.json"), append(data, '\n'), 0o600); err != nil {
		return nil, stateError(f.Dir, err)
	}
	return r, nil
}

func (r *Receipt) look(line ReceiptLine, whose string) {
	if _, err := os.Stat(line.Folder); !errors.Is(err, fs.ErrNotExist) {
		r.Left = append(r.Left, fmt.Sprintf("the folder %s of %s", line.Folder, whose))
	}
	for _, pid := range line.PIDs {
		env, _ := os.ReadFile(fmt.Sprintf("/proc/%d/environ", pid))
		if marked(env, line.Name) {
			r.Left = append(r.Left, fmt.Sprintf("process %d of %s", pid, whose))
		}
	}
}

func marked(env []byte, member string) bool {
	mark := []byte("LANTERNFIELD_MEMBER=" + member)
	return slices.ContainsFunc(bytes.Split(env, []byte{0}), func(v []byte) bool { return bytes.Equal(v, mark) })
}

// Forget removes what is kept of a field: its history and its receipt. The field must be retired, or never deployed.
func Forget(f Folder) error {
	if _, err := os.Stat(f.events()); err != nil {
		return fmt.Errorf("nothing is known of %s: %s holds no history", fieldName(f), f.Dir)
	}
	lock, holder, err := f.take("forget")
	if err != nil {
		return err
	}
	if lock == nil {
		return &HeldError{Field: fieldName(f), Holder: *holder}
	}
	defer lock.Close()
	s, err := readState(f)
	if err != nil && !errors.Is(err, ErrNothing) {
		return err
	}
	if err == nil && s.Deployed() {
		return fmt.Errorf("%s is deployed; retire it before it is forgotten", fieldName(f))
	}
	return os.RemoveAll(f.Dir)
}
