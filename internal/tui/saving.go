package tui

import (
	"bytes"
	"fmt"
	"os"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/resolve"
	"lanternfield/internal/fieldfile"
)

// edit is one change of the field file that was made on the screen. It knows the file before and after, so that undoing
// is going from the one to the other.
type edit struct {
	what          string // for people: "crews: 5 members"
	before, after []byte
}

// edits are the changes made on this screen, newest last, and those that have been undone.
type edits struct{ done, undone []edit }

// clash is a change that somebody else has made meanwhile in the same lines.
type clash struct {
	write
	theirs    *fieldfile.File // the file as it is now
	conflicts []fieldfile.Conflict
}

// write is a change of the file that is to be made: from base to data, whatever else has happened to the file.
type write struct {
	base, data []byte
	choices    *fieldfile.Choices
	live       plan.Live // what runs while it is made
	others     others
	said       string
	then       func(done edit) edits // what the edits are once it is written
	what       string
}

// others finds what is known of nodes beside what the file says.
type others = func() field.Around

// savedMsg says that the file has been written, or why not.
type savedMsg struct {
	file   *fieldfile.File
	draft  *field.Field // of the file, with the nodes that its sets come to
	found  []finding.Finding
	stamp  time.Time
	said   string
	merged bool // with what somebody else had changed
	edits  func() edits
	review *plan.Review // who would come and go, until the whole review is there
	clash  *clash
	err    error
}

// change writes into the file what makes the draft so. It is computed and written apart from the screen; what is asked
// for meanwhile waits its turn.
func (a *app) change(make func(*field.Field, plan.Live) (arrange.Change, string, error)) tea.Cmd {
	return a.rewrite(func(base *fieldfile.File, live plan.Live) ([]byte, string, error) {
		c, what, err := make(resolve.Draft(base.Field, live, a.folder.Around), live)
		if err != nil {
			return nil, "", fmt.Errorf("%s; the draft stays as it is", err)
		}
		data, err := base.Set(c)
		return data, what, err
	})
}

// put writes values into the file.
func (a *app) put(what string, puts ...arrange.Put) tea.Cmd {
	return a.rewrite(func(base *fieldfile.File, _ plan.Live) ([]byte, string, error) {
		data, err := base.Put(puts...)
		return data, what, err
	})
}

// rewrite makes the file anew and says what that does.
func (a *app) rewrite(make func(*fieldfile.File, plan.Live) ([]byte, string, error)) tea.Cmd {
	return a.later(func() tea.Cmd {
		if a.loaded == nil {
			a.say(true, "There is no draft that could be changed. "+a.trouble)
			return nil
		}
		base, live := a.loaded, a.snap.Live()
		done := a.edits.done
		return func() tea.Msg {
			data, what, err := make(base, live)
			if err != nil {
				return savedMsg{err: err}
			}
			return save(base.Name, write{base: base.Bytes, data: data, choices: base.Choices, what: what, live: live, others: a.folder.Around,
				said: what + ", in the draft. u undoes it, v reviews it.",
				then: func(e edit) edits { return edits{done: append(slices.Clip(done), e)} }})
		}
	})
}

// later does something with the file now, or when what is being written has been.
func (a *app) later(do func() tea.Cmd) tea.Cmd {
	if a.saving {
		a.waiting = append(a.waiting, do)
		return nil
	}
	cmd := do()
	a.saving = cmd != nil
	return cmd
}

// undo takes the newest change back; redo makes the one that was undone last again.
func (a *app) undo() tea.Cmd {
	return a.later(func() tea.Cmd {
		n := len(a.edits.done)
		if n == 0 {
			a.say(false, "Nothing was changed on this screen that could be undone.")
			return nil
		}
		e, was := a.edits.done[n-1], a.edits
		return a.travel(write{base: e.after, data: e.before, what: e.what, said: "Undone: " + e.what + ".", then: func(now edit) edits {
			now.before, now.after = now.after, now.before
			return edits{done: was.done[:n-1], undone: append(slices.Clip(was.undone), now)}
		}})
	})
}

