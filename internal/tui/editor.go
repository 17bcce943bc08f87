package tui

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/field"
)

// editorMsg says that the person has come back from the editor.
type editorMsg struct{ err error }

// openEditor hands the screen to the person's own editor, at the place of the file that speaks of what is under the
// cursor.
func (a *app) openEditor() tea.Cmd {
	if a.inPast() {
		return nil
	}
	words := strings.Fields(firstOf(os.Getenv("VISUAL"), os.Getenv("EDITOR"), "vi"))
	if _, err := exec.LookPath(words[0]); err != nil {
		a.say(true, words[0]+" is not to be found; set EDITOR to the editor that you use.")
		return nil
	}
	args := append(words[1:], lineArgument(words[0], a.lineUnderCursor())...)
	cmd := exec.CommandContext(a.ctx, words[0], append(args, a.file)...)
	return tea.ExecProcess(cmd, func(err error) tea.Msg { return editorMsg{err} })
}

func firstOf(words ...string) string {
	for _, w := range words {
		if strings.TrimSpace(w) != "" {
			return w
		}
	}
	return ""
}

// lineUnderCursor is the line of the file that speaks of what is under the cursor.
func (a *app) lineUnderCursor() int {
	if a.loaded == nil {
		return 1
	}
	at := a.model.Under(a.cursor)
	var path []string
	switch {
	case at.Role != "":
		path = []string{"roles", string(at.Role)}
	case at.Node != "":
		path = []string{"nodes", string(at.Node)}
	case at.Zone != "":
		for _, n := range a.draft.Nodes {
			if n.Zone == at.Zone {
				path = []string{"nodes", string(n.Name)}
				break
			}
		}
	}
	return a.loaded.Line(field.Problem{Path: path})
}

// lineArgument says how the usual editors are told a line; others are only given the file.
func lineArgument(editor string, line int) []string {
	switch filepath.Base(editor) {
	case "vi", "vim", "nvim", "nano", "emacs", "ed", "joe", "mg", "micro", "ne", "kak":
		return []string{"+" + strconv.Itoa(line)}
	}
	return nil
}

func (a *app) backFromEditor(msg editorMsg) tea.Cmd {
	if msg.err != nil {
		a.say(true, "The editor ended badly: "+oneLine(msg.err.Error()))
	}
	return a.readFile()
}
