package field

import (
	"maps"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Notices says of what a person is told, and where. What a field says nothing of has a value that suits most.
type Notices struct {
	After        Duration             `json:"after,omitempty"`        // how long something must be so before it is told
	Survives     *int                 `json:"survives,omitempty"`     // told when a role survives that many losses or fewer, and did survive more
	Certificates Duration             `json:"certificates,omitempty"` // told when one ends within that time
	Disk         int                  `json:"disk,omitempty"`         // told when so much of a disk, in percent, or less is free
	Lag          map[RoleName]float64 `json:"lag,omitempty"`          // told when a member of the role is further behind than that
	Webhooks     []Webhook            `json:"webhooks,omitempty"`
}

// Webhook is who is told by a request over HTTPS.
type Webhook struct {
	URL       string `json:"url"`
	Secret    string `json:"secret"`              // by which what is told is signed: one of the field's given secrets
	Authority string `json:"authority,omitempty"` // the file with the authority of its certificate, where it is none that the machine knows
}

// What holds of notices where a field says nothing.
const (
	NoticeAfter    = 15 * time.Second
	NoticeSurvives = 0
	NoticeDisk     = 5
)

// UsesWebhook tells whether what a webhook is told is signed by that secret.
func (f *Field) UsesWebhook(secret string) bool {
	return slices.ContainsFunc(f.Notices.Webhooks, func(w Webhook) bool { return w.Secret == secret })
}

// notices finds what cannot be meant.
func (v *validator) notices() {
	for _, role := range slices.Sorted(maps.Keys(v.Notices.Lag)) {
		r := v.Role(role)
		switch {
		case r == nil:
			v.add([]string{"notices", "lag", string(role)}, didYouMean(string(role), v.roleNames()), "there is no role %s", role)
		case r.Program != nil && r.Program.Lag == nil:
			v.add([]string{"notices", "lag", string(role)}, "docs/programs.md says how a program tells its lag", "the program of %s does not tell how far its members are behind", role)
		}
	}
	seen := map[string]bool{}
	for i, w := range v.Notices.Webhooks {
		path := []string{"notices", "webhooks", strconv.Itoa(i)}
		to, err := url.Parse(w.URL)
		switch {
		case err != nil || to.Host == "":
			v.add(append(path, "url"), "write https://HOST/PATH", "%q is no address that could be asked", w.URL)
		case to.User != nil:
			v.add(append(path, "url"), "what is told is signed by the secret; whoever is told checks that", "a name or password stands in the address of a webhook, where everybody who sees the file reads it")
		case to.Scheme != "https" && !(to.Scheme == "http" && isLoopback(to.Hostname())):
			v.add(append(path, "url"), "write https://…", "a webhook is told over https alone, unless it is on this machine")
		case seen[w.URL]:
			v.add(append(path, "url"), "", "%s stands there twice", w.URL)
		}
		seen[w.URL] = true
		v.absolute(append(path, "authority"), w.Authority)
		if _, given := v.Secrets[w.Secret]; !given {
			v.add(append(path, "secret"), "secrets: {"+w.Secret+": {file: PATH}}", "the secret %s, by which the webhook checks who tells it something, is not among those that are given", w.Secret)
		}
	}
}

// absolute finds a path that leads elsewhere for each who reads it.
func (v *validator) absolute(path []string, name string) {
	if name != "" && !strings.HasPrefix(name, "/") {
		v.add(path, "begin it with /", "%s is no absolute path", name)
	}
}

func isLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}
