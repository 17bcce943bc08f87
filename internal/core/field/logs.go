package field

import (
	"net/url"
	"strings"
)

// Logs says where the lines go that members of a role write, besides the file on their node.
type Logs struct {
	To        string `json:"to"`                  // syslog://HOST:PORT (RFC 5424 over TLS), or https://HOST/PATH (OTLP over HTTP)
	Authority string `json:"authority,omitempty"` // the file, on the nodes, with the authority of its certificate; the machine's own when empty
}

// SyslogPort is where syslog over TLS is listened for, where an address says none.
const SyslogPort = "6514"

// Syslog is the address to which lines go as syslog; empty where they go otherwise.
func (l Logs) Syslog() string {
	to, err := url.Parse(l.To)
	if err != nil || to.Scheme != "syslog" {
		return ""
	}
	if to.Port() == "" {
		return to.Hostname() + ":" + SyslogPort
	}
	return to.Host
}

// logs finds what cannot be meant.
func (v *validator) logs(r *Role) {
	if r.Logs == nil {
		return
	}
	path := []string{"roles", string(r.Name), "logs", "to"}
	v.absolute([]string{"roles", string(r.Name), "logs", "authority"}, r.Logs.Authority)
	to, err := url.Parse(r.Logs.To)
	switch {
	case err != nil || to.Host == "":
		v.add(path, "write syslog://HOST:6514, or https://HOST/v1/logs", "%q is no address to which lines could be sent", r.Logs.To)
	case to.User != nil:
		v.add(path, "", "a name or password stands in the address to which lines go, where everybody who sees the file reads it")
	case to.Scheme == "syslog" && strings.Trim(to.Path, "/") != "":
		v.add(path, "write syslog://"+to.Host, "an address of syslog has no path")
	case to.Scheme != "syslog" && to.Scheme != "https" && !(to.Scheme == "http" && isLoopback(to.Hostname())):
		v.add(path, "write syslog://HOST:6514, or https://HOST/v1/logs", "lines are sent by syslog over TLS or by OTLP over HTTPS; plain http is for this machine alone")
	}
}