func (a *app) redo() tea.Cmd {
	return a.later(func() tea.Cmd {
		n := len(a.edits.undone)
		if n == 0 {
			a.say(false, "Nothing was undone that could be made again.")
			return nil
		}
		e, was := a.edits.undone[n-1], a.edits
		return a.travel(write{base: e.before, data: e.after, what: e.what, said: "Made again: " + e.what + ".", then: func(now edit) edits {
			return edits{done: append(slices.Clip(was.done), now), undone: was.undone[:n-1]}
		}})
	})
}

func (a *app) travel(w write) tea.Cmd {
	name := a.file
	w.live, w.others, w.choices = a.snap.Live(), a.folder.Around, a.loaded.Choices
	return func() tea.Msg { return save(name, w) }
}

// save makes a change in the file as it is now. What somebody else has changed meanwhile stays, unless it is in the same
// lines: then it asks. What cannot be read back is not written.
func save(name string, w write) savedMsg {
	now, err := os.ReadFile(name)
	if err != nil {
		return savedMsg{err: err}
	}
	data, conflicts := w.data, []fieldfile.Conflict(nil)
	merged := !bytes.Equal(now, w.base)
	if merged {
		data, conflicts = fieldfile.Merge(w.base, w.data, now, true)
	}
	theirs := &fieldfile.File{Name: name, Bytes: now, Choices: w.choices}
	if len(conflicts) > 0 {
		return savedMsg{clash: &clash{write: w, theirs: theirs, conflicts: conflicts}}
	}
	return store(theirs, data, w, merged)
}

func store(now *fieldfile.File, data []byte, w write, merged bool) savedMsg {
	msg := savedMsg{said: w.said, merged: merged}
	if msg.file, msg.err = now.With(data); msg.err != nil {
		return msg
	}
	if msg.err = now.Save(data); msg.err != nil {
		return msg
	}
	msg.stamp = stampOf(now.Name, now.Env())
	msg.edits = func() edits { return w.then(edit{w.what, now.Bytes, data}) }
	declared := resolve.Surrounded(msg.file.Field, w.others)
	msg.found, msg.draft = finding.All(resolve.Draft(declared, plan.Live{}, nil)), resolve.Draft(declared, w.live, nil)
	msg.review = plan.Preview(msg.draft, w.live)
	return msg
}

// saved takes in what came of writing the file, and goes on with what was asked for meanwhile.
func (a *app) saved(msg savedMsg) tea.Cmd {
	a.saving = false
	if msg.clash != nil {
		a.clash, a.mode, a.waiting = msg.clash, inClash, nil
		return nil
	}
	if msg.err != nil {
		a.say(true, inOneLine(msg.err))
		a.waiting = nil
		return a.readFile()
	}
	a.edits = msg.edits()
	a.writes++
	a.loaded, a.draft, a.findings, a.stamp, a.trouble = msg.file, msg.draft, msg.found, msg.stamp, ""
	if msg.merged {
		msg.said += " Somebody else has changed the file too; both changes are in it."
	}
	a.say(false, msg.said)
	a.review = msg.review
	was := a.model
	role := was.Under(a.cursor).Role
	a.rebuild()
	if c, ok := a.model.Newcomer(role, was); ok && a.cursor.Post >= 0 && a.mode == walking {
		a.cursor = c // what was just added is what one wants to look at, or move on
	} else if a.mode == walking {
		a.cursor = a.model.Latest(a.cursor)
	}
	review := tea.Batch(a.readReview(), a.checkWhole())
	for len(a.waiting) > 0 && !a.saving {
		next := a.waiting[0]
		a.waiting = a.waiting[1:]
		if cmd := a.later(next); cmd != nil {
			return tea.Batch(review, cmd)
		}
	}
	return review
}
