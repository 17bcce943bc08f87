// Package carried has the programs that are brought to hosts: the agent, and the guard of members whose role has a lease, for each architecture.
// `make build` puts them there (scripts/carry.sh), compressed, so that one file brings its agents.
package carried

import (
	"bytes"
	"compress/gzip"
	"embed"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
)

//go:embed files
var files embed.FS

// Program is a program for hosts.
type Program struct {
	Name string // of its file on the host
	Sum  string // SHA-256 of that file, in hex
	Size int64  // of that file, in bytes

	file string
}

// Packed gives the program compressed by gzip.
func (p Program) Packed() ([]byte, error) { return files.ReadFile(p.file) }

// For gives the programs for an architecture, as Go names it (amd64, arm64).
func For(arch string) ([]Program, error) {
	list, err := files.ReadFile("files/list")
	if err != nil {
		return nil, fmt.Errorf("this lanternfield was built without the agents for hosts: build it with `make build`")
	}
	var found []Program
	var others []string
	for line := range bytes.Lines(list) {
		f := strings.Fields(string(line))
		if len(f) != 3 {
			return nil, fmt.Errorf("the list of the agents that this lanternfield carries is damaged: %q", line)
		}
		program, platform, _ := strings.Cut(f[2], "-")
		if platform != "linux-"+arch {
			others = append(others, strings.Replace(platform, "-", "/", 1))
			continue
		}
		size, err := strconv.ParseInt(f[1], 10, 64)
		if err != nil {
			return nil, err
		}
		found = append(found, Program{Name: "lanternfield-" + program, Sum: f[0], Size: size, file: "files/" + f[2] + ".gz"})
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("this lanternfield carries no agent for linux/%s; it has those for %s", arch, strings.Join(slices.Compact(others), ", "))
	}
	return found, nil
}

// Unpack writes the program to a file that can be run.
func (p Program) Unpack(name string) error {
	packed, err := files.Open(p.file)
	if err != nil {
		return err
	}
	defer packed.Close()
	in, err := gzip.NewReader(packed)
	if err != nil {
		return err
	}
	out, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o700)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}
