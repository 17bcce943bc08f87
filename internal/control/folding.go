package control

import (
	"encoding/json"
	"errors"
	"log/slog"
	"os"
	"sync/atomic"

	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog"
	"lanternfield/internal/eventlog/sqlite"
)

// wholeAtOnce is how many events are read at most, to find out whether they are as they were written, before a log is used. A longer one is
// read through afterwards.
const wholeAtOnce = 20000

// folder opens the log and its checkpoints to read.
func (f Folder) folder(progress func(done, of uint64)) (eventlog.Folder, func(), error) {
	log, err := sqlite.OpenToRead(f.events())
	if err != nil {
		return eventlog.Folder{}, nil, err
	}
	fold := eventlog.Folder{Log: log, Progress: progress}
	checkpoints, err := sqlite.OpenCheckpointsToRead(f.checkpoints())
	if err == nil {
		fold.Checkpoints = checkpoints
	}
	done := func() {
		log.Close()
		if checkpoints != nil {
			checkpoints.Close()
		}
	}
	if log.Last() <= wholeAtOnce && checkpoints != nil {
		if err := log.Whole(); err != nil {
			done()
			return fold, nil, err
		}
	}
	return fold, done, nil
}

// marks keeps checkpoints as the log goes on. Writing them holds nobody up.
type marks struct {
	log    *sqlite.Log
	name   string                             // of the file of the checkpoints, which is made when there is one to keep
	file   atomic.Pointer[sqlite.Checkpoints] // nil where none is kept yet, or can be
	marker *eventlog.Marker
	due    bool
	write  chan mark
	done   chan struct{}
}

type mark struct {
	checkpoint eventlog.Checkpoint
	tide       []Sample
}

// tideExtra is the name under which the tide is kept beside the checkpoints.
const tideExtra = "tide"

// foldToWrite folds the log for who is going to write it: with the tide, keeping checkpoints on the way.
func (f Folder) foldToWrite(log *sqlite.Log) (*state.State, timeline, *marks, error) {
	m := &marks{log: log, name: f.checkpoints(), write: make(chan mark, 1), done: make(chan struct{})}
	if _, err := os.Stat(m.name); err == nil {
		m.open()
	}
	go m.writing()
	fold := eventlog.Folder{Log: log, Progress: f.Progress}
	var t timeline
	if kept := m.file.Load(); kept != nil {
		if log.Last() <= wholeAtOnce {
			if err := log.Whole(); err != nil {
				return nil, t, m, err
			}
		}
		if t.samples = m.tide(fold); t.samples != nil {
			fold.Checkpoints = kept
		}
	}
	begun := false
	s, from, err := fold.Fold(func(s *state.State, e eventlog.Stored) {
		if !begun {
			m.marker, begun = eventlog.NewMarker(m.from(fold, e.Seq)), true
		}
		t.note(s, e.Event)
		if m.note(e); m.due {
			t.settle(s)
			m.take(s, t)
		}
	})
	if !begun {
		m.marker = eventlog.NewMarker(from)
	}
	if err == nil {
		t.settle(s)
	}
	return s, t, m, err
}

// open opens the file of the checkpoints, making it where there is none.
func (m *marks) open() {
	kept, err := sqlite.OpenCheckpoints(m.name)
	if err != nil {
		slog.Warn("no checkpoints can be kept; opening a long log takes its time", "error", err)
		return
	}
	m.file.Store(kept)
}

// from is the checkpoint after which the folding began, given the first event that was folded.
func (m *marks) from(fold eventlog.Folder, first uint64) eventlog.Checkpoint {
	if fold.Checkpoints == nil {
		return eventlog.Checkpoint{}
	}
	all, _ := fold.Checkpoints.List()
	from := eventlog.Checkpoint{}
	for _, c := range all {
		if c.Seq < first {
			from = c
		}
	}
	return from
}

// tide gives the samples that were kept with the newest checkpoint; nil where there are none.
func (m *marks) tide(fold eventlog.Folder) []Sample {
	kept := m.file.Load()
	all, err := kept.List()
	if err != nil || len(all) == 0 {
		return nil
	}
	last := all[len(all)-1]
	if sum, err := fold.Log.Sum(last.Seq); err != nil || sum != last.Sum {
		return nil
	}
	data, err := kept.Extra(tideExtra, last.Seq, last.Sum)
	samples := []Sample{}
	if err != nil || json.Unmarshal(data, &samples) != nil {
		return nil
	}
	return samples
}

// folder reads the log with the help of the checkpoints.
func (m *marks) folder() eventlog.Folder {
	fold := eventlog.Folder{Log: m.log}
	if kept := m.file.Load(); kept != nil {
		fold.Checkpoints = kept
	}
	return fold
}

// note takes in an event that was stored.
func (m *marks) note(e eventlog.Stored) { m.due = m.marker.Note(e) || m.due }

func (m *marks) isDue() bool { return m.due }

// take makes a checkpoint of a state, and has it written.
func (m *marks) take(s *state.State, t timeline) {
	m.due = false
	if m.file.Load() == nil {
		if m.open(); m.file.Load() == nil {
			return
		}
	}
	sum, err := m.log.Sum(m.marker.Last())
	if err == nil {
		var c eventlog.Checkpoint
		if c, err = m.marker.Take(s, sum); err == nil {
			m.write <- mark{c, t.samples}
			return
		}
	}
	slog.Warn("a checkpoint cannot be made", "error", err)
}

func (m *marks) writing() {
	defer close(m.done)
	for x := range m.write {
		data, err := json.Marshal(x.tide)
		if kept := m.file.Load(); err == nil {
			err = errors.Join(kept.Put(x.checkpoint), kept.PutExtra(tideExtra, x.checkpoint.Seq, x.checkpoint.Sum, data))
		}
		if err != nil {
			slog.Warn("a checkpoint cannot be kept", "error", err)
		}
	}
}

// fewMarked is how many events since the newest checkpoint are not worth another one as the log is closed.
const fewMarked = 256

// close keeps a last checkpoint.
func (m *marks) close(s *state.State, t timeline) {
	if m.marker.Since() > fewMarked {
		m.take(s, t)
	}
	m.drop()
}

// drop ends without one.
func (m *marks) drop() {
	close(m.write)
	<-m.done
	if kept := m.file.Load(); kept != nil {
		kept.Close()
	}
}

// Mark folds the log of a field that nobody holds, keeping checkpoints, so that whoever opens it next need not fold all of it.
func Mark(f Folder) error {
	lock, holder, err := f.take("mark")
	if err != nil {
		return err
	}
	if lock == nil {
		return &HeldError{Field: fieldName(f), Holder: *holder}
	}
	defer lock.Release()
	log, err := sqlite.Open(f.events())
	if err != nil {
		return err
	}
	s, t, m, err := f.foldToWrite(log)
	if err == nil {
		m.close(s, t)
	} else {
		m.drop()
	}
	return errors.Join(err, log.Close())
}
