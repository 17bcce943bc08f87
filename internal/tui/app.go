// Package tui is the full-screen application. It draws immutable snapshots and never waits for anything: whatever takes
// time is a command whose answer comes back as a message.
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

	"charm.land/bubbles/v2/key"
	"github.com/charmbracelet/colorprofile"

	"lanternfield/internal/control"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/fieldfile"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/look"
)

// Run opens the application on a field file and returns when the person quits. What runs goes on.
func Run(ctx context.Context, file string, folder control.Folder, ascii bool) error {
	session, err := control.Open(ctx, folder, "lanternfield open")
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	a := newApp(ctx, file, folder, session)
	a.look.ASCII = ascii
	p := tea.NewProgram(a, tea.WithContext(ctx))
	_, err = p.Run()
	if errors.Is(err, tea.ErrInterrupted) || errors.Is(err, tea.ErrProgramKilled) && ctx.Err() != nil {
		err = nil
	}
	if a.session != nil {
		err = errors.Join(err, a.session.Close())
	}
	return err
}

// mode is what lies over the board. It is always written on the screen, and esc leaves it.
type mode int

const (
	onBoard mode = iota
	inReview
	inKeys
)

// app is the model of the application. Bubble Tea calls Update and View from one goroutine.
type app struct {
	ctx     context.Context
	file    string
	folder  control.Folder
	session control.Session
	watch   <-chan *engine.Snapshot

	keys           keyMap
	look           look.Look
	light, limited bool // what the terminal is like
	w, h           int
	mode           mode
	scroll         int // of what lies over the board
	lines          int // that it has
	shown          int // that fit

	snap     *engine.Snapshot
	tide     []control.Sample
	draft    *field.Field
	loaded   *fieldfile.File // the file that the draft is in, as it was read last
	edits    edits
	saving   bool // the file is being written
	findings []finding.Finding
	review   *plan.Review
	model    *board.Model
	cursor   board.Cursor
	stamp    time.Time // of the file when it was read last
	trouble  string    // with the file
	refused  string    // why the draft cannot be deployed as things are now
	message  string    // the newest answer to what the person did
	bad      bool      // the message is about something that failed
	said     time.Time // when the message came
	now      time.Time
}

func newApp(ctx context.Context, file string, folder control.Folder, session control.Session) *app {
	return &app{ctx: ctx, file: file, folder: folder, session: session, keys: newKeys(), look: look.Dark(), now: time.Now(),
		snap: &engine.Snapshot{State: engine.StateDraft}, model: &board.Model{Snap: &engine.Snapshot{}}}
}

// The messages that commands answer with.
type (
	snapMsg  struct{ snap *engine.Snapshot }
	watchMsg struct {
		ch  <-chan *engine.Snapshot
		err error
	}
	lostMsg   struct{}
	openedMsg struct {
		session control.Session
		err     error
	}
	tideMsg   struct{ samples []control.Sample }
	reviewMsg struct {
		review *plan.Review
		err    error
	}
	fileMsg struct {
		file  *fieldfile.File
		found []finding.Finding
		stamp time.Time
		err   error
	}
	sameFileMsg struct{}
	orderMsg    struct{ err error }
	tickMsg     time.Time
)

// frameEvery keeps a field that changes a thousand times a second from being drawn as often.
const frameEvery = 33 * time.Millisecond

func (a *app) Init() tea.Cmd {
	return tea.Batch(tea.RequestBackgroundColor, a.startWatch(), a.readFile(true), tick())
}

func tick() tea.Cmd {
	return tea.Tick(time.Second, func(t time.Time) tea.Msg { return tickMsg(t) })
}

func (a *app) startWatch() tea.Cmd {
	session, ctx := a.session, a.ctx
	return func() tea.Msg {
		ch, err := session.Watch(ctx)
		return watchMsg{ch, err}
	}
}

// nextSnap waits for a snapshot, then takes the newest that came within a frame.
func (a *app) nextSnap() tea.Cmd {
	ch := a.watch
	return func() tea.Msg {
		s, ok := <-ch
		if !ok {
			return lostMsg{}
		}
		after := time.After(frameEvery)
		for {
			select {
			case newer, ok := <-ch:
				if !ok {
					return snapMsg{s}
				}
				s = newer
			case <-after:
				return snapMsg{s}
			}
		}
	}
}

