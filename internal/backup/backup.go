// Package backup is a field's state as one sealed file: a head in the clear, that says of what it is and for whom, and after it a compressed tar that is
// encrypted with age (age-encryption.org/v1). What is in it is checked against a list of checksums when it is read.
package backup

import (
	"archive/tar"
	"bufio"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"filippo.io/age"
)

const first = "lanternfield backup 1\n"

// The limits of what is read.
const (
	mostHead  = 64 << 10
	mostBytes = 64 << 30 // of a file in it
)

// Head says of what a backup is.
type Head struct {
	Field    string    `json:"field"`
	Made     time.Time `json:"made"`
	For      string    `json:"for"`                // the age recipient
	Identity string    `json:"identity,omitempty"` // the identity of that, which a passphrase opens, as an age file; empty where a key file has it
	Version  string    `json:"version,omitempty"`
}

// List is what is in a backup.
type List struct {
	Head
	Events uint64            `json:"events"` // the number of the last
	Files  map[string]string `json:"files"`  // SHA-256 by name
}

// File is one file that goes into a backup.
type File struct{ Name, From string }

const listName = "list.json"

// Write writes a backup of files, for a recipient.
func Write(to io.Writer, l List, recipient age.Recipient, files []File) error {
	l.Files = map[string]string{}
	for _, f := range files {
		sum, err := sumOf(f.From)
		if err != nil {
			return err
		}
		l.Files[f.Name] = sum
	}
	head, err := json.Marshal(l.Head)
	if err != nil {
		return err
	}
	if _, err := fmt.Fprintf(to, "%s%s\n", first, head); err != nil {
		return err
	}
	sealed, err := age.Encrypt(to, recipient)
	if err != nil {
		return err
	}
	packed := gzip.NewWriter(sealed)
	t := tar.NewWriter(packed)
	list, err := json.MarshalIndent(l, "", "  ")
	if err == nil {
		err = put(t, listName, int64(len(list)), bytes.NewReader(list))
	}
	for _, f := range files {
		if err != nil {
			return err
		}
		err = putFile(t, f)
	}
	return errors.Join(err, t.Close(), packed.Close(), sealed.Close())
}

func sumOf(name string) (string, error) {
	f, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	_, err = io.Copy(h, f)
	return hex.EncodeToString(h.Sum(nil)), err
}

func put(t *tar.Writer, name string, size int64, from io.Reader) error {
	if err := t.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: size}); err != nil {
		return err
	}
	_, err := io.Copy(t, from)
	return err
}

func putFile(t *tar.Writer, f File) error {
	file, err := os.Open(f.From)
	if err != nil {
		return err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return err
	}
	return put(t, f.Name, info.Size(), file)
}

// ErrNone says that something is no backup.
var ErrNone = errors.New("it is no backup of a field")

// ReadHead reads the head of a backup, and gives what follows it.
func ReadHead(from io.Reader) (Head, io.Reader, error) {
	r := bufio.NewReaderSize(from, mostHead)
	var h Head
	start, err := r.Peek(len(first))
	if err != nil || string(start) != first {
		if strings.HasPrefix(string(start), "lanternfield backup ") {
			return h, nil, errors.New("it was made by a newer release, whose backups this one cannot read")
		}
		return h, nil, ErrNone
	}
	_, _ = r.Discard(len(first))
	line, err := r.ReadSlice('\n')
	if err == nil {
		err = json.Unmarshal(line, &h)
	}
	if err != nil {
		return h, nil, fmt.Errorf("it is damaged: its head cannot be read: %w", err)
	}
	return h, r, nil
}

// Extract puts the files of a backup into a folder that is there and empty, for its owner only, and compares them with their checksums. What follows its
// head is given.
func Extract(from io.Reader, h Head, dir string, ids ...age.Identity) (*List, error) {
	plain, err := age.Decrypt(from, ids...)
	var no *age.NoIdentityMatchError
	if errors.As(err, &no) {
		return nil, fmt.Errorf("it is sealed for %s, which is not among the keys at hand", h.For)
	}
	damaged := func(err error) error { return fmt.Errorf("it is damaged, or was cut short: %w", err) }
	if err != nil {
		return nil, damaged(err)
	}
	packed, err := gzip.NewReader(plain)
	if err != nil {
		return nil, damaged(err)
	}
	t := tar.NewReader(packed)
	var l *List
	seen := map[string]bool{}
	for {
		entry, err := t.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, damaged(err)
		}
		if l == nil {
			if l = (&List{}); entry.Name != listName || json.NewDecoder(io.LimitReader(t, mostHead)).Decode(l) != nil {
				return nil, damaged(errors.New("it does not begin with its list"))
			}
			if l.Field != h.Field || !l.Made.Equal(h.Made) {
				return nil, fmt.Errorf("its head says that it is of %s, and what is sealed in it is of %s", h.Field, l.Field)
			}
			continue
		}
		want, listed := l.Files[entry.Name]
		if !listed || seen[entry.Name] || entry.Name != filepath.Base(entry.Name) || strings.HasPrefix(entry.Name, ".") || entry.Typeflag != tar.TypeReg {
			return nil, damaged(fmt.Errorf("%q is not in its list", entry.Name))
		}
		seen[entry.Name] = true
		sum, err := extract(filepath.Join(dir, entry.Name), t)
		if err != nil {
			return nil, damaged(err)
		}
		if sum != want {
			return nil, damaged(fmt.Errorf("%s is not as it was when it was made", entry.Name))
		}
	}
	if l == nil || len(seen) != len(l.Files) {
		return nil, damaged(errors.New("files are missing in it"))
	}
	if _, err := io.Copy(io.Discard, packed); err != nil { // its checksum comes last
		return nil, damaged(err)
	}
	return l, nil
}

func extract(name string, from io.Reader) (sum string, err error) {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return "", err
	}
	h := sha256.New()
	_, err = io.Copy(io.MultiWriter(f, h), io.LimitReader(from, mostBytes))
	return hex.EncodeToString(h.Sum(nil)), errors.Join(err, f.Sync(), f.Close())
}
