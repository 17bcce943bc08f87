package carried

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"runtime"
	"strings"
	"testing"

	"lanternfield/internal/host"
)

// most is how large the program of an agent may be.
const most = 15 << 20

func TestTheAgentsAreLightAndWhole(t *testing.T) {
	programs, err := For(runtime.GOARCH)
	if err != nil {
		t.Fatalf("%v (run `make build` first)", err)
	}
	names := map[string]bool{}
	for _, p := range programs {
		names[p.Name] = true
		packed, err := p.Packed()
		if err != nil {
			t.Fatal(err)
		}
		in, err := gzip.NewReader(bytes.NewReader(packed))
		if err != nil {
			t.Fatal(err)
		}
		data, err := io.ReadAll(in)
		if err != nil {
			t.Fatal(err)
		}
		sum := sha256.Sum256(data)
		if hex.EncodeToString(sum[:]) != p.Sum || int64(len(data)) != p.Size {
			t.Errorf("%s is %x, %d bytes; the list says %s, %d bytes", p.Name, sum, len(data), p.Sum, p.Size)
		}
		if p.Name == host.AgentProgram && p.Size > most {
			t.Errorf("%s has %d bytes, at most %d were promised", p.Name, p.Size, most)
		}
	}
	if !names[host.AgentProgram] || !names[host.GuardProgram] {
		t.Errorf("it carries %v", names)
	}
}

func TestAnArchitectureThatIsNotCarriedIsSaid(t *testing.T) {
	if _, err := For("pdp11"); err == nil || !strings.Contains(err.Error(), "no agent for linux/pdp11; it has those for linux/") {
		t.Errorf("got %v", err)
	}
}
