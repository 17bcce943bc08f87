package control

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"filippo.io/age"

	"lanternfield/internal/backup"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog/sqlite"
	"lanternfield/internal/host"
	"lanternfield/internal/identity"
	"lanternfield/internal/keyring"
)

// BackedUp is a backup that was written.
type BackedUp struct {
	File   string    `json:"file"`
	Made   time.Time `json:"made"`
	Bytes  int64     `json:"bytes"`
	Events uint64    `json:"events"`
	// Unread says why it could not be opened again to be read; empty where it was, and is as it should be.
	Unread string `json:"unread,omitempty"`
}

// BackupEnding is how the names of backups end.
const BackupEnding = ".backup.age"

// Backup writes what a field's history, keys and secrets are into one sealed file that is not there yet, and reads it again. Whoever keeps the field goes
// on meanwhile; nothing has to be unsealed.
func (f Folder) Backup(out string) (*BackedUp, error) {
	done, err := f.backUpTo(out)
	if err != nil {
		return nil, err
	}
	if done.Unread, err = f.readBackup(out, done.Events); err != nil {
		return nil, errors.Join(fmt.Errorf("the backup %s was written and is not as it should be: %w", out, err), os.Remove(out))
	}
	return done, nil
}

// backUpTo writes a backup.
func (f Folder) backUpTo(out string) (*BackedUp, error) {
	to, err := keyring.For(f.own())
	if errors.Is(err, keyring.ErrNone) {
		return nil, fmt.Errorf("%s is not deployed, so there is nothing to back up", fieldName(f))
	}
	if err != nil {
		return nil, err
	}
	if _, err := os.Lstat(out); err == nil {
		return nil, fmt.Errorf("%s is there already, and is left as it is; name another file", out)
	}
	f.clearBackups()
	dir, err := os.MkdirTemp(f.own(), "backup-")
	if err != nil {
		return nil, stateError(f.Dir, err)
	}
	defer os.RemoveAll(dir)
	l := backup.List{Head: backup.Head{Field: fieldName(f), Made: time.Now().UTC(), For: to.String(), Version: Release.Version}}
	copied := filepath.Join(dir, "events.db")
	if l.Events, err = sqlite.Copy(f.events(), copied); err != nil {
		return nil, err
	}
	files := []backup.File{{Name: "events.db", From: copied}}
	for _, name := range []string{keyring.File, keyring.PassphraseFile, filepath.Base(f.watch()), filepath.Base(f.receipt())} { // after the log: they may know more than it, not less
		from := filepath.Join(f.own(), name)
		data, err := os.ReadFile(from)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, name), data, 0o600)
		}
		if err != nil {
			return nil, err
		}
		if name == keyring.PassphraseFile {
			l.Identity = string(data)
		}
		files = append(files, backup.File{Name: name, From: filepath.Join(dir, name)})
	}
	if err := writeBackup(out, l, to, files); err != nil {
		return nil, fmt.Errorf("the backup cannot be written: %w", err)
	}
	done := &BackedUp{File: out, Made: l.Made, Events: l.Events}
	if info, err := os.Stat(out); err == nil {
		done.Bytes = info.Size()
	}
	return done, nil
}

// clearBackups removes what a backup that was killed has left in the field's own folder, and no other is at work on.
func (f Folder) clearBackups() {
	left, _ := filepath.Glob(filepath.Join(f.own(), "backup-*"))
	for _, dir := range left {
		if info, err := os.Stat(dir); err == nil && info.IsDir() && time.Since(info.ModTime()) > time.Hour {
			_ = os.RemoveAll(dir)
		}
	}
}

