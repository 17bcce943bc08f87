package agent

import (
	"log/slog"
	"os"
	"path/filepath"

	"lanternfield/internal/core/order"
)

// noteData notes, once, that the member has data: it must never come back without.
func (m *member) noteData() {
	if !emptyDir(m.disk.data(m.name)) {
		if err := writeSafe(m.dataNote(), true); err != nil {
			slog.Error("that a member has data cannot be noted", "member", m.name, "error", err)
		}
	}
}

func (m *member) dataNote() string { return filepath.Join(m.disk.record(m.name), "had-data") }

func (m *member) dataLost() bool {
	_, err := os.Stat(m.dataNote())
	return err == nil && emptyDir(m.disk.data(m.name))
}

func emptyDir(name string) bool {
	entries, err := os.ReadDir(name)
	return err != nil || len(entries) == 0
}

// remove takes away what the member had on this node, but for data that is to be kept. It tells whether that is done.
func (m *member) remove(forced bool) bool {
	m.floater.lay(true)
	m.instance.Sweep(0)
	done := order.Report{Kind: order.Removed, Revision: m.order.Revision, Forced: forced}
	var err error
	if m.order.Keep {
		done.Bytes, done.Kept, err = m.disk.retainData(m.name)
	} else {
		err = os.RemoveAll(m.disk.aside(m.name))
	}
	if err != nil {
		slog.Error("member's data cannot be put aside", "member", m.name, "error", err)
		m.report(order.Report{Kind: order.StartFailed, Why: err.Error()})
		return false
	}
	if err := os.RemoveAll(m.disk.member(m.name)); err != nil {
		slog.Error("member cannot be removed", "member", m.name, "error", err)
		m.report(order.Report{Kind: order.StartFailed, Why: "its folder cannot be removed: " + err.Error()})
		return false
	}
	for _, log := range []string{m.logFile(), m.logFile() + ".1"} {
		if err := removeIfThere(log); err != nil {
			slog.Error("member's log cannot be removed", "member", m.name, "error", err)
		}
	}
	m.report(done)
	return true
}
