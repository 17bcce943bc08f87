package field

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Program is what must be known to run one program as a role: how to start it, probe it, let it join and leave. All
// texts but expressions are Go templates over the member (see package render).
type Program struct {
	Command []string `json:"command"`
	LookIn  []string `json:"look_in,omitempty"` // further folders to look for the program in
	User    string   `json:"user,omitempty"`    // run as; the agent's own user when empty
	// InsteadOfRoot is whom it runs as where its agent is root and User is empty; elsewhere it runs as the agent's own user.
	InsteadOfRoot string `json:"instead_of_root,omitempty"`

	Packages []string `json:"packages,omitempty"` // of Debian, that it comes in; not templates

	Version *VersionOf      `json:"version,omitempty"` // how the program is asked for its own version
	Ports   map[string]Port `json:"ports,omitempty"`
	Env     map[string]Text `json:"env,omitempty"`
	Files   map[string]File `json:"files,omitempty"` // by path below the member's folder

	Certificate Certificate    `json:"certificate,omitzero"` // what its members' certificates must be like
	OnChange    OnChange       `json:"on_change,omitempty"`
	Validate    *Exec          `json:"validate,omitempty"`
	Reload      *Reload        `json:"reload,omitempty"`
	Apply       []Probe        `json:"apply,omitempty"` // calls by which a running member takes what changes with on_change: apply
	Stop        Stop           `json:"stop,omitzero"`
	Restart     Restart        `json:"restart,omitzero"`
	Limits      Limits         `json:"limits,omitzero"`     // of the operating system, which it is given
	Vacant      []Vacancy      `json:"vacant,omitempty"`    // what must hold on a node before a member is first started there
	FreeDisk    Bytes          `json:"free_disk,omitempty"` // that the disk with its data must have; with less it is not ready
	Kernel      map[string]int `json:"kernel,omitempty"`    // settings of the kernel, by name, with the least that each must be
	Takes       Duration       `json:"takes,omitempty"`     // about how long a first start takes; counts until some were seen
	Ready       *Probe         `json:"ready,omitempty"`
	Alive       *Probe         `json:"alive,omitempty"`
	Progress    *Gauge         `json:"progress,omitempty"` // read while it is not ready
	Lag         *Gauge         `json:"lag,omitempty"`      // read while it is
	Leader      *LeaderProbe   `json:"leader,omitempty"`
	Roster      *RosterProbe   `json:"roster,omitempty"`
	Found       []Step         `json:"found,omitempty"`
	Join        []Step         `json:"join,omitempty"`
	Leave       []Step         `json:"leave,omitempty"`
	Promote     []Step         `json:"promote,omitempty"`
	HandOver    []Step         `json:"hand_over,omitempty"`

	Lease    *LeaseRule `json:"lease,omitempty"`     // how a guard deals with it, where it elects nobody
	TakeLead []Exec     `json:"take_lead,omitempty"` // what the guard of who is to lead runs
	AttachTo []Exec     `json:"attach_to,omitempty"` // and what those of the others run

	Secrets      map[string]SecretRule `json:"secrets,omitempty"`       // what it says of its secrets, by name
	ChangeSecret []Step                `json:"change_secret,omitempty"` // by which it takes another one

	Access    *Access          `json:"access,omitempty"`
	Metrics   *Metrics         `json:"metrics,omitempty"`
	ColdStart *ColdStart       `json:"cold_start,omitempty"`
	Proofs    map[string]Proof `json:"proofs,omitempty"` // by name
}

// Port is where a member listens: one fixed port, or the first free one of a range.
type Port struct {
	Port   int    `json:"port,omitempty"`
	Each   int    `json:"each,omitempty"` // how much higher the number is for each further member: Port for the first, Port+Each for the second
	From   int    `json:"from,omitempty"`
	To     int    `json:"to,omitempty"`
	Scheme string `json:"scheme,omitempty"` // for URLs; tcp when empty
	TLS    string `json:"tls,omitempty"`    // it speaks TLS there where its role does, and this is the scheme for URLs then

	Upgrade *Upgrade `json:"upgrade,omitempty"` // how TLS begins; at once when nil

	Network string   `json:"network,omitempty"` // on whose address it is; the main one when empty
	By      Answerer `json:"by,omitempty"`      // who listens there; the member itself when empty
}

// Answerer is who listens on a port of a member.
type Answerer string

// ByAgent says that the member's agent listens on a port, and answers there whether the member is ready and whether it leads.
const ByAgent Answerer = "agent"

