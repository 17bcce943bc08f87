// Package archive is a span of a field's life as one file, to be looked at elsewhere: a zip with a manifest, in which stands what is in it, with checksums. No
// secret is in it: whoever makes one checks that (package control).
package archive

import (
	"archive/zip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/core/field"
)

// Version is that of the format. A reader refuses what is newer.
const Version = 1

// Ending is how the names of archives end.
const Ending = ".lantern.zip"

// Limits of what is read.
const (
	mostManifest = 1 << 20
	mostFile     = 4 << 30
	mostFiles    = 20_000
)

const manifestName = "manifest.json"

// Manifest says what is in an archive.
type Manifest struct {
	Version int       `json:"version"`
	Field   string    `json:"field"`
	From    time.Time `json:"from"`
	To      time.Time `json:"to"`
	Made    time.Time `json:"made"`
	Release string    `json:"release,omitempty"` // of the program that made it

	Events  int `json:"events"`
	Lines   int `json:"lines"`
	Members int `json:"members"` // that wrote them

	Silent []field.MemberName `json:"silent,omitempty"` // whose lines could not be read
	Cut    []field.MemberName `json:"cut,omitempty"`    // of whose lines only the newest are in it
	Hidden int                `json:"hidden,omitempty"` // lines in which a secret stood, which is left out

	Programs map[string]string `json:"programs,omitempty"` // the versions of what ran, by role
	Files    map[string]string `json:"files"`              // SHA-256 by name
}

// Write writes an archive of the files below a folder. It is there whole, on the disk, or not at all; what is there already is left as it is.
func Write(name string, m Manifest, dir string) (err error) {
	if _, err := os.Lstat(name); err == nil {
		return fmt.Errorf("%s is there already, and is left as it is; name another file", name)
	}
	m.Version, m.Files = Version, map[string]string{}
	var files []string
	err = filepath.WalkDir(dir, func(at string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		rel, err := filepath.Rel(dir, at)
		if err == nil {
			files = append(files, filepath.ToSlash(rel))
			m.Files[filepath.ToSlash(rel)], err = sumOf(at)
		}
		return err
	})
	if err != nil {
		return err
	}
	out, err := os.OpenFile(name+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.Remove(out.Name()))
		}
	}()
	z := zip.NewWriter(out)
	data, err := json.MarshalIndent(m, "", "  ")
	if err == nil {
		err = put(z, manifestName, m.Made, strings.NewReader(string(data)))
	}
	slices.Sort(files)
	for _, f := range files {
		if err != nil {
			break
		}
		err = copyIn(z, f, m.Made, filepath.Join(dir, filepath.FromSlash(f)))
	}
	if err = errors.Join(err, z.Close(), out.Sync(), out.Close()); err != nil {
		return err
	}
	return os.Rename(out.Name(), name)
}

func copyIn(z *zip.Writer, name string, made time.Time, from string) error {
	f, err := os.Open(from)
	if err != nil {
		return err
	}
	defer f.Close()
	return put(z, name, made, f)
}

func put(z *zip.Writer, name string, made time.Time, from io.Reader) error {
	to, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: made})
	if err == nil {
		_, err = io.Copy(to, from)
	}
	return err
}

func sumOf(name string) (string, error) {
	f, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// Is tells whether a file is an archive, by its name.
func Is(name string) bool { return strings.HasSuffix(name, Ending) }

// Extract reads an archive into an empty folder, and checks every file of it.
func Extract(name, dir string) (*Manifest, error) {
	z, err := zip.OpenReader(name)
	if errors.Is(err, zip.ErrFormat) {
		return nil, fmt.Errorf("%s is no archive, or its end is missing: copy it again", name)
	}
	if err != nil {
		return nil, err
	}
	defer z.Close()
	m, err := manifestOf(z)
	if err != nil {
		return nil, fmt.Errorf("%s is no archive of a field: %w", name, err)
	}
	left := map[string]bool{}
	for file := range m.Files {
		left[file] = true
	}
	for _, f := range z.File {
		if f.Name == manifestName {
			continue
		}
		sum, listed := m.Files[f.Name]
		if !listed || !filepath.IsLocal(filepath.FromSlash(f.Name)) || path.Clean(f.Name) != f.Name {
			return nil, fmt.Errorf("%s holds %q, which its manifest does not name: it is not as it was made", name, f.Name)
		}
		if err := extract(f, filepath.Join(dir, filepath.FromSlash(f.Name)), sum); err != nil {
			return nil, fmt.Errorf("%s: %s cannot be read: %w", name, f.Name, err)
		}
		delete(left, f.Name)
	}
	for file := range left {
		return nil, fmt.Errorf("%s lacks %s, which its manifest names: it is not as it was made", name, file)
	}
	return m, nil
}

func manifestOf(z *zip.ReadCloser) (*Manifest, error) {
	if len(z.File) > mostFiles {
		return nil, fmt.Errorf("it holds %d files", len(z.File))
	}
	f, err := z.Open(manifestName)
	if err != nil {
		return nil, errors.New("it has no manifest")
	}
	defer f.Close()
	var m Manifest
	if err := json.NewDecoder(io.LimitReader(f, mostManifest)).Decode(&m); err != nil {
		return nil, fmt.Errorf("its manifest cannot be read: %w", err)
	}
	if m.Version > Version {
		return nil, fmt.Errorf("a newer release has made it (format %d; this one reads %d)", m.Version, Version)
	}
	if !field.NamePattern.MatchString(m.Field) {
		return nil, fmt.Errorf("its field is called %q", m.Field)
	}
	return &m, nil
}

func extract(f *zip.File, to, want string) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	in, err := f.Open()
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	h := sha256.New()
	n, err := io.Copy(io.MultiWriter(out, h), io.LimitReader(in, mostFile+1))
	if err = errors.Join(err, out.Close()); err != nil {
		return err
	}
	if n > mostFile {
		return fmt.Errorf("it is larger than %d GiB", mostFile>>30)
	}
	if got := hex.EncodeToString(h.Sum(nil)); got != want {
		return errors.New("it is not as it was made (its checksum is another)")
	}
	return nil
}
