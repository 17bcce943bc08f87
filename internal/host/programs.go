package host

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
)

// PutProgram puts a program into the folder of a node, where it takes the place of the one before as a whole. Sum is its SHA-256 in hexadecimal; what has
// another one is refused. Where it is empty nothing is compared.
func PutProgram(nodeDir, name string, content io.Reader, sum string) error {
	folder := filepath.Join(nodeDir, programs)
	if err := MakeFolder(folder, 0o755); err != nil {
		return err
	}
	tmp, err := os.CreateTemp(folder, ".new.")
	if err != nil {
		return err
	}
	has := sha256.New()
	_, err = io.Copy(io.MultiWriter(tmp, has), content)
	err = errors.Join(err, tmp.Chmod(0o755), tmp.Sync(), tmp.Close())
	if got := hex.EncodeToString(has.Sum(nil)); err == nil && sum != "" && got != sum {
		err = fmt.Errorf("what has arrived of %s is not what was sent", name)
	}
	if err == nil {
		err = os.Rename(tmp.Name(), Program(nodeDir, name))
	}
	if err != nil {
		return errors.Join(err, os.Remove(tmp.Name()))
	}
	return SyncDir(folder)
}
