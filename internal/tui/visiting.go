package tui

import (
	"os"
	"os/exec"
	"path/filepath"

	tea "charm.land/bubbletea/v2"
)

// shellMsg says that the person has come back from a shell at a member.
type shellMsg struct {
	member string
	err    error
}

// waitsThere runs a command and, where it could not do what it was to, waits until its reason has been read.
const waitsThere = `"$@"; code=$?; if [ $code = 2 ]; then printf 'enter goes back to the board '; read -r _; fi; exit $code`

// openShell hands the screen to a shell at the member under the cursor.
func (a *app) openShell() tea.Cmd {
	at := a.model.Under(a.cursor)
	switch {
	case a.inPast():
		return nil
	case at.Member == "":
		a.say(true, "A shell is opened at one member: put the cursor on it.")
		return nil
	}
	binary, err := os.Executable()
	if err != nil {
		a.say(true, oneLine(err.Error()))
		return nil
	}
	name := string(at.Member)
	cmd := exec.CommandContext(a.ctx, "sh", "-c", waitsThere, "sh", binary, "shell", name, "--field", filepath.Base(a.folder.Dir), "--state", filepath.Dir(a.folder.Dir))
	return tea.ExecProcess(cmd, func(err error) tea.Msg { return shellMsg{name, err} })
}

// backFromShell says where one has been.
func (a *app) backFromShell(msg shellMsg) tea.Cmd {
	a.say(false, "Back from "+msg.member+".")
	return a.readLately()
}
