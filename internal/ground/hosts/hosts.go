// Package hosts is the ground of hosts that are reached by SSH: it looks whether a host can be a node, brings the agent there, has it run, and takes
// everything away again. Agents are then spoken to at their own port, or in a tunnel through SSH.
package hosts

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path"
	"slices"
	"strings"
	"sync"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/carried"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wording"
	"lanternfield/internal/ground"
	"lanternfield/internal/ground/kind"
	"lanternfield/internal/host"
	"lanternfield/internal/secureshell"
)

// Hosts is the ground of hosts that are reached by SSH.
type Hosts struct {
	ground.Party
	Field string
	Cache ground.Notes // where agents answer
	Known string       // the file of host keys that were accepted for this field
	// Brought notes the keys that were brought to hosts. They stay when a field is retired: people log in by them.
	Brought ground.Notes

	releases ground.Releases

	mu    sync.Mutex
	conns map[string]*shared // by how they are reached
}

// atOnce is how many hosts something is put on at the same time.
const atOnce = 16

var _ ground.Ground = (*Hosts)(nil)

// each does something about many hosts, so many at once, and gives the errors in the order of the hosts.
func each(wants []ground.Want, do func(ground.Want) error) []error {
	errs := make([]error, len(wants))
	var working sync.WaitGroup
	places := make(chan struct{}, atOnce)
	for i, w := range wants {
		working.Add(1)
		go func() {
			defer working.Done()
			places <- struct{}{}
			defer func() { <-places }()
			errs[i] = do(w)
		}()
	}
	working.Wait()
	return errs
}

// Reach logs in to hosts, and gives what came of each.
func (h *Hosts) Reach(ctx context.Context, wants []ground.Want) []error {
	return each(wants, func(w ground.Want) error {
		if _, err := h.connect(ctx, w.Address, w.Node.Ground); err != nil {
			return fmt.Errorf("%s: %w", w.Node.Name, err)
		}
		return nil
	})
}

// Check looks at the hosts: each that cannot be a node is named, with the reason and what to do.
func (h *Hosts) Check(ctx context.Context, wants []ground.Want, have ground.Bindings) error {
	wants = slices.DeleteFunc(slices.Clone(wants), func(w ground.Want) bool { return have[w.Node.Name].Address != "" })
	errs := each(wants, func(w ground.Want) error {
		_, err := h.fitting(ctx, w.Node.Name, w.Node.Ground, w.Address)
		return err
	})
	errs = slices.DeleteFunc(errs, func(err error) bool { return err == nil })
	if len(errs) == 0 {
		return nil
	}
	return &UnfitError{Hosts: len(wants), Errs: errs}
}

// UnfitError names the hosts that cannot be nodes.
type UnfitError struct {
	Hosts int // that were looked at
	Errs  []error
}

func (e *UnfitError) Error() string {
	lines := []string{fmt.Sprintf("%d of %s cannot be taken; nothing has been changed:", len(e.Errs), wording.Counted(e.Hosts, "host"))}
	for _, err := range e.Errs {
		lines = append(lines, "  "+err.Error())
	}
	return strings.Join(lines, "\n")
}

func (e *UnfitError) Unwrap() []error { return e.Errs }

// fitting logs in to a host and looks whether it can be a node.
func (h *Hosts) fitting(ctx context.Context, node field.NodeName, g field.Ground, address string) (*survey, error) {
	c, err := h.connect(ctx, address, g)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", node, err)
	}
	s, err := look(ctx, c, g.Folder, h.Field, node)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", node, err)
	}
	why, do := s.fits(address)
	if why == "" && h.foreign(node, s) {
		why = fmt.Sprintf("has another field %s that has a node %s there, in %s", h.Field, node, s.root)
		do = "retire that one, or give this field another name or another `folder:`"
	}
	if why != "" {
		return nil, fmt.Errorf("%s: %w", node, &secureshell.Fault{Kind: secureshell.Failed, Host: c.Target.String(), Why: why, Do: do})
	}
	return s, nil
}

