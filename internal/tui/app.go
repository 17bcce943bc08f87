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
	"unicode"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"golang.org/x/sys/unix"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/fieldfile"
	"lanternfield/internal/keeper"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/journal"
	"lanternfield/internal/tui/panel"
	"lanternfield/internal/tui/stages"
	"lanternfield/internal/tui/theme"
)

// framesPerSecond bounds how often the screen is drawn, and with it how long a key may wait for its effect.
const framesPerSecond = 90

// Run opens the application on a field file and returns when the person quits. What runs goes on.
func Run(ctx context.Context, file, env string, folder control.Folder, ascii bool) error {
	session, err := keeper.Attach(ctx, folder, whoIsHere())
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	a := newApp(ctx, file, folder, session)
	a.env = env
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

// app is the model of the application. Bubble Tea calls Update and View from one goroutine.
type app struct {
	ctx     context.Context
	file    string
	env     string // whose choices the file's variables take
	folder  control.Folder
	session control.Session
	gone    func() bool // tells whether the terminal has gone; nil where there is none
	watch   <-chan *snapshot.Snapshot

	keys           keyMap
	look           theme.Theme
	light, limited bool // what the terminal is like
	w, h           int
	view           *view
	mode           *layer
	scroll         int // of what lies over the view
	lines          int // that it has
	shown          int // that fit

	snap      *snapshot.Snapshot
	tide      []control.Sample
	wide      time.Duration // how much of it is shown; 0 for the last minutes
	draft     *field.Field
	loaded    *fieldfile.File // the file that the draft is in, as it was read last
	findings  []finding.Finding
	review    *plan.Review
	sketch    *plan.Review // what is drawn of a draft whose review is refused
	body      bodyOf       // what its lines were made of
	written   panel.Body   // its lines
	reviewing bool         // one is being made
	checking  bool         // every member of a large draft is being gone through
	again     bool         // another must be made after it
	model     *board.Model
	cursor    board.Cursor
	folds     board.Folds
	whatIf    bool // the board shows what would come of a failure of what is under the cursor
	worst     worstFailures
	stamp     time.Time // of the file when it was read last
	trouble   string    // with the file
	refused   string    // why the draft cannot be deployed as things are now
	message   string    // the newest answer to what the person did
	bad       bool      // the message is about something that failed
	said      time.Time // when the message came
	now       time.Time

	edits   edits
	saving  bool             // the file is being written
	waiting []func() tea.Cmd // what was asked for meanwhile
	clash   *clash
	carried board.Place // what the cursor carries
	from    board.Cursor
	dragged bool // by the mouse
	choice  choice
	sheets  sheets
	list    *choices
	prompt  *prompt
	found   string // what was looked for last

	pointing *pointing
	proposal *proposal
	files    files

	previews beside[previewOf, preview]
	reasons  beside[reasonsOf, []string]
	taken    beside[amountsOf, amounts]

	marked   map[field.MemberName]bool
	ask      *ask
	question *question

	past    *past
	book    *journal.Book
	reading bool // the journal is being read
	journal journal.View
	stages  stages.View
	lately  recent // the last lines of the member under the cursor
}

func newApp(ctx context.Context, file string, folder control.Folder, session control.Session) *app {
	return &app{ctx: ctx, file: file, folder: folder, session: session, keys: newKeys(), view: boardView, mode: walking, look: theme.Dark(), now: time.Now(),
		snap: &snapshot.Snapshot{State: snapshot.Draft}, model: &board.Model{Snap: &snapshot.Snapshot{}}, folds: board.Folds{},
		book: journal.NewBook(), journal: journal.View{Follow: true}}
}

func (a *app) Init() tea.Cmd {
	return tea.Batch(tea.RequestBackgroundColor, a.startWatch(), a.readFile(true), tick())
}

// Update takes what comes. Nothing that takes the solver, or files, is done in it: that is worked out beside it, and comes back.
func (a *app) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	_, cmd := a.take(msg)
	return a, tea.Batch(cmd, a.derive())
}

