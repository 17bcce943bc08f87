package agent

import (
	"errors"
	"io/fs"
	"log/slog"
	"os"
	"time"
)

// floodBeat is how often an agent looks at its logs after it had to cut one.
const floodBeat = 100 * time.Millisecond

// cutLogs cuts logs that have grown too large. It tells whether there was one.
func (a *Agent) cutLogs() (cut bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, h := range a.members {
		cut = rotate(h.logFile()) || cut
	}
	return cut
}

// chores looks after the agent's folder. Where it has been moved or unmounted, nothing is stopped for that: it is said once, and the
// folder is waited for.
func (a *Agent) chores() {
	_, err := os.Stat(a.disk.own())
	gone := errors.Is(err, fs.ErrNotExist)
	if gone == a.adrift {
		return
	}
	a.adrift = gone
	if gone {
		slog.Error("the agent's folder is gone; its members go on, and it waits for the folder to come back", "folder", a.disk.dir)
	} else {
		slog.Info("the agent's folder is back", "folder", a.disk.dir)
	}
}
