package tui

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

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
	return a.run(ctx, ascii)
}

// RunArchive opens the application on an archive, which is only looked at, and returns when the person quits.
func RunArchive(ctx context.Context, name string, ascii bool) error {
	session, err := control.OpenArchive(name)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	return onArchive(ctx, session).run(ctx, ascii)
}

// onArchive makes the application of an archive.
func onArchive(ctx context.Context, session *control.ArchiveSession) *app {
	a := newApp(ctx, session.Name, session.Folder(), session)
	m := session.Manifest
	form := "2 Jan 15:04:05"
	a.archive = fmt.Sprintf("An archive, of %s to %s: it can be looked at, and nothing can be changed in it.", m.From.Local().Format(form), m.To.Local().Format(form))
	a.trouble = a.archive
	a.clock = func(time.Time) time.Time { return m.To }
	a.now = m.To
	return a
}

// run draws the application until the person quits.
func (a *app) run(ctx context.Context, ascii bool) error {
	a.look.ASCII = ascii || onlyASCII(os.Getenv)
	a.gone = func() bool {
		_, err := unix.IoctlGetWinsize(int(os.Stdout.Fd()), unix.TIOCGWINSZ)
		return errors.Is(err, unix.EIO)
	}
	p := tea.NewProgram(a, tea.WithContext(ctx), tea.WithFPS(framesPerSecond))
	_, err := p.Run()
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
