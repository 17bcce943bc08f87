package runtime

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// ownName is the command by which kits name the program that the agent itself is.
const ownName = "lanternfield"

// triedAgain is what is said to who waits for a program that a member is started with.
const triedAgain = "; install it on this node, it is tried again"

// LookUp finds a program on the PATH, then in further folders.
func LookUp(name string, further []string) (string, error) {
	if name == ownName { // the demo's programs are in the agent's own file: of the same version, wherever it is installed
		return os.Executable()
	}
	if strings.ContainsRune(name, '/') {
		if _, err := os.Stat(name); err != nil {
			return "", fmt.Errorf("there is no program %s on this node", name)
		}
		return name, nil
	}
	if path, err := exec.LookPath(name); err == nil {
		return filepath.Abs(path)
	}
	for _, dir := range further {
		matches, _ := filepath.Glob(filepath.Join(dir, name))
		if len(matches) > 0 {
			return matches[len(matches)-1], nil
		}
	}
	text := fmt.Sprintf("the program %q is not installed: it is not in %s", name, os.Getenv("PATH"))
	if len(further) > 0 {
		text += " nor in " + strings.Join(further, ", ")
	}
	return "", errors.New(text + triedAgain)
}
