package agent

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"slices"
	"strings"
	"syscall"
	"time"

	"lanternfield/internal/agent/runtime"
	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/logline"
)

func (m *member) logSize() int64 {
	if info, err := os.Stat(m.logFile()); err == nil {
		return info.Size()
	}
	return 0
}

// wrote is when its log grew last; zero where there is none.
func (m *member) wrote() time.Time {
	if info, err := os.Stat(m.logFile()); err == nil && info.Size() > 0 {
		return info.ModTime()
	}
	return time.Time{}
}

func (m *member) logFile() string { return m.disk.log(m.name) }

// lastLines are the last lines that this incarnation wrote, fit for a screen.
func (m *member) lastLines() []string {
	f, err := os.OpenFile(m.logFile(), os.O_RDONLY|runtime.LogFlags, 0)
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
		if l := logline.Parse(line, time.Local); l.Text != "" {
			text := l.Text
			if l.Level != "" && !strings.Contains(strings.ToLower(text), string(l.Level)) {
				text = string(l.Level) + ": " + text
			}
			lines = append(lines, shortened(text))
		}
		if len(lines) == 6 {
			break
		}
	}
	slices.Reverse(lines)
	return lines
}

// Logs are cut when they are larger than this; the newest part is kept beside.
const (
	logMost = 16 << 20
	logKeep = 4 << 20
)

// rotate cuts a log that has grown too large: its end is copied, the file itself is emptied in place, so that a program
// which holds it open goes on writing to it. It tells whether it had to be cut.
func rotate(name string) (cut bool) {
	f, err := os.OpenFile(name, os.O_RDWR|runtime.LogFlags, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || info.Size() < logMost {
		return false
	}
	old, err := os.OpenFile(name+".1", os.O_WRONLY|os.O_CREATE|os.O_TRUNC|syscall.O_NOFOLLOW, 0o600)
	if err == nil {
		_, err = io.Copy(old, io.NewSectionReader(f, info.Size()-logKeep, logKeep))
		err = errors.Join(err, old.Close())
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		slog.Warn("log cannot be kept", "log", name, "error", err)
	}
	return f.Truncate(0) == nil
}

// How much of a log is read at once, and how much of one line.
const (
	readMost = 256 << 10
	markMost = 1024
)

// mark says how long a log was at a moment, so that lines without a time of their own can be put into time.
type mark struct {
	at   time.Time
	size int64
}

// note remembers how long the log is now.
func (m *member) note(now time.Time) {
	size := m.logSize()
	m.mu.Lock()
	defer m.mu.Unlock()
	n := len(m.marks)
	if n > 0 && m.marks[n-1].size > size {
		m.marks, n = nil, 0 // it has been cut
	}
	if n > 0 && m.marks[n-1].size == size {
		return
	}
	if n == 0 { // what was there before this agent looked is as old as the file says
		if info, err := os.Stat(m.logFile()); err == nil {
			now = info.ModTime()
		}
	}
	if m.marks = append(m.marks, mark{now, size}); n >= markMost {
		m.marks = slices.Clone(m.marks[n/2:])
	}
}

// seen gives the time at which what stands at that place of the log was there at the latest.
func (m *member) seen(at int64) time.Time {
	m.mu.Lock()
	defer m.mu.Unlock()
	i, _ := slices.BinarySearchFunc(m.marks, at, func(k mark, at int64) int { return int(k.size - at) })
	if i < len(m.marks) {
		return m.marks[i].at.UTC()
	}
	return time.Now().UTC()
}

// readLog reads whole lines from that place on, or the last ones when after is negative, at most that many bytes of them.
func (m *member) readLog(after int64, most int) (*agentapi.Log, error) {
	m.note(time.Now())
	most = min(max(most, 4<<10), readMost)
	f, err := os.OpenFile(m.logFile(), os.O_RDONLY|runtime.LogFlags, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return &agentapi.Log{}, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	size := info.Size()
	mid := false // it begins in the middle of a line
	switch {
	case after < 0:
		after = max(0, size-int64(most))
		mid = after > 0
	case after > size:
		after = 0 // it has been cut
	}
	log := &agentapi.Log{Next: after}
	window := make([]byte, most)
	for log.Next < size {
		n, err := f.ReadAt(window, log.Next)
		if n == 0 {
			if err == io.EOF {
				err = nil
			}
			return log, err
		}
		part := window[:n]
		end := bytes.LastIndexByte(part, '\n')
		if end < 0 { // a line that is longer than the window: its head is shown, the rest is passed over
			rest, found := lineEnd(f, log.Next+int64(n), size)
			if !found {
				return log, nil // it may still grow
			}
			if !mid {
				m.add(log, part, rest)
				if n := len(log.Lines); n > 0 {
					log.Lines[n-1].Text = strings.TrimSuffix(log.Lines[n-1].Text, "…") + "…"
				}
			}
			mid, log.Next = false, rest
			continue
		}
		for _, line := range bytes.SplitAfter(part[:end+1], []byte{'\n'}) {
			if len(line) == 0 {
				continue
			}
			log.Next += int64(len(line))
			if !mid {
				m.add(log, line, log.Next)
			}
			mid = false
		}
		return log, nil
	}
	return log, nil
}

func (m *member) add(log *agentapi.Log, raw []byte, end int64) {
	l := logline.Parse(strings.TrimRight(string(raw), "\r\n"), time.Local)
	if l.Text == "" {
		return
	}
	if l.At.IsZero() {
		l.At, l.About = m.seen(end), true
	}
	log.Lines = append(log.Lines, l)
}

// lineEnd finds where the line ends that goes on at that place.
func lineEnd(f *os.File, from, size int64) (int64, bool) {
	chunk := make([]byte, 64<<10)
	for from < size {
		n, _ := f.ReadAt(chunk, from)
		if n == 0 {
			break
		}
		if i := bytes.IndexByte(chunk[:n], '\n'); i >= 0 {
			return from + int64(i) + 1, true
		}
		from += int64(n)
	}
	return 0, false
}
