package tui

import (
	"bytes"
	"fmt"
	"os"
	"time"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/fieldfile"
)

// edit is one change of the field file that was made on the screen. It knows the file before and after, so that undoing
// is writing the one over the other.
type edit struct {
	what          string // for people: "crews: 5 members"
	before, after []byte
}

// edits are the changes made on this screen, newest last, and those that have been undone.
type edits struct{ done, undone []edit }

// savedMsg says that the file has been written, or why not.
type savedMsg struct {
	file  *fieldfile.File
	found []finding.Finding
	stamp time.Time
	said  string
	next  edits // once it is written
	err   error
}

// role gives the role under the cursor; ok is false on the nodes.
func (a *app) role() (name field.RoleName, ok bool) {
	if a.cursor.Role < 0 || a.cursor.Role >= len(a.model.Roles) {
		return "", false
	}
	return a.model.Roles[a.cursor.Role].Role, true
}

// count changes how many members the draft wants of the role under the cursor.
func (a *app) count(by int) tea.Cmd {
	name, ok := a.role()
	switch {
	case !ok:
		a.say(true, "Stand on a role, or on one of its members: + and - change how many it has.")
		return nil
	case a.loaded == nil || a.loaded.Field.Role(name) == nil:
		a.say(true, fmt.Sprintf("The file has no role %s that could be changed.", name))
		return nil
	}
	n := a.loaded.Field.Role(name).Members + by
	if n < 0 {
		a.say(true, fmt.Sprintf("%s has no members in the draft already.", name))
		return nil
	}
	data, err := a.loaded.SetMembers(name, n)
	if err != nil {
		a.say(true, err.Error())
		return nil
	}
	e := edit{what: fmt.Sprintf("%s: %s", name, membersInWords(n)), before: a.loaded.Bytes, after: data}
	return a.write(data, fmt.Sprintf("%s in the draft; u undoes that, v shows what deploying it would change.", e.what),
		edits{done: append(a.edits.done[:len(a.edits.done):len(a.edits.done)], e)})
}

func membersInWords(n int) string {
	if n == 1 {
		return "1 member"
	}
	return fmt.Sprintf("%d members", n)
}

// undo takes the newest change back; redo makes the one that was undone last again.
func (a *app) undo() tea.Cmd {
	n := len(a.edits.done)
	if n == 0 {
		a.say(false, "Nothing was changed on this screen that could be undone.")
		return nil
	}
	e := a.edits.done[n-1]
	return a.travel(e.after, e.before, "Undone: "+e.what+".",
		edits{done: a.edits.done[:n-1], undone: append(a.edits.undone[:len(a.edits.undone):len(a.edits.undone)], e)})
}

func (a *app) redo() tea.Cmd {
	n := len(a.edits.undone)
	if n == 0 {
		a.say(false, "Nothing was undone that could be made again.")
		return nil
	}
	e := a.edits.undone[n-1]
	return a.travel(e.before, e.after, "Made again: "+e.what+".",
		edits{done: append(a.edits.done[:len(a.edits.done):len(a.edits.done)], e), undone: a.edits.undone[:n-1]})
}

// travel goes from one state of the file to another, if it still is in the first.
func (a *app) travel(from, to []byte, said string, next edits) tea.Cmd {
	if a.loaded == nil || !bytes.Equal(a.loaded.Bytes, from) {
		a.say(true, "The file has been changed by somebody else since, and this would lose that; change it by hand.")
		return nil
	}
	return a.write(to, said, next)
}

// write brings the file to those bytes. What cannot be read back is not written.
func (a *app) write(data []byte, said string, next edits) tea.Cmd {
	if a.saving {
		return nil // the key before this one is still being written
	}
	a.saving = true
	was := *a.loaded
	return func() tea.Msg {
		msg := savedMsg{said: said, next: next}
		if msg.file, msg.err = fieldfile.Parse(was.Name, data); msg.err != nil {
			return msg
		}
		if msg.err = was.Save(data); msg.err != nil {
			return msg
		}
		if info, err := os.Stat(was.Name); err == nil {
			msg.stamp = info.ModTime()
		}
		msg.found = finding.All(msg.file.Field)
		return msg
	}
}

// saved takes in what came of writing the file.
func (a *app) saved(msg savedMsg) tea.Cmd {
	a.saving = false
	if msg.err != nil {
		a.say(true, inOneLine(msg.err))
		return a.readFile(true)
	}
	a.edits = msg.next
	a.loaded, a.draft, a.findings, a.stamp, a.trouble = msg.file, msg.file.Field, msg.found, msg.stamp, ""
	a.say(false, msg.said)
	a.rebuild()
	return a.readReview()
}
