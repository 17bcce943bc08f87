package agent

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"log/slog"
	"os"
	"slices"
	"sync"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/host"
)

// reportLog keeps numbered reports until they are acknowledged, in memory and in a file, so that neither a controller
// nor an agent that dies makes a hole in history.
type reportLog struct {
	mu     sync.Mutex
	name   string
	file   *os.File
	life   string // of which the numbers are
	last   uint64 // the number given last
	acked  uint64 // the number up to which those of this life were acknowledged
	kept   []order.Report
	size   int
	more   chan struct{} // closed when a report comes
	broken bool          // the file could not be written; said once
}

// numbered is the first line of the file: the life in which it was written, and the number that was given last before what follows.
type numbered struct {
	Life string `json:"life,omitempty"`
	Last uint64 `json:"last"`
}

// compactAt is the size of the file, in bytes, above which acknowledged reports are dropped from it.
const compactAt = 64 << 10

// openReports begins a life. What earlier lives have left unacknowledged is kept, with their names and numbers; where a file of an older
// version names no life, that of the given name is meant.
func openReports(name, life, nameless string) (*reportLog, error) {
	l := &reportLog{name: name, life: life, more: make(chan struct{})}
	data, err := os.Open(name)
	if err == nil {
		before := nameless
		lines := bufio.NewReader(data)
		for first := true; err == nil; first = false {
			var line []byte
			line, err = lines.ReadBytes('\n')
			if first {
				var n numbered
				if json.Unmarshal(line, &n) == nil {
					before = cmp.Or(n.Life, nameless)
				}
				continue
			}
			var r order.Report
			if json.Unmarshal(line, &r) == nil && r.Seq > 0 { // a line cut short by a crash is no report
				r.Life = cmp.Or(r.Life, before)
				l.kept = append(l.kept, r)
			}
		}
		data.Close()
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, host.DiskError(err)
	}
	return l, l.compact()
}

// compact writes the file anew with what is kept.
func (l *reportLog) compact() error {
	tmp := l.name + ".new"
	f, err := os.OpenFile(tmp, os.O_WRONLY|os.O_CREATE|os.O_TRUNC|os.O_APPEND, 0o600)
	if err != nil {
		return host.DiskError(err)
	}
	w := bufio.NewWriter(f)
	enc := json.NewEncoder(w)
	err = enc.Encode(numbered{l.life, l.last})
	for _, r := range l.kept {
		err = errors.Join(err, enc.Encode(r))
	}
	if err = errors.Join(err, w.Flush()); err == nil {
		err = os.Rename(tmp, l.name)
	}
	if err != nil {
		return host.DiskError(errors.Join(err, f.Close(), removeIfThere(tmp)))
	}
	if l.file != nil {
		l.file.Close()
	}
	l.file, l.size = f, 0
	return nil
}

// mostReports is how many reports are kept while no controller comes. Above that, reports are dropped that a later one of
// the same kind and member has overtaken; one report in their place says how many.
const mostReports = 4000

// condense drops what has been overtaken. What an order led to is never dropped: it is reported once.
func (l *reportLog) condense() {
	type about struct {
		member field.MemberName
		kind   order.ReportKind
	}
	newest := map[about]uint64{}
	for _, r := range l.kept {
		newest[about{r.Member, r.Kind}] = r.Seq
	}
	kept, dropped, last, place := []order.Report(nil), 0, order.Report{}, 0
	for _, r := range l.kept {
		switch {
		case r.Kind == order.Dropped:
			dropped += r.Attempt
		case newest[about{r.Member, r.Kind}] == r.Seq, r.Kind == order.Taken, r.Kind == order.Stopped, r.Kind == order.Removed,
			r.Kind == order.Done, r.Kind == order.Undone, r.Kind == order.Unclear, r.Kind == order.Begun:
			kept = append(kept, r)
			continue
		default:
			dropped++
		}
		last, place = r, len(kept)
	}
	if dropped > 0 {
		at := order.Report{Life: last.Life, Seq: last.Seq, At: last.At, Kind: order.Dropped, Attempt: dropped}
		kept = slices.Insert(kept, place, at)
	}
	l.kept = kept
	if err := l.compact(); err != nil {
		slog.Error("reports cannot be compacted", "error", err)
	}
}

// add gives the report its number and keeps it. A disk that is full costs no report as long as the agent lives.
func (l *reportLog) add(r order.Report) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.last++
	r.Life, r.Seq = l.life, l.last
	if r.At.IsZero() {
		r.At = time.Now()
	}
	line, err := json.Marshal(r)
	if err == nil {
		line = append(line, '\n')
		_, err = l.file.Write(line)
		l.size += len(line)
	}
	if err != nil && !l.broken {
		slog.Error("reports cannot be kept on disk", "error", err)
	}
	l.broken = err != nil
	l.kept = append(l.kept, r)
	if len(l.kept) > mostReports {
		l.condense()
	}
	close(l.more)
	l.more = make(chan struct{})
}

// heard gives how many of the kept reports, from the first on, are those up to that number of that life.
func (l *reportLog) heard(life string, seq uint64) int {
	for i := len(l.kept); i > 0; i-- {
		if r := l.kept[i-1]; r.Life == life && r.Seq <= seq {
			return i
		}
	}
	return 0
}

// acknowledge drops the reports up to that number of that life, and all of the lives before it.
func (l *reportLog) acknowledge(life string, seq uint64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if life == l.life {
		l.acked = max(l.acked, min(seq, l.last))
	}
	n := l.heard(life, seq)
	if n == 0 {
		return
	}
	l.kept = append([]order.Report(nil), l.kept[n:]...)
	if l.size > compactAt {
		if err := l.compact(); err != nil {
			slog.Error("reports cannot be compacted", "error", err)
		}
	}
}

// since gives the reports that come after that number of that life.
func (l *reportLog) since(life string, seq uint64) []order.Report {
	l.mu.Lock()
	defer l.mu.Unlock()
	return append([]order.Report(nil), l.kept[l.heard(life, seq):]...)
}

// await waits so long for a report that comes after that number of that life. It tells whether there is one.
func (l *reportLog) await(ctx context.Context, life string, seq uint64, most time.Duration) bool {
	timer := time.NewTimer(most)
	defer timer.Stop()
	for {
		l.mu.Lock()
		more, there := l.more, l.heard(life, seq) < len(l.kept)
		l.mu.Unlock()
		if there {
			return true
		}
		select {
		case <-more:
		case <-timer.C:
			return false
		case <-ctx.Done():
			return false
		}
	}
}