func (a *app) take(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case besideMsg:
		msg.take()
		a.sheets.of = madeOf{}
		a.rebuild()
	case proposalMsg:
		a.takeProposal(msg.proposal)
	case tea.WindowSizeMsg:
		a.w, a.h = msg.Width, msg.Height
		a.refit()
	case tea.BackgroundColorMsg:
		a.light = !msg.IsDark()
		a.applyTheme()
	case tea.ColorProfileMsg:
		a.limited = msg.Profile < colorprofile.TrueColor
		a.applyTheme()
	case tea.KeyPressMsg:
		if msg.Mod.Contains(tea.ModAlt) { // esc and a key that came together, over a slow line or from a fast hand
			first := a.press(tea.KeyPressMsg{Code: tea.KeyEscape})
			msg.Mod &^= tea.ModAlt
			if msg.Text == "" && unicode.IsPrint(msg.Code) {
				msg.Text = string(msg.Code)
			}
			return a, tea.Batch(first, a.press(msg))
		}
		return a, a.press(msg)
	case tea.PasteMsg:
		a.paste(msg.Content)
	case tea.MouseMsg:
		return a, a.mouse(msg)
	case tickMsg:
		return a, a.tick(time.Time(msg))
	case watchMsg:
		if msg.err != nil {
			return a, a.lost()
		}
		a.watch = msg.ch
		return a, a.nextSnap()
	case snapMsg:
		was := a.snap
		a.snap, a.now = msg.snap, time.Now()
		a.hear(was)
		a.rebuild()
		a.stillAsked()
		return a, tea.Batch(a.nextSnap(), a.readTide(), a.readReview())
	case lostMsg:
		return a, a.lost()
	case openedMsg:
		if a.session = msg.session; msg.err != nil {
			a.say(true, "The field cannot be kept: "+msg.err.Error())
			return a, a.reopen()
		}
		a.say(false, "The field is kept again.")
		return a, a.startWatch()
	case tideMsg:
		a.tide = msg.samples
	case reviewMsg:
		return a, a.reviewed(msg)
	case fileMsg:
		return a, a.takeFile(msg)
	case filesMsg:
		a.takeFiles(msg)
	case editorMsg:
		return a, a.backFromEditor(msg)
	case savedMsg:
		return a, a.saved(msg)
	case wholeMsg:
		return a, a.takeWhole(msg)
	case pastMsg:
		return a, a.takePast(msg)
	case bookMsg:
		a.takeBook(msg)
	case latelyMsg:
		a.takeLately(msg)
	case drawnMsg:
		a.say(msg.err != nil, msg.said)
	case orderMsg:
		if msg.err != nil {
			a.say(true, msg.err.Error())
		}
	}
	return a, nil
}

func (a *app) tick(now time.Time) tea.Cmd {
	if a.gone != nil && a.gone() { // nobody can see this any more, and whoever comes next wants the field
		return tea.Quit
	}
	a.now = now
	if !a.bad && a.now.Sub(a.said) > goodNewsFor {
		a.message = ""
	}
	return tea.Batch(tick(), a.readFile(false), a.readBook(), a.readLately())
}

// applyTheme chooses the colours that this terminal can show.
func (a *app) applyTheme() {
	ascii := a.look.ASCII
	if a.look = theme.Dark(); a.light {
		a.look = theme.Light()
	}
	if a.limited {
		a.look = a.look.Limited()
	}
	a.look.ASCII = ascii
}

func (a *app) say(bad bool, text string) { a.message, a.bad, a.said = text, bad, time.Now() }

// goodNewsFor is how long an answer stays that asks for nothing.
const goodNewsFor = 6 * time.Second

// rebuild makes the model anew. The cursor stays on what it stood on, whatever comes or goes around it.
func (a *app) rebuild() {
	at := a.model.Under(a.cursor)
	if a.mode == inFindings && a.choice.finding >= len(a.findings) || a.mode == inReview && a.review == nil {
		a.mode = walking // what lay over the board is no more
	}
	review, draft := a.review, a.draft
	if review == nil {
		review = a.sketch
	}
	if e := a.previewed(); e != nil { // what the offered edit would lead to
		if p, there := a.previews.get(previewOf{e, a.draft, a.review}); there {
			draft, review = p.draft, p.review
		}
	}
	if a.proposal != nil {
		draft, review = a.proposal.draft, a.proposal.review
	}
	if a.past != nil && a.past.snap != nil {
		a.model = board.Build(a.past.snap, nil, nil)
	} else {
		a.model = board.Build(a.snap, draft, review)
	}
	a.layMarks()
	if f := a.chosen(); f != nil {
		a.model.Concern(f.Role, f.Members)
	}
	a.refit()
	a.cursor = a.model.Find(at, a.cursor)
	a.layLately()
}

