// Package secureshell is a host that is reached by SSH: how it is named and logged in to, its key checked, scripts run on it, files put on it, and
// connections made from there. What goes wrong is a Fault, with the reason and what to do about it.
package secureshell

import (
	"fmt"
)

// Kind is what went wrong with a host, as far as it makes a difference for what to do.
type Kind string

// The kinds of fault, in the order in which a host is reached.
const (
	Config      Kind = "configuration"   // what is said of it cannot be used
	Unreachable Kind = "reachable"       // nothing answers at its address
	Silent      Kind = "answers"         // something answers, and does not speak SSH
	UnknownKey  Kind = "host key"        // nobody has said yet that it is this host
	ChangedKey  Kind = "host key change" // it shows another key than before
	Login       Kind = "login"           // it does not take us for the user
	Sudo        Kind = "sudo"            // root's rights are not given
	Broken      Kind = "connection"      // the connection ended in the middle
	Failed      Kind = "command"         // a command on it failed
)

// Fault is what is wrong with a host, why, and what to do.
type Fault struct {
	Kind Kind
	Host string // as it is named, with the user where that matters
	Why  string
	Do   string
	Key  *HostKey // that it shows, where that is what is wrong
}

func (f *Fault) Error() string {
	if f.Do == "" {
		return fmt.Sprintf("%s %s", f.Host, f.Why)
	}
	return fmt.Sprintf("%s %s; %s", f.Host, f.Why, f.Do)
}