// Give puts the agent's program on a host. A host that is given already is only reached in another way from now on.
func (h *Hosts) Give(ctx context.Context, want ground.Want, have ground.Bindings) (state.Binding, error) {
	node, g := want.Node.Name, want.Node.Ground
	at := state.Binding{Kind: kind.SSH, Address: want.Address, Dir: have[node].Dir, ID: have[node].ID}
	for _, network := range want.Networks[min(1, len(want.Networks)):] {
		if at.Addresses == nil {
			at.Addresses = map[string]string{}
		}
		at.Addresses[network] = want.Node.Addresses[network]
	}
	if at.Dir != "" {
		h.forget(node)
		return at, nil
	}
	s, err := h.fitting(ctx, node, g, want.Address)
	if err != nil {
		return at, err
	}
	c, err := h.connect(ctx, want.Address, g)
	if err != nil {
		return at, err
	}
	at.Dir, at.ID = path.Join(s.root, h.Field, string(node)), c.Target.String()
	return at, h.bring(ctx, c, s, at.Dir)
}

// putScript takes a program, compressed, on standard input; it is run with the node's folder, the program's name and its checksum. What was there
// before stays until the new one is whole.
const putScript = `set -e; umask 022; mkdir -p "$1/bin"; cd "$1/bin"; rm -f .new.*; t=.new.$$; trap 'rm -f "$t"' EXIT; gzip -dc >"$t"; ` +
	`if [ "$(sha256sum <"$t" | cut -c1-64)" != "$3" ]; then echo "what has arrived is not what was sent" >&2; exit 9; fi; chmod 755 "$t"; mv -f "$t" "$2"`

// bring puts the programs on a host that are not there yet, or are others. It tells whether there were any through the survey's sums.
func (h *Hosts) bring(ctx context.Context, c *secureshell.Conn, s *survey, dir string) error {
	programs, err := carried.For(s.arch)
	if err != nil {
		return err
	}
	for _, p := range programs {
		if s.sums[p.Name] == p.Sum {
			continue
		}
		packed, err := p.Packed()
		if err != nil {
			return err
		}
		if _, err := c.Run(ctx, bytes.NewReader(packed), putScript, dir, p.Name, p.Sum); err != nil {
			return fmt.Errorf("%s cannot be put there: %w", p.Name, err)
		}
	}
	return nil
}

// current tells whether the programs on a host are those that are carried.
func (s *survey) current() bool {
	programs, err := carried.For(s.arch)
	return err == nil && !slices.ContainsFunc(programs, func(p carried.Program) bool { return s.sums[p.Name] != p.Sum })
}

// onHost is a command of the agent's program about a node, as its script takes it.
const onHost = `exec "$2/bin/` + host.AgentProgram + `" "$1" --dir "$2" --field "$3" --node "$4" --address "$5" --ports "$6"`

func (h *Hosts) args(command string, node field.NodeName, at state.Binding) []string {
	first, last := at.Ground.AgentPorts()
	return []string{command, at.Dir, h.Field, string(node), at.Address, fmt.Sprintf("%d-%d", first, last)}
}

// start has the agent run on a host, enrolled by us, and gives where it answers.
func (h *Hosts) start(ctx context.Context, c *secureshell.Conn, node field.NodeName, at state.Binding) (url string, err error) {
	talk, err := c.Talk(ctx, onHost, h.args("start", node, at)...)
	if err != nil {
		return "", err
	}
	url, err = h.Authority.Enrol(talk, string(node), h.Seal(node))
	if ended := talk.Close(); ended != nil {
		err = ended // what the program said is better than that it said nothing
	}
	if err != nil {
		return "", fmt.Errorf("the agent of %s did not come up: %w", node, err)
	}
	return url, h.note(node, url)
}

// Abandon has nothing to do: an agent whose folder is gone cannot be told from here from one of another host.
func (h *Hosts) Abandon(context.Context, field.NodeName, state.Binding) error { return nil }

// Found gives nothing: hosts are known by the log alone.
func (h *Hosts) Found(context.Context) ground.Bindings { return nil }

// SetAside cannot be done from here.
func (h *Hosts) SetAside(_ context.Context, node field.NodeName, _ state.Binding) (string, error) {
	return "", fmt.Errorf("%s is a host, and what is on it is not set aside from here", node)
}

