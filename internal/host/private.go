package host

import "golang.org/x/sys/unix"

// KeepPrivate keeps the memory of this process from others of its user, and out of core dumps: there are keys in it. Programs that it runs are not
// concerned.
func KeepPrivate() { _ = unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0) }
