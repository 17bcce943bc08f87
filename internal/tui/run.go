package tui

import (
	"cmp"
	"context"
	"errors"
	"os"
	"strings"

	tea "charm.land/bubbletea/v2"
	"golang.org/x/sys/unix"

	"lanternfield/internal/control"
	"lanternfield/internal/keeper"
	"lanternfield/internal/keyring"
)

// framesPerSecond bounds how often the screen is drawn, and with it how long a key may wait for its effect.
const framesPerSecond = 90

// Run opens the application on a field file and returns when the person quits. What runs goes on.
func Run(ctx context.Context, file, env string, folder control.Folder, ascii, fresh bool) error {
	owner, _ := keyring.OwnerFile()
	_, before := os.Lstat(owner)
	session, err := keeper.Attach(ctx, folder, whoIsHere())
	if err != nil {
		return err
	}
	folder.Passphrase = nil // the terminal is the application's from here on
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	a := newApp(ctx, file, folder, session)
	a.env, a.fresh = env, fresh
	if _, now := os.Lstat(owner); before != nil && now == nil {
		a.say(false, owner+" was made: the owner's key, which opens the keyring. Keep a copy elsewhere.")
	}
	a.look.ASCII = ascii || onlyASCII(os.Getenv)
	a.gone = func() bool {
		_, err := unix.IoctlGetWinsize(int(os.Stdout.Fd()), unix.TIOCGWINSZ)
		return errors.Is(err, unix.EIO)
	}
	p := tea.NewProgram(a, tea.WithContext(ctx), tea.WithFPS(framesPerSecond))
	_, err = p.Run()
	if errors.Is(err, tea.ErrInterrupted) || errors.Is(err, tea.ErrProgramKilled) && ctx.Err() != nil {
		err = nil
	}
	if a.session != nil {
		err = errors.Join(err, a.session.Close())
	}
	return err
}

// onlyASCII tells whether the terminal says that it can show no more than ASCII: by a locale that is not UTF-8, or by a
// kind that has few shapes.
func onlyASCII(env func(string) string) bool {
	switch term := env("TERM"); {
	case term == "linux", term == "dumb", strings.HasPrefix(term, "vt1"), strings.HasPrefix(term, "vt2"):
		return true
	}
	locale := strings.ToLower(cmp.Or(env("LC_ALL"), env("LC_CTYPE"), env("LANG")))
	return locale != "" && !strings.Contains(locale, "utf-8") && !strings.Contains(locale, "utf8")
}
