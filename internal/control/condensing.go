package control

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/eventlog/sqlite"
)

// condenseEvery is how often it is looked whether detail is old enough to be condensed.
const condenseEvery = time.Hour

// condensing condenses old detail now and then, a checkpoint at a time, so that nobody waits for long.
func (c *Controller) condensing(ctx context.Context) {
	for {
		if f := c.current().Field; f != nil {
			if err := c.marks.condense(ctx, f.History); err != nil {
				slog.Warn("old detail cannot be condensed", "error", err)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(condenseEvery):
		}
	}
}

func (m *marks) condense(ctx context.Context, keep field.History) error {
	kept := m.file.Load()
	if kept == nil {
		return nil
	}
	return condense(ctx, m.log, kept, keep, time.Now())
}

// condense condenses what is older than is to be kept, and more than is to be kept.
func condense(ctx context.Context, log *sqlite.Log, checkpoints *sqlite.Checkpoints, keep field.History, now time.Time) error {
	oldest := now.Add(-keep.Detail.Or(field.HistoryDetail))
	most := uint64(field.HistoryEvents)
	if keep.Events > 0 {
		most = uint64(keep.Events)
	}
	all, err := checkpoints.List()
	if err != nil {
		return err
	}
	begin, _ := log.Begin()
	done := false
	for _, c := range all {
		tooMany := log.Last()-min(begin, log.Last()) > most && c.Seq+most*3/4 <= log.Last() // below the bound, so that it is not at it again at once
		if c.Seq <= begin+1 || !c.Newest.Before(oldest) && !tooMany {
			continue
		}
		if ctx.Err() != nil {
			return nil
		}
		if c.State, err = checkpoints.State(c.Seq); err != nil {
			return err
		}
		if sum, err := log.Sum(c.Seq); err != nil || sum != c.Sum {
			return err
		}
		if err := log.Condense(c); err != nil && !errors.Is(err, sqlite.ErrStays) {
			return err
		} else if err == nil {
			done = true
		}
	}
	if !done {
		return nil
	}
	return log.DropSpecs()
}
