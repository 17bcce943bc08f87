package agent

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
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
	"lanternfield/internal/core/field"
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
// which holds it open goes on writing to it. What is written meanwhile is copied too, and a line after it says how much is kept nowhere. It tells
// whether it had to be cut.
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
	from := info.Size() - logKeep
	head := make([]byte, markMost)
	n, _ := f.ReadAt(head, from-1)
	if end := bytes.IndexByte(head[:n], '\n'); end >= 0 { // from where a line begins
		from += int64(end)
	}
	gone, kept := lostOf(name+".1"), from
	old, err := os.OpenFile(name+".1", os.O_WRONLY|os.O_CREATE|os.O_TRUNC|syscall.O_NOFOLLOW, 0o600)
	if err == nil {
		defer old.Close()
		kept, err = keepEnd(f, from, old)
	}
	size := info.Size()
	if now, err := f.Stat(); err == nil { // as late as can be
		size = now.Size()
	}
	cut = f.Truncate(0) == nil
	if err == nil {
		err = json.NewEncoder(old).Encode(gone.and(from+size-kept, time.Now()))
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		slog.Warn("log cannot be kept", "log", name, "error", err)
	}
	return cut
}

// keepEnd copies the end of a log, and what is written meanwhile. It gives up to where.
func keepEnd(log *os.File, from int64, to io.Writer) (at int64, err error) {
	at = from
	for at-from < 2*logKeep { // whoever floods it goes on writing
		var n int64
		n, err = io.Copy(to, io.NewSectionReader(log, at, 2*logKeep-(at-from)))
		if at += n; n == 0 || err != nil {
			break
		}
	}
	last := []byte{'\n'}
	_, _ = log.ReadAt(last, at-1)
	if err == nil && last[0] != '\n' {
		_, err = to.Write([]byte("\n"))
	}
	return at, err
}

// lost is what was cut off a log and is kept nowhere: a line after what is kept of it, as a program would write it.
type lost struct {
	Time    time.Time `json:"time"`
	Level   string    `json:"level"`
	Message string    `json:"msg"`
	Bytes   int64     `json:"bytes_lost"` // in all cuts together
	Times   int       `json:"times_cut"`
}

// lostOf reads that at the end of what was kept of a log.
func lostOf(old string) (l lost) {
	f, err := os.OpenFile(old, os.O_RDONLY|runtime.LogFlags, 0)
	if err != nil {
		return lost{}
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return lost{}
	}
	end := make([]byte, min(info.Size(), markMost))
	n, _ := f.ReadAt(end, info.Size()-int64(len(end)))
	line := bytes.TrimSuffix(end[:n], []byte("\n"))
	line = line[bytes.LastIndexByte(line, '\n')+1:]
	if json.Unmarshal(line, &l) != nil || l.Bytes < 0 || l.Times < 0 {
		return lost{}
	}
	return l
}

// and adds what was lost in one more cut.
func (l lost) and(bytes int64, at time.Time) lost {
	l.Time, l.Level, l.Bytes, l.Times = at.UTC(), "warning", l.Bytes+bytes, l.Times+1
	so := ""
	if l.Times > 1 {
		so = fmt.Sprintf(", %s in %d cuts so far", field.Bytes(l.Bytes), l.Times)
	}
	l.Message = fmt.Sprintf("this log was cut at 16 MiB: %s written before are kept nowhere%s", field.Bytes(bytes), so)
	return l
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
	log := &agentapi.Log{From: after, Next: after}
	add := adder{m: m, log: log, goes: m.goesOn(after)}
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
				add.add(part, rest)
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
				add.add(line, log.Next)
			}
			mid = false
		}
		m.goneOn(log.Next, add.goes)
		return log, nil
	}
	return log, nil
}

// goesOn gives how far the putting together of lines had come at a place of the log: whoever follows it reads on where it stopped.
func (m *member) goesOn(at int64) logline.Grouper {
	m.mu.Lock()
	defer m.mu.Unlock()
	if at > 0 && m.groupAt == at {
		return m.group
	}
	return logline.Grouper{}
}

func (m *member) goneOn(at int64, g logline.Grouper) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.groupAt, m.group = at, g
}

// adder puts lines together as they are read.
type adder struct {
	m    *member
	log  *agentapi.Log
	goes logline.Grouper
}

// add takes a line in, which ends at that place. One that goes on with the one before is put to it; where that one was read before, it says so.
func (d *adder) add(raw []byte, end int64) {
	text := strings.TrimRight(string(raw), "\r\n")
	l := logline.Parse(text, time.Local)
	goes := d.goes.Goes(text, &l)
	if l.Text == "" {
		return
	}
	if n := len(d.log.Lines); goes && n > 0 {
		d.log.Lines[n-1].More = append(d.log.Lines[n-1].More, l.Text)
		return
	}
	l.Goes = goes
	l.Dated(d.m.seen(end), time.Now())
	d.log.Lines = append(d.log.Lines, l)
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
