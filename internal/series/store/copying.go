package store

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"time"
)

// Copy copies the files with points of a span of time into another folder, as they are: whole hours of points, whole days of means. One that is being written
// is copied as far as it goes.
func Copy(from, to string, begin, end time.Time) error {
	s := OpenToRead(from, Limits{})
	for _, g := range s.segments() {
		if !overlaps(g, begin, end) {
			continue
		}
		if err := os.MkdirAll(to, 0o700); err != nil {
			return err
		}
		if err := copyFile(filepath.Join(from, g.name), filepath.Join(to, g.name)); err != nil {
			return err
		}
	}
	return nil
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if errors.Is(err, os.ErrNotExist) {
		return nil // it has been packed meanwhile
	}
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}
