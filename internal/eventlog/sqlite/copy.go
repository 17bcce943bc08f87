package sqlite

import (
	"errors"
	"io/fs"
	"net/url"
	"os"

	"lanternfield/internal/eventlog"
)

// Copy writes the log of that name, as it is at one moment, into a new file, whoever writes it meanwhile. It gives the number of its last event.
// eventlog.ErrNone says that there is no log, an error of type *eventlog.Broken that it is not as it was written.
func Copy(name, to string) (last uint64, err error) {
	if _, err := os.Stat(name); errors.Is(err, fs.ErrNotExist) {
		return 0, eventlog.ErrNone
	}
	s, err := open(name, url.Values{"_pragma": {"busy_timeout(5000)", "cache_size(-1024)"}})
	if err != nil {
		return 0, err
	}
	made, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600) // what is beside it while it is written has its mode
	if err == nil {
		err = errors.Join(made.Chmod(0o600), made.Close())
	}
	if err != nil {
		return 0, errors.Join(err, s.Close())
	}
	_, err = s.db.Exec(`VACUUM INTO ?`, to)
	if err = errors.Join(err, s.Close()); err != nil {
		return 0, s.plain("copied", err)
	}
	return Check(to)
}

// Check reads the whole log of that name and tells whether it is as it was written; errors are as with Copy.
func Check(name string) (last uint64, err error) {
	s, err := OpenToRead(name)
	if err != nil {
		return 0, err
	}
	defer s.Close()
	return s.Last(), s.Whole()
}
