package field

import "cmp"

// Ground says where the nodes come from, and how hosts are reached that are not this machine.
type Ground struct {
	Kind string `json:"kind,omitempty"` // local, or another that is known to the release

	Host      string `json:"host,omitempty"`       // by what SSH knows a host, where that is not its address: a name, or one of the SSH configuration
	User      string `json:"user,omitempty"`       // as whom hosts are logged in to
	Key       string `json:"key,omitempty"`        // the file of the private key
	Port      int    `json:"port,omitempty"`       // of the SSH server
	Through   string `json:"through,omitempty"`    // the host through which it goes: [USER@]HOST[:PORT], or a name of the SSH configuration
	Sudo      string `json:"sudo,omitempty"`       // never or always
	Reach     string `json:"reach,omitempty"`      // how agents are spoken to: direct, or in a tunnel through SSH
	Folder    string `json:"folder,omitempty"`     // on the hosts, in which what is ours lies
	AgentPort int    `json:"agent_port,omitempty"` // at which agents answer; the first that is free of AgentPorts where nothing is said
}

// The kinds of ground by which nodes are machines of their own.
const (
	GroundSSH  = "ssh"  // hosts that are reached by SSH
	GroundJoin = "join" // machines that join by an invitation
)

// How agents on hosts are spoken to.
const (
	ReachDirect = "direct"
	ReachTunnel = "tunnel"
)

// SudoAlways has everything on a host done as root, through sudo that asks for no password.
const SudoAlways = "always"

// The ports at which agents on hosts answer where the file says none: the first of them that is free.
const (
	AgentPortFirst = 7800
	AgentPortLast  = 7899
)

// DoorFirst and DoorLast are the ports of which a keeper takes the first that is free, for machines that join.
const (
	DoorFirst = 7900
	DoorLast  = 7919
)

// AgentPorts are the ports of which an agent on a machine of its own takes the first that is free, from first to last.
func (g Ground) AgentPorts() (first, last int) {
	if g.AgentPort > 0 {
		return g.AgentPort, g.AgentPort
	}
	return AgentPortFirst, AgentPortLast
}

// RulesManaged has the packet filters of hosts let in to members' ports who calls them alone.
const RulesManaged = "managed"

// Tunnelled tells whether agents are spoken to through SSH: where that is said, and where hosts are reached through another.
func (g Ground) Tunnelled() bool {
	return g.Reach == ReachTunnel || g.Reach == "" && g.Through != ""
}

// over lays what is said of one node over what is said of all.
func (g Ground) over(all Ground) Ground {
	if g.Kind != "" && g.Kind != all.Kind {
		return g
	}
	return Ground{Kind: cmp.Or(g.Kind, all.Kind), Host: g.Host, User: cmp.Or(g.User, all.User), Key: cmp.Or(g.Key, all.Key), Port: cmp.Or(g.Port, all.Port),
		Through: cmp.Or(g.Through, all.Through), Sudo: cmp.Or(g.Sudo, all.Sudo), Reach: cmp.Or(g.Reach, all.Reach), Folder: cmp.Or(g.Folder, all.Folder),
		AgentPort: cmp.Or(g.AgentPort, all.AgentPort)}
}
