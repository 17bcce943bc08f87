package control

import (
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"syscall"

	"lanternfield/internal/core/field"
)

// barred finds a role whose members are to run as a user who may not pass the way to their folders on this machine. It is found before anything
// is begun: a home folder is often closed to all others.
func (f Folder) barred(draft *field.Field) error {
	if os.Geteuid() != 0 {
		return nil // nobody can become another user then, which is said where that is tried
	}
	for i := range draft.Roles {
		r := &draft.Roles[i]
		if r.Program == nil || r.Program.User == "" || r.Members == 0 {
			continue
		}
		who, err := user.Lookup(r.Program.User)
		if err != nil {
			continue // its agent says so
		}
		for at := f.Dir; at != "/" && at != "."; at = filepath.Dir(at) {
			info, err := os.Stat(at)
			if err != nil {
				continue // it is made, to be passed
			}
			st, is := info.Sys().(*syscall.Stat_t)
			if info.Mode()&0o001 == 0 && is && strconv.Itoa(int(st.Uid)) != who.Uid {
				return fmt.Errorf("%s runs as the user %s, who may not enter %s (%s), where the field's folders would be. Name a state folder that others may pass, "+
					"such as --state /var/lib/lanternfield, or LANTERNFIELD_STATE; nothing has been changed", r.Name, r.Program.User, at, info.Mode().Perm())
			}
		}
	}
	return nil
}
