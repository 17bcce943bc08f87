package agent

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/agent/runtime"
	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/journal"
	"lanternfield/internal/core/logline"
)

// Bounds of one search: how long it may take, how many lines of a member it gives, how many bytes are looked at in one piece, and how many of one line.
const (
	searchWithin = 5 * time.Second
	searchMost   = 5000
	searchBytes  = 16 << 20 // of lines that are found
	searchPiece  = 1 << 20
	searchLine   = 64 << 10
)

// search looks for lines of members, the newest first: a piece of each member's log in turn, until all is searched, enough is found or the time is over.
func (a *Agent) search(ctx context.Context, s agentapi.Search) (*agentapi.Found, error) {
	filter, err := s.Filter.Ready()
	if err != nil {
		return nil, err
	}
	if s.Within <= 0 || s.Within > searchWithin {
		s.Within = searchWithin
	}
	newest := s.Most > 0 // no more than the newest so many; else all, some at a time, and none is passed over
	if !newest || s.Most > searchMost {
		s.Most, newest = searchMost, newest && s.Most <= searchMost
	}
	over := time.Now().Add(s.Within)
	out := &agentapi.Found{Lines: map[field.MemberName][]logline.Line{}, Left: map[field.MemberName]int64{}}
	var all []*searched
	for _, name := range s.Members {
		a.mu.Lock()
		m := a.members[name]
		a.mu.Unlock()
		if m == nil {
			continue
		}
		x := &searched{m: m.member, s: s, newest: newest, filter: filter, must: literals(filter, name)}
		if err := x.open(s.Before); err != nil {
			return nil, fmt.Errorf("the lines of %s cannot be read: %w", name, err)
		}
		defer x.close()
		all = append(all, x)
	}
	found := 0
	for more := true; more; {
		more = false
		for _, x := range all {
			if ctx.Err() != nil || found > searchBytes || time.Now().After(over) && out.Read > 0 {
				more = false
				break
			}
			if x.at > x.least && len(x.lines) < s.Most {
				before := x.bytes
				out.Read += x.piece()
				found += x.bytes - before
				more = more || x.at > x.least && len(x.lines) < s.Most
			}
		}
	}
	for _, x := range all {
		if len(x.lines) > 0 {
			slices.SortStableFunc(x.lines, func(a, b logline.Line) int { return a.At.Compare(b.At) })
			out.Lines[x.m.name] = x.lines
		}
		if x.at > x.least {
			out.Left[x.m.name] = x.at
			out.Rest += x.at - x.least
		}
	}
	return out, ctx.Err()
}

// literals are the words without which a line of that member is not wanted.
func literals(f journal.Filter, name field.MemberName) [][]byte {
	var out [][]byte
	for _, word := range f.Literals() {
		if !strings.Contains(string(name), word) {
			out = append(out, []byte(word))
		}
	}
	return out
}

// searched is a member's log while it is searched, from its end to its beginning; what was cut off it before comes after that, at places below zero.
type searched struct {
	m      *member
	s      agentapi.Search
	filter journal.Filter
	must   [][]byte
	log    *os.File
	old    *os.File // nil where nothing was cut off
	at     int64    // all from there on is searched
	least  int64    // where it begins
	newest bool     // older lines than the newest so many are not wanted
	bytes  int      // of lines that were found
	lines  []logline.Line
}

func (x *searched) open(before map[field.MemberName]int64) (err error) {
	x.m.note(time.Now())
	size := int64(0)
	if x.log, err = os.OpenFile(x.m.logFile(), os.O_RDONLY|runtime.LogFlags, 0); err == nil {
		if info, err := x.log.Stat(); err == nil {
			size = info.Size()
		}
	} else if !os.IsNotExist(err) {
		return err
	}
	if x.old, err = os.OpenFile(x.m.logFile()+".1", os.O_RDONLY|runtime.LogFlags, 0); err == nil {
		if info, err := x.old.Stat(); err == nil {
			x.least = -info.Size()
		}
	}
	x.at = size
	if from, says := before[x.m.name]; says && from <= size { // else it has been cut meanwhile
		x.at = max(from, x.least)
	}
	return nil
}

func (x *searched) close() {
	for _, f := range []*os.File{x.log, x.old} {
		if f != nil {
			f.Close()
		}
	}
}

