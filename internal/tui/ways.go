package tui

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/wording"
)

// The messages with which the view of access is answered.
type (
	accessMsg struct {
		ways    []control.Access
		trust   *snapshot.Trust
		secrets bool
		sealed  *control.SealedError // so that nothing can be told
		unread  bool                 // it could not be asked for
		change  bool                 // somebody wants to change a secret, and none was known to stand under the cursor
	}
	copiedMsg struct {
		role field.RoleName
		form string
		text string
		err  error
	}
	writtenMsg struct {
		role   field.RoleName
		folder string
		files  []string
		err    error
	}
)

// accessEvery is how often what is known of access is asked for while it is shown.
const accessEvery = 3 * time.Second

// accessFolder is where the files of a role's clients are written to: beside the field file.
func (a *app) accessFolder(role field.RoleName) string {
	return filepath.Join(filepath.Dir(a.file), fmt.Sprintf("%s-%s-access", a.snap.Field, role))
}

// askAccess is what is asked of access to a role; forms name files in its folder.
func (a *app) askAccess(role field.RoleName) control.AccessAsked {
	return control.AccessAsked{Role: role, Folder: a.accessFolder(role), By: "the screen"}
}

// readAccess asks how clients get in, and which certificates members have. In the past nothing is known of that.
func (a *app) readAccess() tea.Cmd {
	session, ctx, shown := a.session, a.ctx, a.access.Shown
	a.accessAt = time.Now()
	if a.past != nil || a.snap.State == snapshot.Draft || a.snap.State == snapshot.Retired {
		a.access.Take(nil, nil)
		return nil
	}
	if session == nil {
		return nil // whoever keeps the field is sought; what was known is still shown
	}
	var asks []control.AccessAsked
	for _, r := range a.snap.Roles {
		ask := a.askAccess(r.Role)
		ask.Secrets = shown
		asks = append(asks, ask)
	}
	return func() tea.Msg {
		out := accessMsg{secrets: shown}
		for _, ask := range asks {
			ways, err := session.Access(ctx, ask)
			if errors.As(err, &out.sealed) {
				return out
			}
			if err != nil {
				return nil // the next look tells more
			}
			out.ways = append(out.ways, ways...)
		}
		out.trust, _ = session.Trust(ctx)
		return out
	}
}

// takeAccess takes in what was answered, and asks again after a while, as long as it is looked at.
func (a *app) takeAccess(msg accessMsg) tea.Cmd {
	if a.view != accessView || a.past != nil {
		return nil
	}
	if !msg.unread {
		if a.access.Sealed = msg.sealed; a.access.Sealed == nil && msg.secrets == a.access.Shown { // else what was known before is still shown
			a.access.Take(msg.ways, msg.trust)
		}
	}
	if msg.change {
		return a.changeKnown()
	}
	return nil
}

// pressAccess takes the keys of the view of access.
func (a *app) pressAccess(is keyIs) tea.Cmd {
	switch {
	case is(a.keys.Up):
		a.access.Move(a.snap, -1)
	case is(a.keys.Down):
		a.access.Move(a.snap, 1)
	case is(a.keys.First):
		a.access.At = 0
	case is(a.keys.Last):
		a.access.Move(a.snap, 1<<20)
	case is(a.keys.CopyWay):
		return a.copyWay()
	case is(a.keys.WriteWay):
		return a.writeWay()
	case is(a.keys.ShowSecret):
		if w := a.access.Way(); w == nil || w.Secret == "" {
			a.say(true, "There is no secret here to be shown. Go to a way in that has one.")
			return nil
		}
		a.access.Shown = !a.access.Shown
		return a.readAccess()
	case is(a.keys.ChangeSecret):
		return a.changeSecret()
	case is(a.keys.Prove):
		if p := a.access.Under(a.snap); p != nil {
			return a.prove(p.Role)
		}
		return a.prove("")
	case is(a.keys.Close):
		a.access.Shown, a.view = false, boardView
	}
	return nil
}

// way is the way in under the cursor; where there is none, it is said.
func (a *app) way() *control.Access {
	if a.inPast() {
		return nil
	}
	w := a.access.Way()
	if w == nil {
		a.say(true, "Go to a way in first: they stand at the top.")
	}
	return w
}

// copyWay copies the first form of a way in, with its secret, to the terminal's clipboard.
func (a *app) copyWay() tea.Cmd {
	w := a.way()
	if w == nil {
		return nil
	}
	session, ctx, ask := a.session, a.ctx, a.askAccess(w.Role)
	ask.Secrets = true
	return func() tea.Msg {
		msg := copiedMsg{role: ask.Role}
		ways, err := session.Access(ctx, ask)
		switch {
		case err != nil:
			msg.err = err
		case len(ways) == 0 || len(ways[0].Forms) == 0:
			msg.err = fmt.Errorf("its kit says no form to be copied")
		default:
			msg.form, msg.text = ways[0].Forms[0].Name, ways[0].Forms[0].Text
		}
		return msg
	}
}

func (a *app) copied(msg copiedMsg) tea.Cmd {
	if msg.err != nil {
		a.say(true, fmt.Sprintf("Nothing was copied of %s: %s.", msg.role, msg.err))
		return nil
	}
	more := ""
	if strings.Contains(msg.text, control.AuthorityFile) {
		more = " It names files that w writes."
	}
	a.say(false, fmt.Sprintf("The %s for clients of %s was given to the terminal's clipboard.%s", msg.form, msg.role, more))
	return tea.SetClipboard(msg.text)
}

// writeWay writes what a client needs into a folder.
func (a *app) writeWay() tea.Cmd {
	w := a.way()
	if w == nil {
		return nil
	}
	session, ctx, ask := a.session, a.ctx, a.askAccess(w.Role)
	ask.Secrets, ask.Files = true, true
	return func() tea.Msg {
		msg := writtenMsg{role: ask.Role, folder: ask.Folder}
		var ways []control.Access
		if ways, msg.err = session.Access(ctx, ask); msg.err == nil && len(ways) > 0 {
			msg.files, msg.err = ways[0].WriteTo(ask.Folder)
		}
		return msg
	}
}

func (a *app) wrote(msg writtenMsg) {
	if msg.err != nil {
		a.say(true, fmt.Sprintf("What clients of %s need was not written: %s.", msg.role, msg.err))
		return
	}
	a.say(false, fmt.Sprintf("%s for clients of %s: %s.", msg.folder, msg.role, wording.And(msg.files)))
}
