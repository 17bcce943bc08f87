package agent

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"time"

	"lanternfield/internal/host"
)

// How often the keeper of logs looks: for nodes at all, and, where an agent is away, at the logs of its members.
const (
	keeperLooks  = 100 * time.Millisecond
	keeperMinds  = 500 * time.Millisecond
	keeperGoesIn = 20 // looks in a row at which there is no node
)

// KeepLogs bounds the logs of members whose agents are away, on all nodes below a folder. Members outlive their agent and go on writing
// to a file; while the agent lives it cuts the file, and else this does. It ends when there are no nodes any more, or another one is here.
func KeepLogs(ctx context.Context, nodes, lockFile string) error {
	debug.SetGCPercent(20)
	lock, err := host.HoldLock(lockFile)
	if errors.Is(err, host.ErrStillAlive) {
		return nil
	}
	if err != nil {
		return err
	}
	defer lock.Close()
	held, err := lock.Stat()
	if err != nil {
		return err
	}
	none, minded, away := 0, time.Time{}, false
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(keeperLooks):
		}
		if now, err := os.Stat(lockFile); err == nil && !os.SameFile(held, now) {
			return nil // the field was made anew, with a keeper of its own
		}
		entries, err := os.ReadDir(nodes)
		if errors.Is(err, fs.ErrNotExist) && !exists(filepath.Dir(lockFile)) {
			if none++; none%keeperGoesIn == 0 && len(host.FoldersBelow(nodes)) == 0 {
				return nil
			}
			continue // moved away with all the rest, and waited for as long as agents and members are
		}
		if len(entries) == 0 {
			if none++; none >= keeperGoesIn {
				return nil
			}
			continue
		}
		none = 0
		if !away && time.Since(minded) < keeperMinds {
			continue
		}
		minded, away = time.Now(), false
		for _, e := range entries {
			if dir := filepath.Join(nodes, e.Name()); !agentAnswers(dir) {
				away = true
				cutLogs(dir)
			}
		}
	}
}

func exists(name string) bool {
	_, err := os.Stat(name)
	return err == nil
}

// agentAnswers tells whether the agent of a node lives.
func agentAnswers(nodeDir string) bool {
	var end host.Endpoint
	data, err := os.ReadFile(host.EndpointFile(nodeDir))
	return err == nil && json.Unmarshal(data, &end) == nil && host.Lives(end.PID, end.StartTime)
}

// cutLogs cuts the logs of a node's members.
func cutLogs(nodeDir string) {
	logs := layout{dir: nodeDir}.logs()
	entries, _ := os.ReadDir(logs)
	for _, e := range entries {
		if strings.HasSuffix(e.Name(), ".log") {
			rotate(filepath.Join(logs, e.Name()))
		}
	}
}
