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
)

// reportLog keeps numbered reports until they are acknowledged, in memory and in a file, so that neither a controller
// nor an agent that dies makes a hole in history.
type reportLog struct {
	mu     sync.Mutex
	name   string
	file   *os.File
	last   uint64 // the number given last
	kept   []order.Report
	size   int
	more   chan struct{} // closed when a report comes
	broken bool          // the file could not be written; said once
}

// numbered is the first line of the file: the number given last when it was written.
type numbered struct {
	Last uint64 `json:"last"`
}

// compactAt is the size of the file, in bytes, above which acknowledged reports are dropped from it.
const compactAt = 64 << 10

func openReports(name string) (*reportLog, error) {
	l := &reportLog{name: name, more: make(chan struct{})}
	data, err := os.Open(name)
	if err == nil {
		lines := bufio.NewScanner(data)
		lines.Buffer(nil, 1<<20)
		for first := true; lines.Scan(); first = false {
			if first {
				var n numbered
				if json.Unmarshal(lines.Bytes(), &n) == nil {
					l.last = n.Last
				}
				continue
			}
			var r order.Report
			if json.Unmarshal(lines.Bytes(), &r) == nil && r.Seq > 0 { // a line cut short by a crash is no report
				l.kept = append(l.kept, r)
				l.last = max(l.last, r.Seq)
			}
		}
		data.Close()
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, diskError(err)
	}
	return l, l.compact()
}

// compact writes the file anew with what is kept.
func (l *reportLog) compact() error {
	tmp := l.name + ".new"
	f, err := os.OpenFile(tmp, os.O_WRONLY|os.O_CREATE|os.O_TRUNC|os.O_APPEND, 0o600)
	if err != nil {
		return diskError(err)
	}
	w := bufio.NewWriter(f)
	enc := json.NewEncoder(w)
	first := l.last
	if len(l.kept) > 0 {
		first = l.kept[0].Seq - 1
	}
	err = enc.Encode(numbered{first})
	for _, r := range l.kept {
		err = errors.Join(err, enc.Encode(r))
	}
	if err = errors.Join(err, w.Flush()); err == nil {
		err = os.Rename(tmp, l.name)
	}
	if err != nil {
		return diskError(errors.Join(err, f.Close(), removeIfThere(tmp)))
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

// thin drops what has been overtaken. What an order led to is never dropped: it is reported once.
func (l *reportLog) thin() {
	type about struct {
		member field.MemberName
		kind   order.ReportKind
	}
	newest := map[about]uint64{}
	for _, r := range l.kept {
		newest[about{r.Member, r.Kind}] = r.Seq
	}
	kept, dropped, last := []order.Report(nil), 0, order.Report{}
	for _, r := range l.kept {
		switch {
		case r.Kind == order.Dropped:
			dropped += r.Attempt
		case newest[about{r.Member, r.Kind}] == r.Seq, r.Kind == order.Taken, r.Kind == order.Stopped, r.Kind == order.Removed,
			r.Kind == order.Done, r.Kind == order.Undone, r.Kind == order.Unclear:
			kept = append(kept, r)
			continue
		default:
			dropped++
		}
		last = r
	}
	if dropped > 0 {
		kept = append(kept, order.Report{Seq: last.Seq, At: last.At, Kind: order.Dropped, Attempt: dropped})
		slices.SortFunc(kept, func(a, b order.Report) int { return cmp.Compare(a.Seq, b.Seq) })
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
	r.Seq = l.last
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
		l.thin()
	}
	close(l.more)
	l.more = make(chan struct{})
}

// acknowledge drops the reports up to that number.
func (l *reportLog) acknowledge(seq uint64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	n := 0
	for n < len(l.kept) && l.kept[n].Seq <= seq {
		n++
	}
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

// after gives the reports above that number, waiting for one until the context ends.
func (l *reportLog) after(ctx context.Context, seq uint64) []order.Report {
	for {
		l.mu.Lock()
		more := l.more
		var out []order.Report
		for _, r := range l.kept {
			if r.Seq > seq {
				out = append(out, r)
			}
		}
		l.mu.Unlock()
		if len(out) > 0 {
			return out
		}
		select {
		case <-more:
		case <-ctx.Done():
			return nil
		}
	}
}
