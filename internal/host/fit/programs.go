package fit

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/host"
)

// ownName is the command by which kits name the program that the agent itself is.
const ownName = "lanternfield"

// TriedAgain is what is said to who waits for a program that a member is started with.
const TriedAgain = "; install it on this node, it is tried again"

// LookUp finds a program on the PATH, then in further folders.
func LookUp(name string, further []string) (string, error) {
	if name == field.OutsideProgram {
		return os.Executable()
	}
	if name == ownName { // the demo's programs are in the agent's own file: of the same version, wherever it is installed
		if own, err := os.Executable(); err != nil || filepath.Base(own) != host.AgentProgram {
			return own, err
		}
	}
	if strings.ContainsRune(name, '/') {
		if _, err := os.Stat(name); err != nil {
			return "", fmt.Errorf("there is no program %s on this node", name)
		}
		return name, nil
	}
	if found := all(name, further); len(found) > 0 {
		return found[0], nil
	}
	text := fmt.Sprintf("the program %q is not installed: it is not in %s", name, os.Getenv("PATH"))
	if len(further) > 0 {
		text += " nor in " + strings.Join(further, ", ")
	}
	return "", errors.New(text + TriedAgain)
}

// newestFirst orders folders by the numbers in their names.
func newestFirst(dirs []string) []string {
	slices.SortFunc(dirs, func(a, b string) int {
		switch {
		case field.Older(b, a):
			return -1
		case field.Older(a, b):
			return 1
		}
		return strings.Compare(b, a)
	})
	return dirs
}

// LookUpIn finds a program in the folder of the version that was chosen, where one was; else as LookUp does.
func LookUpIn(name, chosen string, further []string) (string, error) {
	if chosen != "" && name != ownName && name != field.OutsideProgram && !strings.ContainsRune(name, '/') {
		if path, err := exec.LookPath(filepath.Join(chosen, name)); err == nil {
			return path, nil
		}
	}
	return LookUp(name, further)
}

// all lists where a program of that name is, the first choice first: on the PATH, then in further folders, there the last match of each.
func all(name string, further []string) []string {
	var found []string
	if path, err := exec.LookPath(name); err == nil {
		if path, err = filepath.Abs(path); err == nil {
			found = append(found, path)
		}
	}
	for _, dir := range further {
		matches, _ := filepath.Glob(filepath.Join(dir, name))
		found = append(found, newestFirst(matches)...)
	}
	return found
}

// PathOf is the PATH of a member: the folder of the version that it is run in, where that was to be chosen, the agent's own, and the further
// folders of its program.
func PathOf(chosen string, further []string) string {
	var dirs []string
	if chosen != "" {
		dirs = append(dirs, chosen)
	}
	dirs = append(dirs, filepath.SplitList(os.Getenv("PATH"))...)
	for _, dir := range further {
		matches, _ := filepath.Glob(dir)
		for _, m := range newestFirst(matches) {
			if !slices.Contains(dirs, m) {
				dirs = append(dirs, m)
			}
		}
	}
	return strings.Join(dirs, string(filepath.ListSeparator))
}
