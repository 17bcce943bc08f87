package hosts

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"lanternfield/internal/carried"
	"lanternfield/internal/core/field"
	"lanternfield/internal/ground"
	"lanternfield/internal/host"
	"lanternfield/internal/identity"
)

// TestAHostTellsOfItself runs the script on this machine, where nothing of ours is.
func TestAHostTellsOfItself(t *testing.T) {
	out, err := exec.CommandContext(context.Background(), "sh", "-c", surveyScript, "x", t.TempDir()+"/below/it", "quay", "gull-1").CombinedOutput()
	if err != nil {
		t.Fatalf("%v %s", err, out)
	}
	s, err := readSurvey(string(out))
	if err != nil {
		t.Fatal(err)
	}
	if s.os != "linux" || s.free == 0 || !strings.HasSuffix(s.root, "/below/it") || len(s.sums) > 0 || s.lives || len(s.lacks) > 0 {
		t.Errorf("it tells %+v of itself: %s", s, out)
	}
	if why, _ := s.fits("127.0.0.1"); why != "" {
		t.Errorf("this machine: %s", why)
	}
}

func TestWhatAHostTellsIsJudged(t *testing.T) {
	const well = "os=Linux\nmachine=x86_64\nuid=0\nroot=/var/lib/lanternfield\nfree=999999\naddress=127.0.0.1\naddress=10.1.0.1\n"
	programs, err := carried.For("amd64")
	if err != nil {
		t.Skip(err)
	}
	for name, x := range map[string]struct{ said, address, why string }{
		"well":          {well, "10.1.0.1", ""},
		"no addresses":  {"os=Linux\nmachine=x86_64\nuid=0\nroot=/r\nfree=999999\n", "10.1.0.1", ""},
		"another":       {well, "10.1.0.9", "does not have the address 10.1.0.9 that the file gives it; it has 10.1.0.1"},
		"architecture":  {strings.Replace(well, "x86_64", "sparc64", 1), "10.1.0.1", "carries no agent for linux/sparc64"},
		"system":        {strings.Replace(well, "Linux", "Plan9", 1), "10.1.0.1", "runs plan9"},
		"full":          {strings.Replace(well, "999999", "1024", 1), "10.1.0.1", "has 1 MiB free where /var/lib/lanternfield lies, and 128 MiB are needed"},
		"full, but set": {strings.Replace(well, "999999", "1024", 1) + "program=" + programs[0].Sum + "  /r/bin/" + programs[0].Name + "\n", "10.1.0.1", ""},
		"tools":         {well + "lacks=gzip\nlacks=sha256sum\n", "10.1.0.1", "lacks gzip, sha256sum"},
	} {
		s, err := readSurvey(x.said)
		if err != nil {
			t.Fatal(name, err)
		}
		if why, do := s.fits(x.address); x.why == "" && why != "" || !strings.Contains(why, x.why) || why != "" && do == "" {
			t.Errorf("%s: %q; %q", name, why, do)
		}
	}
	for _, said := range []string{"", "os=Linux\nuid=0\nroot=relative\n", "bash: no such file\n"} {
		if _, err := readSurvey(said); err == nil {
			t.Errorf("%q is taken", said)
		}
	}
}

// TestAnotherFieldsFolderIsKnown reads who has a folder as the script tells it of what an agent keeps.
func TestAnotherFieldsFolderIsKnown(t *testing.T) {
	authority, _, err := identity.New()
	if err != nil {
		t.Fatal(err)
	}
	var party identity.Agent
	request, err := party.Request()
	if err != nil {
		t.Fatal(err)
	}
	certificate, err := authority.Sign(request, "gull-1")
	if err != nil {
		t.Fatal(err)
	}
	root := t.TempDir()
	dir := filepath.Join(root, "quay", "gull-1")
	if err := errors.Join(party.Take(certificate, authority.Certificate()), os.MkdirAll(host.OwnFolder(dir), 0o700), party.Keep(host.IdentityFile(dir), make([]byte, 32))); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command("sh", "-c", surveyScript, "x", root, "quay", "gull-1").CombinedOutput()
	if err != nil {
		t.Fatalf("%v %s", err, out)
	}
	s, err := readSurvey(string(out))
	if err != nil {
		t.Fatal(err)
	}
	sealed := func(with byte) func(field.NodeName) []byte {
		return func(field.NodeName) []byte { return bytes.Repeat([]byte{with}, 32) }
	}
	for name, x := range map[string]struct {
		seal func(field.NodeName) []byte
		want bool
	}{"ours": {sealed(0), false}, "another's": {sealed(1), true}, "nobody to compare it with": {nil, false}} {
		h := &Hosts{Party: ground.Party{Seal: x.seal}}
		if got := h.foreign("gull-1", s); got != x.want {
			t.Errorf("%s: foreign: %t", name, got)
		}
	}
}

func TestAnAgentThatEndedIsKnownByWhenItWasStarted(t *testing.T) {
	const file = "os=Linux\nmachine=x86_64\nuid=0\nroot=/r\nendpoint={\"url\":\"https://10.1.0.1:7800\",\"pid\":42,\"start_time\":777,\"boot\":\"b1\"}\n"
	stat := func(state, at string) string {
		return "stat=42 (a (b) c) " + state + strings.Repeat(" 0", 18) + " " + at + " 0 0\n"
	}
	for name, x := range map[string]struct {
		said  string
		lives bool
	}{
		"it runs":                 {file + stat("S", "777") + "boot=b1\n", true},
		"its number is another's": {file + stat("S", "778") + "boot=b1\n", false},
		"it has ended":            {file + stat("Z", "777") + "boot=b1\n", false},
		"there is none":           {file + "boot=b1\n", false},
		"the machine was started": {file + stat("S", "777") + "boot=b2\n", false},
	} {
		s, err := readSurvey(x.said)
		if err != nil {
			t.Fatal(err)
		}
		if s.lives != x.lives {
			t.Errorf("%s: it lives: %t", name, s.lives)
		}
	}
}
