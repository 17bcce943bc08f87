package control

import (
	"os"
	"time"

	"lanternfield/internal/core/snapshot"
)

// Release is what this program is, so that an older keeper can be asked to hand over to a newer one: later times are newer.
var Release = struct {
	Version string
	Built   time.Time
}{Version: "development"}

// Keeper is who keeps a field.
type Keeper struct {
	Holder
	Guests  []Guest   `json:"guests,omitempty"` // who is attached
	Stays   bool      `json:"stays,omitempty"`  // also when all is settled
	Version string    `json:"version,omitempty"`
	Built   time.Time `json:"built,omitzero"`
	Sealed  string    `json:"sealed,omitempty"` // why the keyring is not open
}

// Keeper says who this controller is, and who is attached to it.
func (c *Controller) Keeper() Keeper {
	k := Keeper{Holder: Holder{PID: os.Getpid(), Command: c.command, Since: c.since}, Guests: c.Guests(), Stays: c.stays.Load(), Version: Release.Version, Built: Release.Built}
	if c.sealed != nil {
		k.Sealed = c.sealed.Error()
	}
	return k
}

// Stay has others told that the controller goes on when all is settled.
func (c *Controller) Stay() { c.stays.Store(true) }

// withKeeper notes in a snapshot who keeps the field.
func (c *Controller) withKeeper(s *snapshot.Snapshot) {
	k := c.Keeper()
	s.Keeper = k.view()
}

func (k Keeper) view() *snapshot.KeeperView {
	v := &snapshot.KeeperView{PID: k.PID, Command: k.Command, Since: k.Since, Stays: k.Stays, Sealed: k.Sealed}
	for _, g := range k.Guests {
		v.Attached = append(v.Attached, g.Who)
	}
	return v
}
