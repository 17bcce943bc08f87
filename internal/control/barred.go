package control

import (
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"

	"lanternfield/internal/core/field"
	"lanternfield/internal/ground/kind"
	"lanternfield/internal/host"
)

// barred finds a role whose members are to run as a user who may not pass the way to their folders on this machine. It is found before anything
// is begun: a home folder is often closed to all others.
func (f Folder) barred(draft *field.Field) error {
	if os.Geteuid() != 0 {
		return nil // nobody can become another user then, which is said where that is tried
	}
	if !slices.ContainsFunc(draft.Nodes, func(n field.Node) bool { return draft.GroundOf(&n) == kind.Local }) {
		return nil // no folder of a node is on this machine
	}
	for i := range draft.Roles {
		r := &draft.Roles[i]
		if r.Program == nil || r.Program.RunsAs() == "" || r.Members == 0 {
			continue
		}
		who, err := user.Lookup(r.Program.RunsAs())
		if err != nil {
			continue // its agent says so
		}
		uid, err := strconv.Atoi(who.Uid)
		if err != nil {
			continue
		}
		if at, mode, err := host.Barred(filepath.Join(f.Dir, "nodes"), uid); err == nil && at != "" {
			return fmt.Errorf("%s runs as the user %s, who may not enter %s (%s), where the field's folders would be. Name a state folder that others may pass, "+
				"such as --state /var/lib/lanternfield, or LANTERNFIELD_STATE; nothing has been changed", r.Name, r.Program.RunsAs(), at, mode)
		}
	}
	return nil
}
