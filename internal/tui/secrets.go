package tui

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/control"
	"lanternfield/internal/core/engine"
)

// askedMsg says that the person has come back from a command that asked for something secret.
type askedMsg struct {
	code  int
	err   error
	after *control.Request // what was to be done, and waits for it
}

// asks hands the screen to a command of this program that asks for something which must not stand on it. What waits for that is done afterwards.
func (a *app) asks(after *control.Request, args ...string) tea.Cmd {
	binary, err := os.Executable()
	if err != nil {
		a.say(true, oneLine(err.Error()))
		return nil
	}
	args = append(args, "--state", filepath.Dir(a.folder.Dir))
	if a.env != "" {
		args = append(args, "--env", a.env)
	}
	cmd := exec.CommandContext(a.ctx, "sh", append([]string{"-c", waitsThere, "sh", binary}, args...)...)
	return tea.ExecProcess(cmd, func(err error) tea.Msg {
		msg := askedMsg{err: err, after: after}
		var exit *exec.ExitError
		if errors.As(err, &exit) {
			msg.code, msg.err = exit.ExitCode(), nil
		}
		return msg
	})
}

// backFromAsking goes on with what waited.
func (a *app) backFromAsking(msg askedMsg) tea.Cmd {
	switch {
	case msg.err != nil:
		a.say(true, oneLine(msg.err.Error()))
	case msg.code != 0:
		a.say(true, "Nothing has been done.")
	case msg.after != nil && a.session != nil:
		return tea.Batch(a.order(*msg.after), a.readAccess())
	}
	return a.readAccess()
}

// lacking asks for what an order lacks that only a person can say: secrets that are given, or the passphrase of the keyring. Nil where it is something else.
func (a *app) lacking(o control.Request, err error) tea.Cmd {
	var ungiven *engine.UngivenError
	var sealed *control.SealedError
	switch {
	case errors.As(err, &ungiven):
		return a.asks(&o, "trust", "change", a.file, ungiven.Names[0])
	case errors.As(err, &sealed) && sealed.Passphrase:
		return a.asks(nil, "trust", "unseal", a.file)
	}
	return nil
}

// changeSecret has another secret take the place of the one under the cursor; what follows is shown and asked about there.
func (a *app) changeSecret() tea.Cmd {
	if a.inPast() {
		return nil
	}
	if a.access.SecretUnder() == "" { // what is known of access may be of before: whoever keeps the field may be another by now
		if read := a.readAccess(); read != nil {
			return func() tea.Msg {
				msg, ok := read().(accessMsg)
				msg.unread, msg.change = !ok, true
				return msg
			}
		}
	}
	return a.changeKnown()
}

// changeKnown changes the secret under the cursor, by what is known.
func (a *app) changeKnown() tea.Cmd {
	name := a.access.SecretUnder()
	if name == "" && a.access.Sealed != nil && a.access.Sealed.Passphrase {
		return a.asks(nil, "trust", "unseal", a.file) // then they are listed
	}
	if name == "" {
		a.say(true, "Go to a secret first, or to a way in that has one.")
		return nil
	}
	return a.asks(nil, "trust", "change", a.file, name)
}