func (a *app) readTide() tea.Cmd {
	session, ctx := a.session, a.ctx
	if session == nil {
		return nil
	}
	return func() tea.Msg {
		samples, err := session.Tide(ctx, time.Now().Add(-time.Hour))
		if err != nil {
			return nil
		}
		return tideMsg{samples}
	}
}

func (a *app) readReview() tea.Cmd {
	session, ctx, draft := a.session, a.ctx, a.draft
	if draft == nil || session == nil {
		return nil
	}
	return func() tea.Msg {
		r, err := session.Review(ctx, draft)
		return reviewMsg{r, err}
	}
}

// readFile reads the field file when it has changed.
func (a *app) readFile(anyway bool) tea.Cmd {
	name, stamp := a.file, a.stamp
	return func() tea.Msg {
		info, err := os.Stat(name)
		if err == nil && info.ModTime().Equal(stamp) && !anyway {
			return sameFileMsg{}
		}
		f, failed := fieldfile.Load(name)
		msg := fileMsg{file: f, err: failed}
		if err == nil {
			msg.stamp = info.ModTime()
		}
		if failed == nil {
			msg.found = finding.All(f.Field)
		}
		return msg
	}
}

func (a *app) deploy() tea.Cmd {
	session, ctx, draft := a.session, a.ctx, a.draft
	return func() tea.Msg {
		return orderMsg{session.Do(ctx, control.Order{What: "deploy", Draft: draft, By: "lanternfield open"})}
	}
}

// reopen tries to get the field back after its controller has gone.
func (a *app) reopen() tea.Cmd {
	ctx, folder, old := a.ctx, a.folder, a.session
	a.session = nil
	return func() tea.Msg {
		if old != nil {
			_ = old.Close()
		}
		s, err := control.Open(ctx, folder, "lanternfield open")
		if err != nil {
			time.Sleep(500 * time.Millisecond)
		}
		return openedMsg{s, err}
	}
}

func (a *app) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		a.w, a.h = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		a.light = !msg.IsDark()
		a.dress()
	case tea.ColorProfileMsg:
		a.limited = msg.Profile < colorprofile.TrueColor
		a.dress()
	case tea.KeyPressMsg:
		return a.press(msg)
	case tickMsg:
		a.now = time.Time(msg)
		if !a.bad && a.now.Sub(a.said) > goodNewsFor {
			a.message = ""
		}
		return a, tea.Batch(tick(), a.readFile(false))
	case watchMsg:
		if msg.err != nil {
			return a, a.lost()
		}
		a.watch = msg.ch
		return a, a.nextSnap()
	case snapMsg:
		a.snap, a.now = msg.snap, time.Now()
		a.rebuild()
		return a, tea.Batch(a.nextSnap(), a.readTide(), a.readReview())
	case lostMsg:
		return a, a.lost()
	case openedMsg:
		if a.session = msg.session; msg.err != nil {
			a.say(true, "The field cannot be held: "+msg.err.Error())
			return a, a.reopen()
		}
		a.say(false, "The field is held again.")
		return a, a.startWatch()
	case tideMsg:
		a.tide = msg.samples
	case reviewMsg:
		a.review, a.refused = msg.review, ""
		if msg.err != nil {
			a.review, a.refused = nil, msg.err.Error()
		}
		a.rebuild()
	case fileMsg:
		return a, a.takeFile(msg)
	case savedMsg:
		return a, a.saved(msg)
	case orderMsg:
		if msg.err != nil {
			a.say(true, msg.err.Error())
		}
	}
	return a, nil
}

// dress chooses the colours that this terminal can show.
func (a *app) dress() {
	ascii := a.look.ASCII
	if a.look = look.Dark(); a.light {
		a.look = look.Light()
	}
	if a.limited {
		a.look = a.look.Limited()
	}
	a.look.ASCII = ascii
}

