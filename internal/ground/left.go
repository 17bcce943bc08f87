package ground

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"

	"lanternfield/internal/core/field"
	"lanternfield/internal/host"
)

// Left looks at this machine's folders and processes.
func (l *Local) Left(ctx context.Context, nodes Bindings, made []Made) []string {
	var left []string
	folder := func(name, whose string) {
		if _, err := os.Stat(name); !errors.Is(err, fs.ErrNotExist) {
			left = append(left, fmt.Sprintf("the folder %s of %s", name, whose))
		}
	}
	for _, m := range made {
		folder(m.Folder, string(m.Member))
		for _, pid := range m.PIDs {
			env, _ := os.ReadFile(fmt.Sprintf("/proc/%d/environ", pid))
			if marked(env, m.Member) {
				left = append(left, fmt.Sprintf("process %d of %s", pid, m.Member))
			}
		}
	}
	found := l.Found(ctx)
	var dirs []string
	for _, at := range nodes {
		if at.Dir != "" {
			dirs = append(dirs, at.Dir)
		}
	}
	for _, at := range found { // also those that nobody knows
		dirs = append(dirs, at.Dir)
	}
	running := host.FindIn(dirs)
	processes := func(name field.NodeName, dir string) {
		for _, pid := range running[dir] {
			left = append(left, fmt.Sprintf("process %d, which was started on %s", pid, name))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(nodes)) {
		delete(found, name)
		if nodes[name].Dir == "" {
			continue // it never was there
		}
		folder(nodes[name].Dir, "the agent of "+string(name))
		processes(name, nodes[name].Dir)
	}
	for _, name := range slices.Sorted(maps.Keys(found)) {
		left = append(left, fmt.Sprintf("the folder %s of %s, which the log does not know", found[name].Dir, name))
		processes(name, found[name].Dir)
	}
	return left
}

// marked tells whether an environment is that of a member's process.
func marked(env []byte, member field.MemberName) bool {
	mark := []byte(host.EnvMember + "=" + string(member))
	return slices.ContainsFunc(bytes.Split(env, []byte{0}), func(v []byte) bool { return bytes.Equal(v, mark) })
}
