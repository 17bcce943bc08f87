package control

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"lanternfield/internal/core/field"
)

// How often it is looked whether a backup is due, and how soon one that failed is tried again.
const (
	backupLook  = 10 * time.Second
	backupAgain = 5 * time.Minute
)

// backing backs the field up as often as it says.
func (c *Controller) backing(ctx context.Context) {
	for {
		wait := backupLook
		s := c.current()
		if s.Deployed() && s.Field.Backup.To != "" {
			wait = max(time.Second, min(wait, s.Field.Backup.Every.Or(field.BackupEvery)/2))
			err := c.backUp(s.Field.Backup, time.Now())
			if c.backupSays(err); err != nil {
				wait = backupAgain
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
	}
}

// backUp writes a backup where one is due, and removes those that are more than are to stay.
func (c *Controller) backUp(b field.Backup, now time.Time) error {
	name := fieldName(c.folder)
	all := backups(b.To, name)
	if n := len(all); n > 0 && now.Sub(backupTime(name, all[n-1])) < b.Every.Or(field.BackupEvery) {
		return nil
	}
	if err := os.MkdirAll(b.To, 0o700); err != nil {
		return err
	}
	done, err := c.folder.Backup(filepath.Join(b.To, BackupName(name, now)))
	if err != nil {
		return err
	}
	slog.Info("the field is backed up", "file", done.File, "bytes", done.Bytes, "events", done.Events, "unread", done.Unread)
	all = append(all, done.File)
	for len(all) > cmp.Or(b.Keep, field.BackupKeep) {
		if err := os.Remove(all[0]); err != nil {
			return fmt.Errorf("an old backup cannot be removed: %w", err)
		}
		all = all[1:]
	}
	return nil
}

// backupTime reads when a backup was made out of its name.
func backupTime(name, file string) time.Time {
	text := strings.TrimSuffix(strings.TrimPrefix(filepath.Base(file), name+"-"), BackupEnding)
	at, _ := time.Parse("20060102T150405Z", text)
	return at
}

// backupSays has it told that backups fail, or do so no longer.
func (c *Controller) backupSays(err error) {
	says := ""
	if err != nil {
		says = fmt.Sprintf("the field is not backed up: %v", err)
		slog.Warn("the field is not backed up", "error", err)
	}
	c.mu.Lock()
	same := says == c.unbacked
	c.unbacked = says
	c.mu.Unlock()
	if !same {
		c.publish()
	}
}
