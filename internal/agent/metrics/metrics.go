// Package metrics reads what programs tell of themselves in the text format of Prometheus, or as OpenMetrics: of a page of any size only the series
// that are wanted, each summed up over its labels.
package metrics

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"strings"
	"time"

	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
)

// What is read of a page at most: so many bytes, so many lines of what is wanted, and so long a line.
const (
	MostBytes  = 64 << 20
	mostWanted = 20000
	mostLine   = 64 << 10
)

// Reading is what a page says of one name: a number as it is, or one that only rises.
type Reading struct {
	Value float64 // a gauge; of a counter or a histogram, what has come together so far
	Count float64 // of a histogram or a summary, how many there were
	Rises bool    // a counter: how fast it rises is what counts
	Means bool    // a histogram or a summary: the mean of what was added is what counts
}

// Read reads a page. Cut says what of it was left out, and why; empty where nothing was.
func Read(page io.Reader, wanted []string) (out map[string]Reading, cut string, err error) {
	want := map[string]bool{}
	for _, name := range wanted {
		want[name] = true
	}
	text, cut, err := sift(page, want)
	if err != nil {
		return nil, cut, err
	}
	parser := expfmt.NewTextParser(model.UTF8Validation)
	families, err := parser.TextToMetricFamilies(bytes.NewReader(text))
	if err != nil {
		return nil, cut, fmt.Errorf("its measures cannot be read: %w", err)
	}
	out = map[string]Reading{}
	for _, name := range wanted {
		family := families[name]
		if family == nil {
			if family = families[strings.TrimSuffix(name, "_total")]; family == nil {
				continue
			}
		}
		var r Reading
		any := false
		for _, m := range family.GetMetric() {
			value, count := math.NaN(), 0.0
			switch {
			case m.Gauge != nil:
				value = m.Gauge.GetValue()
			case m.Untyped != nil:
				value = m.Untyped.GetValue()
				r.Rises = r.Rises || strings.HasSuffix(name, "_total")
			case m.Counter != nil:
				value, r.Rises = m.Counter.GetValue(), true
			case m.Histogram != nil:
				value, count, r.Means = m.Histogram.GetSampleSum(), float64(m.Histogram.GetSampleCount()), true
			case m.Summary != nil:
				value, count, r.Means = m.Summary.GetSampleSum(), float64(m.Summary.GetSampleCount()), true
			}
			if math.IsNaN(value) || math.IsInf(value, 0) {
				continue
			}
			r.Value, r.Count, any = r.Value+value, r.Count+count, true
		}
		if any {
			out[name] = r
		}
	}
	return out, cut, nil
}

// sift keeps the lines that are about what is wanted.
func sift(page io.Reader, want map[string]bool) (text []byte, cut string, err error) {
	limited := &io.LimitedReader{R: page, N: MostBytes}
	in := bufio.NewReaderSize(limited, mostLine)
	var out bytes.Buffer
	kept, long := 0, 0
	for {
		line, err := in.ReadSlice('\n')
		switch {
		case errors.Is(err, bufio.ErrBufferFull): // nobody writes such a line; it is left out to its end
			long++
			for errors.Is(err, bufio.ErrBufferFull) {
				_, err = in.ReadSlice('\n')
			}
			line = nil
		case err != nil && !errors.Is(err, io.EOF):
			return nil, cut, fmt.Errorf("its measures cannot be read: %w", err)
		}
		if wantedLine(line, want) {
			if kept++; kept <= mostWanted {
				line = bytes.TrimRight(line, "\r\n")
				if i := bytes.Index(line, []byte(" # {")); i > 0 { // an exemplar of OpenMetrics
					line = line[:i]
				}
				out.Write(line)
				out.WriteByte('\n')
			}
		}
		if err != nil {
			break
		}
	}
	switch {
	case limited.N <= 0:
		cut = fmt.Sprintf("its page of measures is larger than %d MiB; what comes after that is not read", MostBytes>>20)
	case kept > mostWanted:
		cut = fmt.Sprintf("of %d series that are wanted, %d are read", kept, mostWanted)
	case long > 0:
		cut = fmt.Sprintf("%d lines of its measures are longer than %d KiB, and are not read", long, mostLine>>10)
	}
	return out.Bytes(), cut, nil
}

// suffixes are those of the series of histograms, summaries and counters.
var suffixes = []string{"", "_sum", "_count", "_bucket", "_total"}

// wantedLine tells whether a line is about something that is wanted.
func wantedLine(line []byte, want map[string]bool) bool {
	if rest, is := bytes.CutPrefix(line, []byte("# TYPE ")); is {
		line = rest
	} else if len(line) == 0 || line[0] == '#' {
		return false
	}
	end := bytes.IndexAny(line, "{ \t")
	if end <= 0 {
		return false
	}
	name := string(line[:end])
	for _, s := range suffixes {
		if base, ok := strings.CutSuffix(name, s); ok && (want[base] || want[base+"_total"]) && s != "_bucket" {
			return true
		}
	}
	return false
}

// Follower turns readings into numbers that can be drawn: gauges as they are, counters as how much they rise in a second, with resets handled,
// histograms as the mean of what was added.
type Follower struct {
	before map[string]Reading
	at     time.Time
}

// Take takes in what was read at a moment.
func (f *Follower) Take(at time.Time, now map[string]Reading) map[string]float64 {
	out := map[string]float64{}
	seconds := at.Sub(f.at).Seconds()
	for name, r := range now {
		was, known := f.before[name]
		if known && (r.Value < was.Value || r.Count < was.Count) && (r.Rises || r.Means) {
			was = Reading{} // it began anew
		}
		switch {
		case r.Means && known && r.Count > was.Count:
			out[name] = (r.Value - was.Value) / (r.Count - was.Count)
		case r.Means:
		case r.Rises && known && seconds > 0:
			out[name] = (r.Value - was.Value) / seconds
		case r.Rises:
		default:
			out[name] = r.Value
		}
	}
	f.before, f.at = now, at
	return out
}
