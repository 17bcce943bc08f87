package fieldfile

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"syscall"
)

// Load reads the file of that name, with the variables as an environment chooses them; env is empty for their defaults.
func Load(name, env string) (*File, error) {
	data, err := read(name)
	if err != nil {
		return nil, err
	}
	choices, err := LoadChoices(name, env)
	if err != nil {
		return nil, err
	}
	return Parse(name, data, choices)
}

func read(name string) ([]byte, error) {
	info, err := os.Stat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, Errors{{File: name, Text: "there is no such file", Hint: nearbyFiles(name)}}
	case err != nil:
		return nil, Errors{{File: name, Text: "cannot be read: " + plainCause(err)}}
	case info.IsDir():
		return nil, Errors{{File: name, Text: "is a folder, not a field file", Hint: nearbyFiles(name + "/x")}}
	case !info.Mode().IsRegular():
		return nil, Errors{{File: name, Text: "is not a regular file"}}
	case info.Size() > mostBytes:
		return nil, Errors{{File: name, Text: fmt.Sprintf("the file has %d KiB; a field file may have %d KiB at most", info.Size()>>10, mostBytes>>10), Hint: "is it the right file? Put long config templates into kits."}}
	}
	f, err := os.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0) // it may be another file by now
	if err != nil {
		return nil, Errors{{File: name, Text: "cannot be read: " + plainCause(err)}}
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, mostBytes+1))
	if err != nil {
		return nil, Errors{{File: name, Text: "cannot be read: " + plainCause(err)}}
	}
	return data, nil
}

func plainCause(err error) string {
	var path *fs.PathError
	if errors.As(err, &path) {
		return path.Err.Error()
	}
	return err.Error()
}

func nearbyFiles(name string) string {
	dir := "."
	if i := strings.LastIndexByte(name, '/'); i >= 0 {
		dir = name[:i+1]
	}
	entries, _ := os.ReadDir(dir)
	var files []string
	for _, e := range entries {
		if strings.HasSuffix(e.Name(), ".field.yaml") && len(files) < 5 {
			files = append(files, e.Name())
		}
	}
	if len(files) == 0 {
		return "a field file is named NAME.field.yaml"
	}
	return "that folder has " + strings.Join(files, ", ")
}
