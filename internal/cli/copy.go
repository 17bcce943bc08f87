package cli

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/wording"
)

func (a *app) copyCommand() *cobra.Command {
	return &cobra.Command{Use: "copy [FILE] FROM TO", Short: "Copy files and folders to a member or from it, through its agent",
		Long: "One of the two is MEMBER:PATH, the other a path here. A path at the member that does not begin with / is below its folder. Files are read and\n" +
			"written there as the member's user. What stands at TO is replaced where it is a file; where TO is a folder, it is put into that.",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, what, err := a.folder(args)
			if err != nil {
				return err
			}
			if len(what) != 2 {
				return errors.New("say from where and to where, as in: lanternfield copy wardens-1:store.json here")
			}
			fromMember, fromPath, from := atMember(what[0])
			toMember, toPath, to := atMember(what[1])
			if from == to {
				return errors.New("one of the two must be MEMBER:PATH, and the other a path here")
			}
			visitor, host, err := a.oneMember(folder, fromMember+toMember)
			if err != nil {
				return err
			}
			defer visitor.Close()
			if from {
				return a.fetch(cmd.Context(), visitor, host, fromPath, what[1])
			}
			return a.bring(cmd.Context(), visitor, host, what[0], toPath)
		}}
}

// atMember takes MEMBER:PATH apart.
func atMember(text string) (member, where string, is bool) {
	name, where, found := strings.Cut(text, ":")
	if !found || !field.NamePattern.MatchString(name) {
		return "", "", false
	}
	return name, where, true
}

// atEnd runs tar at a member, and gives what it says when it does not end well.
func atEnd(ctx context.Context, door *control.Visitor, host control.Host, args []string, in io.Reader, out io.Writer) error {
	frames, err := door.Visit(ctx, host, agentapi.Visit{By: visitor(), How: "copy", Args: args})
	if err != nil {
		return fmt.Errorf("%s: %w", host.Member, err)
	}
	defer frames.Close()
	var said limitedBuffer
	ending, err := visit{frames, in, out, &said}.run()
	switch {
	case err != nil:
		return fmt.Errorf("%s: %w", host.Member, err)
	case ending.Why != "":
		return fmt.Errorf("%s: %s", host.Member, ending.Why)
	case ending.Code != 0 || ending.Signal != "":
		return fmt.Errorf("%s on %s: %s", host.Member, host.Node, strings.TrimSpace(said.String()))
	}
	return nil
}

// packing is what reads a file or a folder at a member: its name first, then what is to be written out.
const packing = `p=$1; [ -e "$p" ] || { echo "there is no file or folder $p" >&2; exit 1; }; cd "$(dirname -- "$p")" && exec tar -cf - -- "$(basename -- "$p")"`