// File is a config file that is rendered for each member.
type File struct {
	Template string   `json:"template"`
	Mode     string   `json:"mode,omitempty"` // octal; when empty, 0600 for a file with a secret and 0644 for any other
	OnChange OnChange `json:"on_change,omitempty"`
	Once     bool     `json:"once,omitempty"` // written where it is missing, and the program's own from then on
	TLS      bool     `json:"tls,omitempty"`  // only where the member speaks TLS
}

// ColdStart says who begins when no member of a role runs: the one whose data is the most advanced. The command runs on
// every member's node while the member is stopped; Rank is an expression over its output, and the largest number begins.
type ColdStart struct {
	Exec []string `json:"exec"`
	Rank string   `json:"rank"`
}

// OnChange is what is done to a running member when what it was started with changes.
type OnChange string

// What a change leads to.
const (
	OnRestart   OnChange = "restart"
	OnReload    OnChange = "reload"
	OnApply     OnChange = "apply"  // by the program's calls
	OnItself    OnChange = "itself" // the program reads it anew by itself
	OnNextStart OnChange = "next-start"
)

// Exec runs a command on the member's node.
type Exec struct {
	Exec []string `json:"exec"`
}

// Metrics says where a program tells measures of itself, as OpenMetrics or in the text format of Prometheus.
type Metrics struct {
	Port string          `json:"port"`
	Path string          `json:"path,omitempty"` // /metrics when empty
	Show map[string]Text `json:"show,omitempty"` // those that tell how it is, by name, each with what it says
}

// Vacancy is a command that makes sure that nothing of another cluster is on a node.
type Vacancy struct {
	Exec   []string `json:"exec"`
	Expect string   `json:"expect,omitempty"`
	Say    string   `json:"say,omitempty"` // for people
}

// Reload tells a member to read its files again, by signal or command.
type Reload struct {
	Signal string   `json:"signal,omitempty"`
	Exec   []string `json:"exec,omitempty"`
}

// Stop is how a member is asked to end; after Within it is killed.
type Stop struct {
	Signal string   `json:"signal,omitempty"` // TERM when empty
	Within Duration `json:"within,omitempty"` // 10 s when empty
	// Drain is how long its agent says, on ports that the agent answers, that the member is about to go, before it is asked to end.
	Drain Duration `json:"drain,omitempty"`
}

// Restart is how long the agent waits before it starts a crashed member again: After at first, doubled each time up to
// Most.
type Restart struct {
	After Duration `json:"after,omitempty"` // 1 s when empty
	Most  Duration `json:"most,omitempty"`  // 30 s when empty
}

// Measured tells where measures of the program are asked for: as it says, or on a port that is called for that. The port is empty where there
// are none.
func (p *Program) Measured() (port, path string) {
	if p.Metrics != nil {
		return p.Metrics.Port, cmp.Or(p.Metrics.Path, "/metrics")
	}
	if _, is := p.Ports["metrics"]; is {
		return "metrics", "/metrics"
	}
	return "", ""
}

// RunsAs is the user that it runs as where its agent is root; empty for root itself.
func (p *Program) RunsAs() string { return cmp.Or(p.User, p.InsteadOfRoot) }

// VersionOf is how a program is asked for its version. Pattern is a regular expression (RE2) with one group, over what it writes.
type VersionOf struct {
	Exec    []string `json:"exec"`
	Pattern string   `json:"pattern"`
	Least   Text     `json:"least,omitempty"` // the oldest that will do; any when empty
}

// Read finds the version in what the program has written.
func (v *VersionOf) Read(output string) (string, error) {
	re, err := regexp.Compile(v.Pattern)
	if err != nil {
		return "", err
	}
	m := re.FindStringSubmatch(output)
	if len(m) < 2 || m[1] == "" {
		line, _, _ := strings.Cut(strings.TrimSpace(output), "\n")
		return "", fmt.Errorf("what %s says has no version by the pattern `%s`: %q", strings.Join(v.Exec, " "), v.Pattern, line[:min(len(line), 120)])
	}
	return m[1], nil
}

// Suits tells what is wrong with a version that was found: it is older than the least, or not the one that a role wants.
func (v *VersionOf) Suits(found, want string) error {
	switch {
	case want != "" && found != want && !strings.HasPrefix(found, strings.TrimSuffix(want, ".")+"."):
		return fmt.Errorf("%s here is version %s, and version %s is wanted", v.Exec[0], found, want)
	case v.Least != "" && Older(found, string(v.Least)):
		return fmt.Errorf("%s here is version %s, and %s is the oldest that works", v.Exec[0], found, v.Least)
	}
	return nil
}

// Older compares versions number by number: 3.9 is older than 3.10.
func Older(a, b string) bool {
	x, y := strings.FieldsFunc(a, notDigit), strings.FieldsFunc(b, notDigit)
	for i := range y {
		n, m := 0, 0
		if i < len(x) {
			n, _ = strconv.Atoi(x[i])
		}
		if m, _ = strconv.Atoi(y[i]); n != m {
			return n < m
		}
	}
	return false
}

