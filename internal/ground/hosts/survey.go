package hosts

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"lanternfield/internal/carried"
	"lanternfield/internal/core/field"
	"lanternfield/internal/host"
	"lanternfield/internal/secureshell"
)

// survey is what a host tells of itself before anything of ours is on it.
type survey struct {
	os, arch  string // as Go names them
	uid       int
	root      string // the folder in which what is ours lies
	near      string // the nearest folder above it that is there
	lacks     []string
	free      int64 // bytes, where root is or would be
	addresses []netip.Addr
	sums      map[string]string // of the programs that are there, by name
	end       host.Endpoint     // where the agent answered last
	lives     bool              // the agent that wrote that
	seal      string            // SHA-256, in hex, of what the agent seals with whose folder it is, as its file writes it; empty where there is none
}

// surveyScript is run with the folder that the file names, the field and the node. It changes nothing, and says one thing a line.
const surveyScript = `echo "os=$(uname -s)"; echo "machine=$(uname -m)"; echo "uid=$(id -u)"; ` +
	`for t in gzip sha256sum mkdir mv; do command -v $t >/dev/null || echo "lacks=$t"; done; ` +
	`d=$1; if [ -z "$d" ]; then if [ "$(id -u)" = 0 ]; then d=/var/lib/lanternfield; else d=$HOME/.local/state/lanternfield; fi; fi; echo "root=$d"; ` +
	`x=$d; while [ ! -d "$x" ]; do x=$(dirname "$x"); done; echo "near=$x"; echo "free=$(df -Pk "$x" | tail -1 | awk '{print $4}')"; ` +
	`for a in $(ip -o addr show 2>/dev/null | awk '{print $4}'); do echo "address=${a%%/*}"; done; ` +
	`n=$d/$2/$3; for p in "$n"/bin/lanternfield-*; do if [ -f "$p" ]; then echo "program=$(sha256sum "$p")"; fi; done; ` +
	`if [ -f "$n/agent/identity.json" ]; then s=$(sed -n 's/.*"seal":"\([^"]*\)".*/\1/p' "$n/agent/identity.json"); echo "seal=$(printf %s "$s" | sha256sum | cut -c1-64)"; fi; ` +
	`if [ -f "$n/agent/agent.json" ]; then echo "endpoint=$(cat "$n/agent/agent.json")"; p=$(sed -n 's/.*"pid": *\([0-9]*\).*/\1/p' "$n/agent/agent.json"); ` +
	`if [ -r "/proc/$p/stat" ]; then echo "stat=$(cat "/proc/$p/stat")"; fi; echo "boot=$(cat /proc/sys/kernel/random/boot_id)"; fi`

// architectures are the names of the kernel for what Go names otherwise.
var architectures = map[string]string{"x86_64": "amd64", "aarch64": "arm64", "armv8l": "arm64"}

// look has a host tell of itself.
func look(ctx context.Context, c *secureshell.Conn, folder, fieldName string, node field.NodeName) (*survey, error) {
	said, err := c.Run(ctx, nil, surveyScript, folder, fieldName, string(node))
	if err != nil {
		return nil, err
	}
	return readSurvey(said)
}

// readSurvey reads what the script says.
func readSurvey(said string) (*survey, error) {
	s := &survey{sums: map[string]string{}, uid: -1}
	var started int64
	var boot string
	for line := range strings.Lines(said) {
		key, value, _ := strings.Cut(strings.TrimSpace(line), "=")
		switch key {
		case "os":
			s.os = strings.ToLower(value)
		case "machine":
			if s.arch = architectures[value]; s.arch == "" {
				s.arch = value
			}
		case "uid":
			if n, err := strconv.Atoi(value); err == nil {
				s.uid = n
			}
		case "lacks":
			s.lacks = append(s.lacks, value)
		case "root":
			s.root = value
		case "near":
			s.near = value
		case "free":
			n, _ := strconv.ParseInt(value, 10, 64)
			s.free = n << 10
		case "address":
			if a, err := netip.ParseAddr(value); err == nil {
				s.addresses = append(s.addresses, a)
			}
		case "program":
			sum, path, _ := strings.Cut(value, " ")
			s.sums[path[strings.LastIndexByte(path, '/')+1:]] = sum
		case "endpoint":
			_ = json.Unmarshal([]byte(value), &s.end) // one that cannot be read is none
		case "stat":
			started = startedAt(value)
		case "seal":
			s.seal = value
		case "boot":
			boot = value
		}
	}
	if s.os == "" || s.uid < 0 || !strings.HasPrefix(s.root, "/") {
		return nil, fmt.Errorf("it does not say what it is: %.200q", said)
	}
	s.lives = s.end.PID > 0 && started == s.end.StartTime && (s.end.Boot == "" || s.end.Boot == boot)
	return s, nil
}

// startedAt reads when a process was started out of the kernel's line about it: the 22nd field, counted on from behind the name; 0 for one that has
// ended.
func startedAt(stat string) int64 {
	f := strings.Fields(stat[strings.LastIndexByte(stat, ')')+1:])
	if len(f) < 20 || f[0] == "Z" {
		return 0
	}
	at, _ := strconv.ParseInt(f[19], 10, 64)
	return at
}

// foreign tells whether the node's folder on the host is that of another field of the same name: what its agent seals with follows from another key.
func (h *Hosts) foreign(node field.NodeName, s *survey) bool {
	if h.Seal == nil || s.seal == "" {
		return false
	}
	sum := sha256.Sum256([]byte(base64.StdEncoding.EncodeToString(h.Seal(node))))
	return s.seal != hex.EncodeToString(sum[:])
}

// needs is how many bytes a host has to have free for what is put on it.
const needs = 128 << 20

// fits says what speaks against a host with an address; empty where nothing does.
func (s *survey) fits(address string) (why, do string) {
	if s.os != "linux" {
		return "runs " + s.os, "hosts have to run Linux"
	}
	if _, err := carried.For(s.arch); err != nil {
		return "has another architecture: " + err.Error(), "take another host"
	}
	if len(s.lacks) > 0 {
		return "lacks " + strings.Join(s.lacks, ", "), "install it there"
	}
	if s.free < needs && len(s.sums) == 0 {
		return fmt.Sprintf("has %d MiB free where %s lies, and %d MiB are needed", s.free>>20, s.root, int64(needs)>>20), "free some, or say another `folder:`"
	}
	if a, err := netip.ParseAddr(address); err == nil && len(s.addresses) > 0 && !slices.Contains(s.addresses, a) {
		var have []string
		for _, x := range s.addresses {
			if !x.IsLoopback() && !x.IsLinkLocalUnicast() {
				have = append(have, x.String())
			}
		}
		return fmt.Sprintf("does not have the address %s that the file gives it; it has %s", address, strings.Join(have, ", ")), "is it the right host? Correct `address:`, and say `host:` for the name by which SSH knows it"
	}
	return "", ""
}