func (a *app) lost() tea.Cmd {
	if a.ctx.Err() != nil {
		return nil
	}
	a.say(true, "The controller that held the field has gone. Members go on running; taking hold of it again …")
	return a.reopen()
}

func (a *app) takeFile(msg fileMsg) tea.Cmd {
	a.stamp = msg.stamp
	if msg.err != nil {
		a.trouble = "The file cannot be used, the last good draft stays: " + inOneLine(msg.err)
		return nil
	}
	a.trouble, a.loaded, a.draft, a.findings = "", msg.file, msg.file.Field, msg.found
	a.rebuild()
	return a.readReview()
}

// inOneLine words what is wrong with a file where there is one line for it.
func inOneLine(err error) string {
	var errs fieldfile.Errors
	if !errors.As(err, &errs) || len(errs) == 0 {
		return err.Error()
	}
	text := errs[0].Text
	if errs[0].Line > 0 {
		text = fmt.Sprintf("line %d: %s", errs[0].Line, text)
	}
	if hint, _, _ := strings.Cut(errs[0].Hint, "?"); strings.HasPrefix(hint, "did you mean") {
		text += "; " + hint + "?"
	}
	if len(errs) > 1 {
		text += fmt.Sprintf(" (and %d more)", len(errs)-1)
	}
	return text
}

func (a *app) say(bad bool, text string) { a.message, a.bad, a.said = text, bad, time.Now() }

// goodNewsFor is how long an answer stays that asks for nothing.
const goodNewsFor = 4 * time.Second

func (a *app) rebuild() {
	a.model = board.Build(a.snap, a.draft, a.review)
	a.cursor = a.model.Keep(a.cursor)
}

func (a *app) press(msg tea.KeyPressMsg) (tea.Model, tea.Cmd) {
	is := func(b key.Binding) bool { return key.Matches(msg, b) }
	if is(a.keys.Quit) && (a.mode == onBoard || msg.String() == "ctrl+c") {
		return a, tea.Quit
	}
	if a.mode != onBoard {
		return a, a.pressOver(is)
	}
	if a.session != nil { // else it says that nobody holds the field
		a.message = ""
	}
	switch {
	case is(a.keys.Up):
		a.cursor = a.model.Move(a.cursor, 0, -1)
	case is(a.keys.Down):
		a.cursor = a.model.Move(a.cursor, 0, 1)
	case is(a.keys.Left):
		a.cursor = a.model.Move(a.cursor, -1, 0)
	case is(a.keys.Right):
		a.cursor = a.model.Move(a.cursor, 1, 0)
	case is(a.keys.Keys):
		a.mode, a.scroll = inKeys, 0
	case is(a.keys.More):
		return a, a.count(1)
	case is(a.keys.Fewer):
		return a, a.count(-1)
	case is(a.keys.Undo):
		return a, a.undo()
	case is(a.keys.Redo):
		return a, a.redo()
	case is(a.keys.Again):
		a.say(false, fmt.Sprintf("Read %s again.", a.file))
		return a, a.readFile(true)
	case is(a.keys.Review):
		if a.review == nil {
			a.say(true, "There is no review yet: "+cmp.Or(a.trouble, a.refused))
			return a, a.readFile(true)
		}
		a.mode, a.scroll = inReview, 0
	}
	return a, nil
}

func (a *app) pressOver(is func(key.Binding) bool) tea.Cmd {
	switch {
	case is(a.keys.Close), is(a.keys.Quit), a.mode == inKeys && is(a.keys.Keys):
		a.mode = onBoard
	case is(a.keys.Down):
		a.scroll = max(0, min(a.scroll+1, a.lines-a.shown))
	case is(a.keys.Up):
		a.scroll = max(0, a.scroll-1)
	case a.mode == inReview && is(a.keys.Deploy) && a.deployable():
		a.mode = onBoard
		a.say(false, "Deploying.")
		return a.deploy()
	}
	return nil
}

// deployable tells whether what the review shows can be carried out: not while nobody holds the field, for one.
func (a *app) deployable() bool {
	return a.session != nil && a.review != nil && !a.review.Empty() && !finding.Worst(a.findings) && len(a.review.Unplaced) == 0
}