// removeScript ends what is there and takes it away; where the agent's program is gone, the folder alone.
const removeScript = `if [ -x "$2/bin/` + host.AgentProgram + `" ]; then ` + onHost + `; fi; rm -rf -- "$2"; rmdir "$(dirname "$2")" 2>/dev/null; true`

// Release takes everything of a node away from its host.
func (h *Hosts) Release(ctx context.Context, node field.NodeName, at state.Binding) error {
	if at.Dir == "" {
		return nil
	}
	c, err := h.connect(ctx, at.Address, at.Ground)
	if err != nil {
		return err
	}
	s, err := look(ctx, c, folderOf(at), h.Field, node)
	if err != nil {
		return err
	}
	if h.foreign(node, s) { // it came there after this node was lost, and is not ours to take away
		slog.Warn("what is on a host belongs to another field of the same name, and is left alone", "node", node, "folder", at.Dir)
		h.forget(node)
		return nil
	}
	if _, err := c.Run(ctx, nil, removeScript, h.args("remove", node, at)...); err != nil {
		return fmt.Errorf("%s cannot be given back: %w", node, err)
	}
	h.forget(node)
	h.drop(at)
	return nil
}

// leftScript looks for what is left of a node, without any program of ours: its folder, its unit, processes that bear its mark.
const leftScript = `if [ -e "$1" ]; then echo "the folder $1"; fi; u=/etc/systemd/system/lanternfield-$2-$3.service; if [ -e "$u" ]; then echo "the unit $u"; fi; ` +
	`if command -v nft >/dev/null && nft list table inet "lanternfield-$2-$3" >/dev/null 2>&1; then echo "the table lanternfield-$2-$3 of the packet filter"; fi; ` +
	`for e in $(grep -lsF "LANTERNFIELD_HOME=$1" /proc/[0-9]*/environ); do p=${e#/proc/}; p=${p%/environ}; ` +
	`if tr '\0' '\n' <"$e" 2>/dev/null | grep -qxF "LANTERNFIELD_HOME=$1"; then echo "process $p of a member"; fi; done; ` +
	`for e in $(grep -lsF "$1/bin/lanternfield-" /proc/[0-9]*/cmdline); do p=${e#/proc/}; p=${p%/cmdline}; ` +
	`if [ "$p" != $$ ] && tr '\0' '\n' <"$e" 2>/dev/null | head -1 | grep -qF "$1/bin/"; then echo "process $p of the agent"; fi; done`

// Left looks on the hosts.
func (h *Hosts) Left(ctx context.Context, nodes ground.Bindings, _ []ground.Made) []string {
	var mu sync.Mutex
	var left []string
	var looking sync.WaitGroup
	for node, at := range nodes {
		if at.Dir == "" {
			continue
		}
		looking.Add(1)
		go func() {
			defer looking.Done()
			c, err := h.connect(ctx, at.Address, at.Ground)
			said := ""
			if err == nil {
				said, err = c.Run(ctx, nil, leftScript, at.Dir, h.Field, string(node))
			}
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				left = append(left, fmt.Sprintf("%s, on which nothing could be looked for: %v", node, err))
			}
			for line := range strings.Lines(said) {
				left = append(left, fmt.Sprintf("%s on %s", strings.TrimSpace(line), node))
			}
		}()
	}
	looking.Wait()
	h.closeAll()
	slices.Sort(left)
	return left
}

// errSealed says why no agent is started.
var errSealed = errors.New("its agent does not run, and none is started while the keyring is sealed")

// Find gives a client of the node's agent where it answered last.
func (h *Hosts) Find(ctx context.Context, node field.NodeName, at state.Binding) (agentapi.Agent, error) {
	url := h.noted(node)
	if url == "" {
		c, err := h.connect(ctx, at.Address, at.Ground)
		if err != nil {
			return nil, err
		}
		s, err := look(ctx, c, folderOf(at), h.Field, node)
		if err != nil {
			return nil, err
		}
		if !s.lives {
			return nil, errors.New("its agent does not run")
		}
		url = s.end.URL
		if err := h.note(node, url); err != nil {
			return nil, err
		}
	}
	return h.client(node, at, url)
}

// folderOf is the folder in which what is ours lies on the host of a node that was given.
func folderOf(at state.Binding) string {
	return cmp.Or(at.Ground.Folder, path.Dir(path.Dir(at.Dir)))
}
