package agent

import (
	"errors"
	"io"
	"net/http"
	"os"
	"path/filepath"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/host"
)

// takeCopy keeps a sealed copy of the field's state, for whoever has lost it. It is there whole, on the disk, or the one before is. The agent cannot
// open it.
func (a *Agent) takeCopy(from io.Reader) error {
	name := host.CopyFile(a.disk.dir)
	file, err := os.OpenFile(name+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(file, from)
	if err = errors.Join(err, file.Sync(), file.Close()); err == nil {
		err = os.Rename(file.Name(), name)
	}
	if err != nil {
		return errors.Join(err, os.Remove(file.Name()))
	}
	dir, err := os.Open(filepath.Dir(name))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

func (a *Agent) putCopy(w http.ResponseWriter, r *http.Request) {
	if err := a.takeCopy(http.MaxBytesReader(w, r.Body, agentapi.CopyMost)); err != nil {
		http.Error(w, err.Error(), http.StatusInsufficientStorage)
	}
}