// fetch copies from a member to here.
func (a *app) fetch(ctx context.Context, door *control.Visitor, host control.Host, from, to string) error {
	if from == "" {
		return fmt.Errorf("say which file of %s: %s:PATH", host.Member, host.Member)
	}
	read, write := io.Pipe()
	done := make(chan error, 1)
	var files, size int64
	go func() {
		var err error
		files, size, err = unpack(read, to)
		read.CloseWithError(err)
		done <- err
	}()
	err := atEnd(ctx, door, host, []string{"sh", "-c", packing, "sh", from}, nil, write)
	write.CloseWithError(err)
	unpacked := <-done
	if unpacked != nil && (err == nil || errors.Is(err, unpacked)) {
		return unpacked
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s:%s is here at %s: %s, %s.\n", host.Member, from, to, wording.Counted(int(files), "file"), wording.Counted(int(size), "byte"))
	return nil
}

// unpack writes what an archive has below a path. Whatever stands in it, nothing is written anywhere else, and links are left out.
func unpack(r io.Reader, to string) (files, size int64, err error) {
	into, name := to, ""
	if info, err := os.Stat(to); err != nil || !info.IsDir() { // under another name
		into, name = filepath.Dir(to), filepath.Base(to)
	}
	root, err := os.OpenRoot(into)
	if err != nil {
		return 0, 0, err
	}
	defer root.Close()
	archive := tar.NewReader(r)
	for {
		h, err := archive.Next()
		if err == io.EOF {
			_, _ = io.Copy(io.Discard, r)
			return files, size, nil
		}
		if err != nil {
			return files, size, err
		}
		at := path.Clean("/" + h.Name)[1:]
		if name != "" {
			_, rest, _ := strings.Cut(at, "/")
			at = path.Join(name, rest)
		}
		switch h.Typeflag {
		case tar.TypeDir:
			if err := root.Mkdir(at, 0o700|fs.FileMode(h.Mode)&0o777); err != nil && !errors.Is(err, fs.ErrExist) {
				return files, size, err
			}
		case tar.TypeReg:
			n, err := unpackFile(root, at, fs.FileMode(h.Mode)&0o777, archive)
			if err != nil {
				return files, size, err
			}
			files, size = files+1, size+n
		}
	}
}

func unpackFile(root *os.Root, at string, mode fs.FileMode, from io.Reader) (int64, error) {
	f, err := root.OpenFile(at, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, mode)
	if err != nil {
		return 0, err
	}
	n, err := io.Copy(f, from)
	return n, errors.Join(err, f.Close())
}

// unpacking writes a file or a folder at a member: into the path where that is a folder, else under that name.
const unpacking = `p=${1:-.}; if [ -d "$p" ]; then exec tar -xf - --no-same-owner -C "$p"; fi
d=$(dirname -- "$p"); [ -d "$d" ] || { echo "there is no folder $d" >&2; exit 1; }
[ -w "$d" ] || { echo "$(id -un) may not write in the folder $d; the member's own is data" >&2; exit 1; }
t=$d/.copy-$$; mkdir "$t" || exit 1; trap 'rm -rf "$t"' EXIT
tar -xf - --no-same-owner -C "$t" && mv -f -- "$t"/* "$p"`

// bring copies from here to a member.
func (a *app) bring(ctx context.Context, door *control.Visitor, host control.Host, from, to string) error {
	if _, err := os.Stat(from); err != nil {
		return err
	}
	read, write := io.Pipe()
	packed := make(chan error, 1)
	var files, size int64
	go func() {
		var err error
		files, size, err = pack(write, from)
		write.CloseWithError(err)
		packed <- err
	}()
	err := atEnd(ctx, door, host, []string{"sh", "-c", unpacking, "sh", to}, read, io.Discard)
	read.CloseWithError(errors.New("nobody takes it any more"))
	if failed := <-packed; failed != nil && err == nil {
		return failed
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s is at %s:%s: %s, %s.\n", from, host.Member, to, wording.Counted(int(files), "file"), wording.Counted(int(size), "byte"))
	return nil
}

// pack writes a file, or a folder with all that is in it, as an archive. Only files and folders go along.
func pack(w io.Writer, from string) (files, size int64, err error) {
	archive := tar.NewWriter(w)
	from = filepath.Clean(from)
	whole, err := filepath.Abs(from)
	if err != nil {
		return 0, 0, err
	}
	err = filepath.WalkDir(whole, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := os.Stat(name)
		if name != whole {
			info, err = d.Info()
		}
		if err != nil || !info.IsDir() && !info.Mode().IsRegular() {
			return err
		}
		h, err := tar.FileInfoHeader(info, "")
		if err != nil {
			return err
		}
		below, _ := filepath.Rel(filepath.Dir(whole), name)
		h.Name, h.Uid, h.Gid, h.Uname, h.Gname = filepath.ToSlash(below), 0, 0, "", ""
		if err := archive.WriteHeader(h); err != nil || info.IsDir() {
			return err
		}
		f, err := os.Open(name)
		if err != nil {
			return err
		}
		defer f.Close()
		n, err := io.Copy(archive, io.LimitReader(f, info.Size()))
		files, size = files+1, size+n
		return err
	})
	return files, size, errors.Join(err, archive.Close())
}
