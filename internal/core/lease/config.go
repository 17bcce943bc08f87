package lease

import (
	"cmp"
	"time"

	"lanternfield/internal/core/field"
)

// What the store of another field is believed by and shown is in these files.
const (
	StoreAuthorityFile   = "lease/store-authority.pem"
	StoreCertificateFile = "lease/store.pem"
)

// ConfigFile is where a guard finds what it has to know, below the member's folder.
const ConfigFile = "lease/guard.json"

// Config is what a guard has to know. Paths are below the member's folder, or absolute.
type Config struct {
	Field   string         `json:"field"`
	Role    field.RoleName `json:"role"`
	Member  Name           `json:"member"`
	Want    int            `json:"want"` // how many others must confirm a write
	Founds  bool           `json:"founds,omitempty"`
	Paused  bool           `json:"paused,omitempty"`
	For     field.Duration `json:"for"`     // how long a lease lasts that is not renewed
	Members []Place        `json:"members"` // all of the role, itself among them; sorted by name

	Store   Access `json:"store"`
	Secured bool   `json:"secured,omitempty"` // guards speak TLS with each other

	Authority   string `json:"authority,omitempty"`   // a file: whom it believes
	Certificate string `json:"certificate,omitempty"` // a file: the member's certificate and its key

	Answers []string       `json:"answers,omitempty"` // where it tells anybody whether the member is ready, leads or follows
	Drain   field.Duration `json:"drain,omitempty"`   // for how long it says that the member is about to go
	Stop    string         `json:"stop,omitempty"`    // the signal by which the program is asked to end

	State    []string   `json:"state"`     // prints how the member is
	Cut      []string   `json:"cut"`       // has it receive nothing
	Confirm  []string   `json:"confirm"`   // has those in CONFIRM confirm every write
	TakeLead [][]string `json:"take_lead"` // has it take writes
	AttachTo [][]string `json:"attach_to"` // has it follow the member in LEAD_MEMBER, LEAD_ADDRESS, LEAD_PORT
}

// Place is where a member and its guard are.
type Place struct {
	Member  Name   `json:"member"`
	Address string `json:"address"`
	Port    int    `json:"port"`  // of the member
	Guard   string `json:"guard"` // address and port of its guard
}

// Access is how the store is reached: an etcd.
type Access struct {
	Role      field.RoleName `json:"role,omitempty"` // of this field
	URLs      []string       `json:"urls"`
	Authority string         `json:"authority,omitempty"` // a file; Config's when empty
	// Certificate is a file with what is shown there, and its key; Config's when empty.
	Certificate string `json:"certificate,omitempty"`
	User        string `json:"user,omitempty"`
	Password    string `json:"password,omitempty"`
}

// StoreAuthority is the file with whom is believed of the store; empty where it speaks no TLS.
func (c *Config) StoreAuthority() string { return cmp.Or(c.Store.Authority, c.Authority) }

// StoreCertificate is the file with what the store is shown; empty where it is shown nothing.
func (c *Config) StoreCertificate() string { return cmp.Or(c.Store.Certificate, c.Certificate) }

// Margin is how much earlier than a lease can end its holder ends it for himself: clocks do not run alike, and ending a program takes time.
func Margin(lasts time.Duration) time.Duration { return max(lasts/10, 200*time.Millisecond) }

// Deadline is until when whoever renewed a lease may go by it: counted from when the renewal was sent, which was before it was granted. Times are those of
// a clock that goes on while the machine sleeps.
func Deadline(sent, lasts time.Duration) time.Duration { return sent + lasts - Margin(lasts) }

// Report is how a member is, as its kit's state command prints it, in JSON.
type Report struct {
	Leads   bool   `json:"leads"`             // takes writes
	Follows string `json:"follows,omitempty"` // the address that it follows, or tries to
	Gets    bool   `json:"gets"`              // it receives from whom it follows
	Stuck   bool   `json:"stuck,omitempty"`   // it cannot follow before it was started again
	Busy    bool   `json:"busy,omitempty"`    // it answers that it has no time: as before

	Confirm []string `json:"confirm"`           // who must confirm a write
	Blocked bool     `json:"blocked,omitempty"` // nobody can
	Mark    int64    `json:"mark,omitempty"`    // differs from one setting to the next
	Written int64    `json:"written"`           // how far it has written

	Followers []Follower `json:"followers,omitempty"`
}

// Follower is one that is connected to a member.
type Follower struct {
	Member  string `json:"member"`
	Gets    bool   `json:"gets"`    // it gets what is written as it is written
	Current bool   `json:"current"` // what serves it goes by the setting that holds
	Flushed int64  `json:"flushed"` // up to where it has all on disk
}
