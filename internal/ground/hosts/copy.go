package hosts

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/ground"
	"lanternfield/internal/host"
)

// copyScript gives a file, after a byte by which it is told that there is one.
const copyScript = `if [ -f "$1" ]; then echo yes; cat "$1"; else echo no; fi`

// CopyTo fetches the sealed copy of the field's state that the agent of a node keeps on its host. An error that is fs.ErrNotExist says that it keeps none.
func (h *Hosts) CopyTo(ctx context.Context, w ground.Want, to io.Writer) error {
	conn, err := h.connect(ctx, w.Address, w.Node.Ground)
	if err != nil {
		return err
	}
	s, err := look(ctx, conn, w.Node.Ground.Folder, h.Field, w.Node.Name)
	if err != nil {
		return err
	}
	talk, err := conn.Talk(ctx, copyScript, host.CopyFile(path.Join(s.root, h.Field, string(w.Node.Name))))
	if err != nil {
		return err
	}
	var answer [4]byte
	switch n, err := io.ReadFull(talk, answer[:3]); {
	case err != nil:
		return errors.Join(err, talk.Close())
	case string(answer[:n]) == "no\n":
		return errors.Join(fs.ErrNotExist, talk.Close())
	}
	if _, err := io.ReadFull(talk, answer[3:]); err != nil || string(answer[:]) != "yes\n" {
		return errors.Join(fmt.Errorf("it gives something else than a copy"), err, talk.Close())
	}
	_, err = io.Copy(to, io.LimitReader(talk, agentapi.CopyMost))
	return errors.Join(err, talk.Close())
}