// refit makes the posts for the room that there is.
func (a *app) refit() {
	at := a.model.Under(a.cursor)
	a.model.Fit(board.Room(a.boardArea().W), a.folds)
	a.cursor = a.model.Find(at, a.cursor)
}

func (a *app) press(msg tea.KeyPressMsg) tea.Cmd {
	is := func(b key.Binding) bool { return key.Matches(msg, b) }
	if msg.String() == "ctrl+c" {
		return tea.Quit
	}
	if a.mode != walking {
		return a.mode.press(a, msg, is)
	}
	if a.session != nil { // else it says that nobody holds the field
		a.message = ""
	}
	for _, v := range views {
		if is(v.key(a.keys)) {
			return v.open(a)
		}
	}
	switch {
	case is(a.keys.Quit):
		return tea.Quit
	case is(a.keys.Keys):
		a.mode, a.scroll = inKeys, 0
	case is(a.keys.Other):
		next := boardView
		if a.view == boardView {
			next = journalView
		}
		return next.open(a)
	case is(a.keys.Now), is(a.keys.Close) && a.past != nil:
		a.toNow()
	case is(a.keys.Back):
		return a.stepTime(-1)
	case is(a.keys.Forth):
		return a.stepTime(1)
	case is(a.keys.EventBack):
		return a.stepEvent(false)
	case is(a.keys.EventForth):
		return a.stepEvent(true)
	case is(a.keys.Widen):
		return a.widen()
	default:
		return a.view.press(a, is)
	}
	return nil
}

// pressBoard takes the keys of the board.
func (a *app) pressBoard(is keyIs) tea.Cmd {
	switch {
	case is(a.keys.Up):
		a.cursor = a.model.Move(a.cursor, 0, -1)
	case is(a.keys.Down):
		a.cursor = a.model.Move(a.cursor, 0, 1)
	case is(a.keys.Left):
		a.cursor = a.model.Move(a.cursor, -1, 0)
	case is(a.keys.Right):
		a.cursor = a.model.Move(a.cursor, 1, 0)
	case is(a.keys.First):
		a.cursor = a.model.Keep(board.Cursor{Role: a.cursor.Role, Post: -1})
	case is(a.keys.Last):
		a.cursor = a.model.Keep(board.Cursor{Role: a.cursor.Role, Post: len(a.model.Posts)})
	case is(a.keys.PageUp):
		a.cursor = a.model.Keep(board.Cursor{Role: 0, Post: a.cursor.Post})
	case is(a.keys.PageDown):
		a.cursor = a.model.Keep(board.Cursor{Role: len(a.model.Roles), Post: a.cursor.Post})
	case is(a.keys.Inspect):
		if p := a.cursor.Post; p >= 0 && p < len(a.model.Posts) && a.model.Posts[p].Folded {
			a.fold()
			return nil
		}
		a.mode = inDetail
	case is(a.keys.Dark):
		c, ok := a.model.NextDark(a.cursor)
		if !ok {
			a.say(false, "Every lantern that should burn does.")
		}
		a.cursor = c
	case is(a.keys.Mark):
		a.mark()
	case is(a.keys.Close) && len(a.marked) > 0:
		a.marked = nil
		a.layMarks()
	case is(a.keys.WhatIf), is(a.keys.Close) && a.whatIf:
		if a.whatIf = !a.whatIf && is(a.keys.WhatIf); a.whatIf && a.draft == nil {
			a.whatIf = false
			a.say(true, "There is no draft, and without one it cannot be known who needs whom.")
		}
	case is(a.keys.Fold):
		a.fold()
	case is(a.keys.Lines):
		return a.openJournal(a.about())
	case is(a.keys.Findings):
		a.openFindings()
		return nil
	case is(a.keys.Export):
		return a.export()
	case is(a.keys.Change):
		a.openSheet()
		return nil
	case is(a.keys.AddThing):
		a.addThing()
		return nil
	case is(a.keys.Propose):
		return a.propose()
	case is(a.keys.Find):
		a.find()
		return nil
	case is(a.keys.Files):
		return a.openFiles()
	case is(a.keys.Editor):
		return a.openEditor()
	case is(a.keys.Pause):
		return a.pauseOrGoOn()
	case is(a.keys.Restart):
		a.askFor("restart")
	case is(a.keys.Halt):
		a.askFor("stop")
	case is(a.keys.Answer):
		a.answer()
	case is(a.keys.Retire):
		a.askToRetire()
	case is(a.keys.Review):
		if a.inPast() {
			return nil
		}
		if a.review == nil && a.refused != "" {
			a.ask, a.mode, a.scroll = &ask{title: "This draft cannot be deployed as things are now", text: []string{a.refused}}, inConfirm, 0
			return nil
		}
		if a.review == nil {
			a.say(true, "There is no review yet: "+cmp.Or(a.trouble, a.refused, "it is just being made."))
			return a.readFile(true)
		}
		a.mode, a.scroll = inReview, 0
	default:
		return a.pressEdit(is)
	}
	return a.readLately()
}

