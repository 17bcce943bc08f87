package field

import (
	"strings"
	"testing"
)

// A version is found in what a program writes, and judged number by number.
func TestVersionsAreReadAndJudged(t *testing.T) {
	etcd := &VersionOf{Exec: []string{"etcd", "--version"}, Pattern: "etcd Version: ([0-9.]+)", Least: "3.4"}
	for _, s := range []struct{ output, want, found, says string }{
		{"etcd Version: 3.4.23\nGit SHA: 1\n", "", "3.4.23", ""},
		{"etcd Version: 3.10.1", "", "3.10.1", ""},
		{"etcd Version: 3.3.9", "", "3.3.9", "etcd here is version 3.3.9, and 3.4 is the oldest that works"},
		{"etcd Version: 3", "", "3", "3.4 is the oldest that works"},
		{"etcd Version: 4", "", "4", ""},
		{"etcd Version: 3.5.1", "3.5", "3.5.1", ""},
		{"etcd Version: 3.5", "3.5", "3.5", ""},
		{"etcd Version: 3.50", "3.5", "3.50", "version 3.5 is wanted"},
		{"etcd Version: 3.4.23", "3.5", "3.4.23", "etcd here is version 3.4.23, and version 3.5 is wanted"},
		{"no such option\nusage", "", "", "what etcd --version says has no version by the pattern"},
		{"", "", "", "has no version by the pattern"},
	} {
		found, err := etcd.Read(s.output)
		if found != s.found {
			t.Errorf("%q: found %q", s.output, found)
		}
		if err == nil {
			err = etcd.Suits(found, s.want)
		}
		if (err == nil) != (s.says == "") || err != nil && !strings.Contains(err.Error(), s.says) {
			t.Errorf("%q, wanted %q: %v", s.output, s.want, err)
		}
	}
}
