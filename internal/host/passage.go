package host

import (
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
)

// Barred finds a folder on the way to a place that a user may not enter; empty where the way is free. What is not there yet is made to be passed.
func Barred(place string, uid int) (at string, mode fs.FileMode, err error) {
	for at := filepath.Dir(place); at != "/" && at != "."; at = filepath.Dir(at) {
		info, err := os.Stat(at)
		if os.IsNotExist(err) {
			continue
		}
		if err != nil {
			return "", 0, err
		}
		st, _ := info.Sys().(*syscall.Stat_t)
		if info.Mode()&0o001 == 0 && (st == nil || int(st.Uid) != uid) {
			return at, info.Mode().Perm(), nil
		}
	}
	return "", 0, nil
}