func notDigit(r rune) bool { return r < '0' || r > '9' }

// Limits are those of the operating system that a program needs; what is 0 stays as its agent has it.
type Limits struct {
	OpenFiles    uint64 `json:"open_files,omitempty"`
	Processes    uint64 `json:"processes,omitempty"`     // of its user, all together
	LockedMemory Bytes  `json:"locked_memory,omitempty"` // in bytes
}

// HTTPCall is one request to a member's port.
type HTTPCall struct {
	Port    string          `json:"port"`
	Path    string          `json:"path,omitempty"`
	Method  string          `json:"method,omitempty"` // GET, or POST where there is a body
	Headers map[string]Text `json:"headers,omitempty"`
	Body    string          `json:"body,omitempty"`
}

// TCPCall connects to a member's port, optionally sends a text, and optionally looks for an answer.
type TCPCall struct {
	Port   string `json:"port"`
	Send   string `json:"send,omitempty"`
	Expect string `json:"expect,omitempty"` // must occur in the answer
}

// Call is one way of asking a member: exactly one of the four is set.
type Call struct {
	HTTP *HTTPCall `json:"http,omitempty"`
	TCP  *TCPCall  `json:"tcp,omitempty"`
	TLS  *TLSCall  `json:"tls,omitempty"`
	Exec []string  `json:"exec,omitempty"`
}

// Probe is a check of one member, repeated. Expect is an expr-lang expression over status, body, headers, output, code
// and me; without one, any answer below HTTP status 400, any connection, any exit with code 0 will do.
type Probe struct {
	Call
	Expect  string   `json:"expect,omitempty"`
	Every   Duration `json:"every,omitempty"`   // 1 s when empty
	Timeout Duration `json:"timeout,omitempty"` // 2 s when empty

	UpAfter   int `json:"up_after,omitempty"`   // good answers in a row before it counts as ready; 1 when 0
	DownAfter int `json:"down_after,omitempty"` // bad answers in a row before it does not any more; 2 when 0
}

// LeaderProbe finds out whether the member that answers leads its cluster.
type LeaderProbe struct {
	Call
	IsMe    string   `json:"is_me"`
	Term    string   `json:"term,omitempty"` // the cluster's own count of leaderships, where it has one
	Every   Duration `json:"every,omitempty"`
	Timeout Duration `json:"timeout,omitempty"`
}

// RosterProbe reads the members of a cluster as the cluster reports them. Each yields a list; ID, Name and Voter are
// evaluated with item.
type RosterProbe struct {
	Call
	Each    string   `json:"each"`
	ID      string   `json:"id"`
	Name    string   `json:"name"`
	Voter   string   `json:"voter,omitempty"` // all are voters when empty
	Every   Duration `json:"every,omitempty"`
	Timeout Duration `json:"timeout,omitempty"`
}

// Step is one step of a membership procedure.
type Step struct {
	Call
	On       string            `json:"on,omitempty"`   // joiner, leaver, peer or leader; the member itself when empty
	When     string            `json:"when,omitempty"` // before-start, after-start, before-stop or after-stop
	Of       string            `json:"of,omitempty"`   // live or dead: of which members a step of leaving is; of both when empty
	Expect   string            `json:"expect,omitempty"`
	RetryFor Duration          `json:"retry_for,omitempty"`
	DoneWhen string            `json:"done_when,omitempty"`
	Capture  map[string]string `json:"capture,omitempty"`
	Secret   []string          `json:"secret,omitempty"` // which of what is captured is encrypted before it is kept anywhere
	Timeout  Duration          `json:"timeout,omitempty"`
}

// AgentAnswers tells whether the agents of the role's members say on a port whether those are ready and lead.
func (r *Role) AgentAnswers() bool {
	if r == nil || r.Program == nil {
		return false
	}
	for _, p := range r.Program.Ports {
		if p.By == ByAgent {
			return true
		}
	}
	return false
}

// PortNames lists the program's ports in the order of their names.
func (p *Program) PortNames() []string { return slices.Sorted(maps.Keys(p.Ports)) }

// WhileRunning tells whether a file that changes so is written while the program runs.
func (c OnChange) WhileRunning() bool { return c == OnReload || c == OnApply || c == OnItself }

// Fixed tells whether the port is one number for all members.
func (p Port) Fixed() bool { return p.Port != 0 && p.Each == 0 }

// Of is the number of the port for the member with that number of its role; 0 where that is a matter of what is free.
func (p Port) Of(member int) int {
	if p.Port == 0 {
		return 0
	}
	return p.Port + p.Each*(max(member, 1)-1)
}
