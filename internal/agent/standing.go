package agent

import (
	goruntime "runtime"

	"crypto/rand"
	"encoding/hex"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host"
)

// memory is what the agent as a whole must not forget.
type memory struct {
	Agent    string `json:"agent"`              // identity, made once
	Term     uint64 `json:"term"`               // the highest seen
	Log      string `json:"log,omitempty"`      // the log whose controllers it obeys
	Mark     string `json:"mark,omitempty"`     // of the term
	Revision uint64 `json:"revision,omitempty"` // the highest of any order whose record is gone from the disk
	Boot     string `json:"boot,omitempty"`     // of the machine, when the newest life began
}

// randomName makes a name that nothing else has.
func randomName() (string, error) {
	id := make([]byte, 8)
	_, err := rand.Read(id)
	return hex.EncodeToString(id), err
}

// begin begins a life: reports are numbered anew, and the first of them is an account of all that the agent holds.
func (a *Agent) begin() error {
	life, err := randomName()
	if err != nil {
		return err
	}
	if a.reports, err = openReports(a.disk.reports(), life, a.memory.Agent); err != nil {
		return err
	}
	begun := order.Report{Kind: order.Begun, Rebooted: a.memory.Boot != "" && a.memory.Boot != host.BootOf()}
	a.memory.Boot = host.BootOf()
	if err := writeSafe(a.disk.memory(), a.memory); err != nil {
		return err
	}
	entries, err := os.ReadDir(a.disk.records())
	if err != nil {
		return host.DiskError(err)
	}
	for _, e := range entries {
		h := order.Holding{Member: field.MemberName(e.Name())}
		var o order.Order
		if err := a.disk.load(filepath.Join(a.disk.records(), e.Name(), orderFile), &o); err == nil {
			h.Revision, h.Want = o.Revision, o.Want
			a.taken = max(a.taken, o.Revision)
		} else {
			slog.Error("an order cannot be read; it is asked for again", "member", e.Name(), "error", err)
		}
		begun.Held = append(begun.Held, h)
	}
	operations, _ := os.ReadDir(a.disk.operations())
	for _, e := range operations {
		var o keptOperation
		if a.disk.load(filepath.Join(a.disk.operations(), e.Name()), &o) == nil {
			a.taken = max(a.taken, o.ID)
		}
	}
	a.taken = max(a.taken, a.memory.Revision)
	a.reports.add(begun)
	return nil
}

// standing says who the agent is, and how far it has come.
func (a *Agent) standing() order.Standing {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.standingNow()
}

// standingNow is standing for who holds the lock.
func (a *Agent) standingNow() order.Standing {
	a.reports.mu.Lock()
	defer a.reports.mu.Unlock()
	return order.Standing{Agent: a.id, Life: a.reports.life, Log: a.memory.Log, Term: a.memory.Term, Revision: a.taken, Acked: a.reports.acked, Told: a.party.Told(),
		Speaks: order.Speaks, Program: a.program, Arch: goruntime.GOARCH, Rules: a.rulesNow()}
}

// Hear decides whether a controller is obeyed. One whose log lacks what this agent was told, or has reported and had acknowledged, is not,
// until a person takes the field over with it. Then the agent ends and its successor gives a whole account.
func (a *Agent) Hear(c order.Claim) (again bool, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	lacks := a.lacks(c)
	if lacks != "" && !c.Force {
		return false, agentapi.Refuse(http.StatusPreconditionFailed, lacks)
	}
	// Where a person has taken the field over, each agent gives a whole account once.
	again = c.Force && (lacks != "" || c.Log != a.memory.Log || c.Term != a.memory.Term || c.Mark != a.memory.Mark)
	next := a.memory
	next.Log, next.Term, next.Mark = c.Log, c.Term, c.Mark
	if next != a.memory {
		if err := writeSafe(a.disk.memory(), next); err != nil {
			return false, agentapi.Refuse(http.StatusInsufficientStorage, err.Error())
		}
		a.memory = next
	}
	return again, nil
}

// lacks says what a controller's log lacks; nothing where it may be obeyed.
func (a *Agent) lacks(c order.Claim) string {
	now := a.standingNow()
	if why := c.Lacks(now); why != "" {
		return why
	}
	if a.memory.Mark != "" && c.Known != a.memory.Mark {
		return fmt.Sprintf("this log knows nothing of the controller of term %d that its agent has obeyed", now.Term)
	}
	return ""
}
