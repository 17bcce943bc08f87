package hosts

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"time"

	"lanternfield/internal/carried"
	"lanternfield/internal/ground"
	"lanternfield/internal/host"
	"lanternfield/internal/inspect"
	"lanternfield/internal/secureshell"
)

// broughtScript takes the agent's program, compressed, on standard input, into a folder of its own that it names; it is run with the checksum, and the folder
// in which that is made: the one below which what is ours will lie, since programs can often not be run from the one for what is temporary.
const broughtScript = `set -e; umask 077; d=$(mktemp -d "$2/.lanternfield-look.XXXXXX"); gzip -dc >"$d/` + host.AgentProgram + `" || { rm -rf "$d"; exit 9; }; ` +
	`if [ "$(sha256sum <"$d/` + host.AgentProgram + `" | cut -c1-64)" != "$1" ]; then rm -rf "$d"; echo "what has arrived is not what was sent" >&2; exit 9; fi; chmod 700 "$d/` + host.AgentProgram + `"; echo "$d"`

// inspectScript runs it, and takes its folder away, however that ends.
const inspectScript = `trap 'rm -rf "$1"' EXIT HUP TERM PIPE; PATH=` + host.ServicePath + ` "$1/` + host.AgentProgram + `" inspect`

// Inspect looks at a host on which nothing of ours is yet: the agent's program is brought there for the time, and taken away again. Where lies what is ours
// is told besides. Errors of the way there are of type *secureshell.Fault.
func (h *Hosts) Inspect(ctx context.Context, w ground.Want) (c *inspect.Client, folder string, err error) {
	s, err := h.fitting(ctx, w.Node.Name, w.Node.Ground, w.Address)
	if err != nil {
		return nil, "", err
	}
	conn, err := h.connect(ctx, w.Address, w.Node.Ground)
	if err != nil {
		return nil, "", err
	}
	programs, err := carried.For(s.arch)
	if err != nil {
		return nil, "", err
	}
	for _, p := range programs {
		if p.Name != host.AgentProgram {
			continue
		}
		packed, err := p.Packed()
		if err != nil {
			return nil, "", err
		}
		at, err := conn.Run(ctx, bytes.NewReader(packed), broughtScript, p.Sum, s.near)
		if err != nil {
			return nil, "", err
		}
		talk, err := conn.Talk(ctx, inspectScript, strings.TrimSpace(at))
		if err != nil {
			return nil, "", err
		}
		return inspect.NewClient(quietly{talk}), s.root, nil
	}
	return nil, "", fmt.Errorf("no %s is carried", host.AgentProgram)
}

// quietly closes a talk without its error, and without waiting for one that is cut off: that it was ended is no news.
type quietly struct{ *secureshell.Talk }

// quietWithin is for how long the other side is waited for.
const quietWithin = 3 * time.Second

func (q quietly) Close() error {
	done := make(chan struct{})
	go func() {
		_ = q.Talk.Close()
		close(done)
	}()
	select {
	case <-done:
	case <-time.After(quietWithin):
	}
	return nil
}