// pressOrder takes the keys of the order: arrows go along the wires, all others are the board's.
func (a *app) pressOrder(is keyIs) tea.Cmd {
	a.stages.Sync(a.model)
	by := map[bool]int{true: 1}
	dx, dy := by[is(a.keys.Right)]-by[is(a.keys.Left)], by[is(a.keys.Down)]-by[is(a.keys.Up)]
	switch {
	case dx != 0 || dy != 0:
		a.cursor = board.Cursor{Role: a.stages.Move(max(0, a.cursor.Role), dx, dy), Post: -1}
	case is(a.keys.Close):
		a.view = boardView
	default:
		return a.pressBoard(is)
	}
	return nil
}

// fold folds the zone under the cursor, or opens it.
func (a *app) fold() {
	p := a.cursor.Post
	if p < 0 || p >= len(a.model.Posts) {
		a.say(true, "Stand on a node or a zone: its zone is folded, or opened.")
		return
	}
	post := a.model.Posts[p]
	a.folds[a.model.Zones[post.Zone].Name] = !post.Folded
	a.model.Fit(board.Room(a.boardArea().W), a.folds)
	for i, now := range a.model.Posts {
		if now.Zone == post.Zone {
			a.cursor = a.model.Keep(board.Cursor{Role: a.cursor.Role, Post: i})
			return
		}
	}
}

// pressOver takes the keys that all have in common that lie over the view: they close it and scroll it.
func (a *app) pressOver(is keyIs) tea.Cmd {
	switch {
	case is(a.keys.Close), is(a.keys.Quit):
		a.mode, a.ask = walking, nil
	case is(a.keys.Down):
		a.scroll = max(0, min(a.scroll+1, a.lines-a.shown))
	case is(a.keys.Up):
		a.scroll = max(0, a.scroll-1)
	case is(a.keys.PageDown):
		a.scroll = max(0, min(a.scroll+a.shown, a.lines-a.shown))
	case is(a.keys.PageUp):
		a.scroll = max(0, a.scroll-a.shown)
	}
	return nil
}

// deployable tells whether what the review shows can be carried out: not while nobody holds the field, for one.
func (a *app) deployable() bool {
	return a.session != nil && a.review != nil && !a.review.Quick && !a.review.Empty() && len(a.review.Missing) == 0 && !finding.HasErrors(a.findings) && len(a.review.Unplaced) == 0
}

// paste takes pasted text: words for a filter, and never keys.
func (a *app) paste(text string) {
	if a.mode.paste != nil {
		a.mode.paste(a, oneLine(text))
		return
	}

	a.say(true, fmt.Sprintf("Pasted text (%d characters) is not taken as keys.", len([]rune(text))))
}
