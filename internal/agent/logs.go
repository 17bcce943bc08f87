package agent

import (
	"cmp"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

func (m *member) logSize() int64 {
	if info, err := os.Stat(m.logFile()); err == nil {
		return info.Size()
	}
	return 0
}

func (m *member) logFile() string { return filepath.Join(m.disk.member(m.name), "output.log") }

// lastLines are the last lines that this incarnation wrote, fit for a screen.
func (m *member) lastLines() []string {
	f, err := os.Open(m.logFile())
	if err != nil {
		return nil
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil
	}
	from := max(min(m.kept.LogFrom, info.Size()), info.Size()-4<<10)
	data, err := io.ReadAll(io.NewSectionReader(f, from, info.Size()-from))
	if err != nil {
		return nil
	}
	var lines []string
	for _, line := range slices.Backward(strings.Split(strings.TrimRight(string(data), "\n"), "\n")) {
		if line = clean(said(line)); line != "" {
			lines = append(lines, shortened(line))
		}
		if len(lines) == 6 {
			break
		}
	}
	slices.Reverse(lines)
	return lines
}

// said takes what a program says out of a log line that is JSON; other lines are left as they are.
func said(line string) string {
	var entry struct{ Level, Msg, Message, Error string }
	if !strings.HasPrefix(line, "{") || json.Unmarshal([]byte(line), &entry) != nil {
		return line
	}
	text := cmp.Or(entry.Msg, entry.Message)
	if text == "" {
		return line
	}
	for _, more := range []string{entry.Level, entry.Error} {
		switch {
		case more == "":
		case more == entry.Level:
			text = more + ": " + text
		default:
			text += ": " + more
		}
	}
	return text
}

// Logs are cut when they are larger than this; the newest part is kept beside.
const (
	logMost = 16 << 20
	logKeep = 4 << 20
)

// rotate cuts a log that has grown too large: its end is copied, the file itself is emptied in place, so that a program
// which holds it open goes on writing to it.
func (m *member) rotate() {
	name := m.logFile()
	info, err := os.Stat(name)
	if err != nil || info.Size() < logMost {
		return
	}
	f, err := os.Open(name)
	if err != nil {
		return
	}
	defer f.Close()
	old, err := os.OpenFile(name+".1", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o644)
	if err == nil {
		_, err = io.Copy(old, io.NewSectionReader(f, info.Size()-logKeep, logKeep))
		err = errors.Join(err, old.Close())
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		slog.Warn("log cannot be kept", "member", m.name, "error", err)
	}
	_ = os.Truncate(name, 0)
}
