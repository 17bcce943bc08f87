// Package fit tells whether a machine has what a program needs: the program itself, in a version that suits, its user, limits of the operating system and
// settings of the kernel. Agents ask it of their nodes, and who makes nodes of this machine before there are any.
package fit

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"os/user"
	"strings"

	"lanternfield/internal/core/order"
)

// Lacks tells what a member would lack on this machine: its program, or its user, or what it needs besides.
func Lacks(l order.Lookup, v *Versions) error {
	if _, err := LookUp(l.Program, l.LookIn); err != nil { // nobody tries it again: nothing is begun
		return errors.New(strings.TrimSuffix(err.Error(), TriedAgain))
	}
	if err := cmp.Or(CheckLimits(l.Limits), CheckKernel(l.Kernel)); err != nil {
		return err
	}
	if _, err := v.Pick(l); err != nil {
		return err
	}
	if l.User == "" || l.IfRoot && os.Geteuid() != 0 {
		return nil
	}
	if _, err := user.Lookup(l.User); err != nil {
		return fmt.Errorf("the user %q is not known on this node", l.User)
	}
	return nil
}
