// Package machine is what was found of a machine: what it is, what it offers, and what on it is in the way.
package machine

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"lanternfield/internal/core/field"
)

// Machine is what a machine tells of itself.
type Machine struct {
	At       time.Time   `json:"at"` // by its own clock
	System   string      `json:"system"`
	Kernel   string      `json:"kernel"`
	Arch     string      `json:"arch"` // as Go names it
	Virtual  string      `json:"virtual,omitempty"`
	CPUs     int         `json:"cpus"`
	CPU      string      `json:"cpu,omitempty"`
	Memory   field.Bytes `json:"memory"`
	Free     field.Bytes `json:"memory_free"`
	Disk     field.Bytes `json:"disk"` // of the disk on which what is ours lies or would lie
	DiskFree field.Bytes `json:"disk_free"`
	Root     bool        `json:"root"`    // whether members are run by root's rights
	Service  bool        `json:"systemd"` // whether systemd runs it

	Addresses []string `json:"addresses"` // each with the length of its network's prefix
	Listens   []Socket `json:"listens,omitempty"`
}

// InNetwork tells whether an address is in one of its networks.
func (m *Machine) InNetwork(address string) bool {
	a, err := netip.ParseAddr(address)
	return err == nil && slices.ContainsFunc(m.Addresses, func(own string) bool {
		p, err := netip.ParsePrefix(own)
		return err == nil && p.Bits() < p.Addr().BitLen() && p.Contains(a)
	})
}

// Size is what it offers.
func (m *Machine) Size() field.Size {
	return field.Size{CPU: float64(m.CPUs), Memory: m.Memory, Disk: m.Disk}
}

// Socket is an address and a port, and who listens there where that is known.
type Socket struct {
	Address string `json:"address"`
	Port    int    `json:"port"`
	PID     int    `json:"pid,omitempty"`
	Program string `json:"program,omitempty"`
	User    string `json:"user,omitempty"`
}

// Whose says who listens.
func (s Socket) Whose() string {
	switch {
	case s.Program == "":
		return "a process that cannot be seen"
	case s.User == "":
		return fmt.Sprintf("%s, process %d", s.Program, s.PID)
	}
	return fmt.Sprintf("%s of %s, process %d", s.Program, s.User, s.PID)
}
