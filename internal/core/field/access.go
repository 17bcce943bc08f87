package field

// Access is how a client gets at a program. Texts are templates over a member of the role, with .Hosts, .ReadHosts, .User, .Password, .AuthorityFile and
// .ClientFile besides.
type Access struct {
	Port    string `json:"port,omitempty"` // that clients connect to; client when empty
	User    string `json:"user,omitempty"`
	Secret  string `json:"secret,omitempty"`  // the name of the secret that the user shows
	Client  string `json:"client,omitempty"`  // whether clients show a certificate of the field: a template that gives true or false
	Purpose string `json:"purpose,omitempty"` // what can be done there, in words
	// Passes is, for an entry, which of its ports leads where: write and read, each the name of a port.
	Passes map[string]string `json:"passes,omitempty"`
	Forms  []Form            `json:"forms,omitempty"`
	Env    map[string]Text   `json:"env,omitempty"`     // by which the client's own tools find their way
	Files  map[string]string `json:"files,omitempty"`   // that clients read, by name
	Tool   *Tool             `json:"tool,omitempty"`    // the client's own
	Begin  []string          `json:"command,omitempty"` // the tool, with what it is to be told besides Env
}

// Form is one way to write down how a client connects.
type Form struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// Tool is a program of the client's.
type Tool struct {
	VersionOf
	Package string `json:"package,omitempty"` // Debian's, that has it
}

// ClientPort is the port that clients connect to.
func (a *Access) ClientPort() string {
	if a == nil || a.Port == "" {
		return "client"
	}
	return a.Port
}