// piece searches one piece more, and gives how many bytes that were.
func (x *searched) piece() int64 {
	file, shift, floor := x.log, int64(0), int64(0)
	if x.at <= 0 {
		file, shift, floor = x.old, -x.least, x.least
	}
	from := max(x.at-searchPiece, floor)
	data := make([]byte, x.at-from)
	n, _ := file.ReadAt(data, from+shift)
	data = data[:n]
	if from > floor { // the line at the beginning belongs to the piece before
		i := bytes.IndexByte(data, '\n')
		if i < 0 || i+1 == len(data) { // and is longer than a piece: only its beginning is looked at
			read := x.at - from
			x.at = from
			return read
		}
		from += int64(i) + 1
		data = data[i+1:]
	}
	read := x.at - from
	if x.at = from; x.lacks(data) {
		return read
	}
	if x.take(data, from) && !x.s.Since.IsZero() { // all of it is from before
		x.at = x.least
	}
	return read
}

// lacks tells whether a word that each wanted line must have stands nowhere in a piece.
func (x *searched) lacks(data []byte) bool {
	if len(x.must) == 0 {
		return false
	}
	small := bytes.ToLower(data)
	return slices.ContainsFunc(x.must, func(word []byte) bool { return !bytes.Contains(small, word) })
}

// take looks at the lines of a piece, and tells whether all of them are from before the time that is asked for, by the last of them.
func (x *searched) take(data []byte, from int64) (older bool) {
	var found []logline.Line
	for begin := 0; begin < len(data); {
		end := begin + groupEnd(data[begin:])
		last := end == len(data)
		if last || !x.lacks(data[begin:end]) {
			lines := x.parse(data[begin:end], from+int64(begin))
			for _, l := range lines {
				if x.wants(&l) {
					found = append(found, l)
				}
			}
			if n := len(lines); last && n > 0 {
				older = lines[n-1].At.Before(x.s.Since)
			}
		}
		begin = end
	}
	if x.newest {
		found = found[max(0, len(found)-(x.s.Most-len(x.lines))):]
	}
	for _, l := range found {
		x.bytes += len(whole(l))
	}
	x.lines = append(found, x.lines...)
	return older
}

// groupEnd is where the first line ends with what may go on with it, as far as that can be told at a glance.
func groupEnd(data []byte) int {
	end, trace := 0, false
	for n := 0; end < len(data); n++ {
		raw := data[end:]
		if n > 0 && !bytes.HasPrefix(raw, []byte(" ")) && !bytes.HasPrefix(raw, []byte("\t")) && !bytes.HasPrefix(raw, []byte("Caused by")) &&
			(!trace || raw[0] == '{' || raw[0] == '[' || raw[0] >= '0' && raw[0] <= '9') {
			break
		}
		trace = trace || bytes.HasPrefix(raw, []byte("panic: ")) || bytes.HasPrefix(raw, []byte("goroutine ")) || bytes.HasPrefix(raw, []byte("Traceback "))
		i := bytes.IndexByte(raw, '\n')
		if i < 0 {
			return len(data)
		}
		end += i + 1
	}
	return end
}

// parse takes lines apart, each with what goes on with it; the first begins at that place.
func (x *searched) parse(data []byte, from int64) []logline.Line {
	var lines []logline.Line
	var goes logline.Grouper
	for raw := range bytes.Lines(data) {
		from += int64(len(raw))
		text := string(bytes.TrimRight(raw[:min(len(raw), searchLine)], "\r\n"))
		l := logline.Parse(text, time.Local)
		onward := goes.Goes(text, &l)
		if l.Text == "" {
			continue
		}
		if n := len(lines); onward && n > 0 {
			lines[n-1].More = append(lines[n-1].More, l.Text)
			continue
		}
		l.Dated(x.m.seen(max(from, 0)), time.Now())
		lines = append(lines, l)
	}
	return lines
}

func (x *searched) wants(l *logline.Line) bool {
	if l.At.Before(x.s.Since) || !x.s.Until.IsZero() && !l.At.Before(x.s.Until) {
		return false
	}
	return x.filter.Fits(&journal.Of{Level: l.Level, Member: x.m.name, Text: l.Text, More: l.More})
}