// writeBackup writes a backup for its owner only; it is there whole, on the disk, or not at all.
func writeBackup(out string, l backup.List, to age.Recipient, files []backup.File) error {
	file, err := os.OpenFile(out+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	err = backup.Write(file, l, to, files)
	if err = errors.Join(err, file.Sync(), file.Close()); err == nil {
		err = os.Rename(file.Name(), out)
	}
	if err != nil {
		return errors.Join(err, os.Remove(file.Name()))
	}
	dir, err := os.Open(filepath.Dir(out))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

// readBackup opens a backup that was just written and reads all of it. Unread says why it cannot be opened here.
func (f Folder) readBackup(name string, events uint64) (unread string, err error) {
	ids, _, _ := f.identities()
	if _, sealed := f.opened(); sealed != nil {
		return "the keyring is sealed here", nil
	}
	dir, err := os.MkdirTemp(f.own(), "backup-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(dir)
	file, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer file.Close()
	h, rest, err := backup.ReadHead(file)
	if err == nil {
		_, err = backup.Extract(rest, h, dir, ages(ids)...)
	}
	if err != nil {
		return "", err
	}
	last, err := sqlite.Check(filepath.Join(dir, "events.db"))
	if err == nil && last != events {
		err = fmt.Errorf("its log ends at event %d, and should at %d", last, events)
	}
	return "", err
}

func ages(ids []*age.X25519Identity) []age.Identity {
	var out []age.Identity
	for _, id := range ids {
		out = append(out, id)
	}
	return out
}

// Restored is a field whose state was put back.
type Restored struct {
	Field   string    `json:"field"`
	Folder  string    `json:"folder"`
	Made    time.Time `json:"made"`
	Events  uint64    `json:"events"`
	Last    time.Time `json:"last,omitzero"` // when the last of them happened
	Members int       `json:"members"`       // that were there then
	Nodes   int       `json:"nodes"`
	Retired bool      `json:"retired,omitempty"`
}

// Restore puts a field's history, keys and secrets from a backup into a state folder in which there is nothing of the field. Passphrase asks a person, where
// one opens it; nil where nobody can be asked.
func Restore(root, name string, passphrase func(why string) (string, error)) (*Restored, error) {
	file, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	h, rest, err := backup.ReadHead(file)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if !field.NamePattern.MatchString(h.Field) {
		return nil, fmt.Errorf("%s: it is damaged: %q cannot be a field's name", name, h.Field)
	}
	f := FolderOf(root, h.Field)
	if _, err := os.Lstat(f.own()); err == nil {
		return nil, fmt.Errorf("there is something of %s already, in %s: move that away, or name another state folder with --state; nothing has been changed", h.Field, f.own())
	}
	ids, _, missing := f.identities()
	if h.Identity != "" && passphrase != nil {
		said, err := passphrase(fmt.Sprintf("The backup of %s of %s is sealed. Its passphrase: ", h.Field, h.Made.Local().Format("2 Jan 2006 15:04")))
		if err != nil {
			return nil, err
		}
		id, err := keyring.Opened(h.Identity, said)
		if err != nil {
			return nil, err
		}
		ids = append(ids, id)
	}
	if len(ids) == 0 {
		return nil, errors.Join(fmt.Errorf("%s is sealed for %s, and no key is at hand: put the owner's key back, or name it with %s", name, h.For, keyring.OwnerVariable), missing)
	}
	if err := os.MkdirAll(root, 0o711); err != nil {
		return nil, stateError(root, err)
	}
	dir, err := os.MkdirTemp(root, ".restoring-")
	if err != nil {
		return nil, stateError(root, err)
	}
	defer os.RemoveAll(dir)
	there := Folder{Dir: filepath.Join(dir, h.Field)}
	if err := os.MkdirAll(there.own(), 0o700); err != nil {
		return nil, err
	}
	l, err := backup.Extract(rest, h, there.own(), ages(ids)...)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if _, err := sqlite.Check(there.events()); err != nil {
		return nil, err
	}
	s, err := readState(there)
	if err != nil {
		return nil, err
	}
	out := &Restored{Field: h.Field, Folder: f.Dir, Made: l.Made, Events: l.Events, Retired: s.Retired}
	if entries, err := LookJournal(there, Range{Last: 1}); err == nil && len(entries) > 0 {
		out.Last = entries[0].At
	}
	for _, m := range s.Members {
		if m.Phase != state.Gone && !s.Retired {
			out.Members++
		}
	}
	for _, n := range s.Nodes {
		if !n.Released && !s.Retired {
			out.Nodes++
		}
	}
	if err := os.MkdirAll(f.Dir, 0o711); err != nil {
		return nil, stateError(f.Dir, err)
	}
	// An invitation that is valid in the copy may have been used, or revoked, since.
	if err := identity.WriteSynced(there.restored(), []byte(h.Made.UTC().Format(time.RFC3339)+"\n")); err != nil {
		return nil, stateError(f.Dir, err)
	}
	if err := errors.Join(os.Chmod(f.Dir, 0o711), os.Rename(there.own(), f.own())); err != nil {
		return nil, stateError(f.Dir, err)
	}
	return out, nil
}

// CopyOf finds the newest copy of a field's state that agents keep, in the nodes' folders of a state folder.
func CopyOf(root, name string) (file string, made time.Time, err error) {
	f := FolderOf(root, name)
	all, _ := filepath.Glob(filepath.Join(f.nodes(), "*"))
	for _, dir := range all {
		copied := host.CopyFile(dir)
		h, failed := headOf(copied)
		switch {
		case errors.Is(failed, fs.ErrNotExist):
		case failed != nil:
			err = errors.Join(err, fmt.Errorf("%s: %w", copied, failed))
		case h.Field == name && h.Made.After(made):
			file, made = copied, h.Made
		}
	}
	if file == "" && err == nil {
		err = fmt.Errorf("no node of %s in %s has a copy of its state", name, f.nodes())
	}
	if file != "" {
		err = nil
	}
	return file, made, err
}

func headOf(name string) (backup.Head, error) {
	file, err := os.Open(name)
	if err != nil {
		return backup.Head{}, err
	}
	defer file.Close()
	h, _, err := backup.ReadHead(file)
	return h, err
}

// backups lists a field's backups in a folder, oldest first: names have the time in them.
func backups(dir, field string) []string {
	names, _ := filepath.Glob(filepath.Join(dir, field+"-[0-9]*"+BackupEnding))
	return names
}

// BackupName is the name of a backup that is made at that time.
func BackupName(field string, at time.Time) string {
	return field + "-" + at.UTC().Format("20060102T150405Z") + BackupEnding
}
