// Package tui is the full-screen application. It draws immutable snapshots and never waits for anything: whatever takes
// time is a command whose answer comes back as a message.
package tui

import (
	"context"
	"time"
	"unicode"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/fieldfile"
	"lanternfield/internal/tui/access"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/charts"
	"lanternfield/internal/tui/journal"
	"lanternfield/internal/tui/nodes"
	"lanternfield/internal/tui/panel"
	"lanternfield/internal/tui/rollouts"
	"lanternfield/internal/tui/stages"
	"lanternfield/internal/tui/theme"
)

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
	kits      []readKit       // that it may use
	findings  []finding.Finding
	review    *plan.Review
	sketch    *plan.Review // what is drawn of a draft whose review is refused
	body      bodyOf       // what its lines were made of
	written   panel.Body   // its lines
	standing  reading      // where one stands in it
	tideSince time.Time    // from when on the tide was read
	reviewing bool         // one is being made, or waits for its turn
	askedFor  uint64       // the change of the field as of which that was
	asked     time.Time    // when it, and the tide, were asked for since something had changed
	checking  bool         // every member of a large draft is being gone through
	again     bool         // another must be made after it
	model     *board.Model
	cursor    board.Cursor
	folds     board.Folds
	whatIf    bool // the board shows what would come of a failure of what is under the cursor
	worst     worstFailures
	stamp     time.Time         // of the file when it was read last
	trouble   string            // with the file
	fresh     bool              // the file has just been made
	opening   bool              // the file has not been read yet
	early     []tea.KeyPressMsg // pressed before it had been
	refused   string            // why the draft cannot be deployed as things are now
	message   string            // the newest answer to what the person did
	bad       bool              // the message is about something that failed
	said      time.Time         // when the message came
	now       time.Time

	edits   edits
	saving  bool             // the file is being written
	writes  int              // how often it has been
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

	archive   string                        // of what time the archive is that is looked at; empty for a field that lives
	clock     func(now time.Time) time.Time // what time it is for what is looked at; nil where that is now
	past      *past
	book      *journal.Book
	reading   bool // the journal is being read
	journal   journal.View
	searching searching
	access    access.View
	charts    charts.View
	measured  measured
	rolls     rollouts.View
	rolled    rolled
	// accessAt is when it was asked last how clients get in.
	accessAt time.Time
	stages   stages.View
	machines nodes.View
	lookedAt lookedAt
	told     told
	lately   recent // the last lines of the member under the cursor
}

func newApp(ctx context.Context, file string, folder control.Folder, session control.Session) *app {
	return &app{ctx: ctx, file: file, kits: readKits(file), folder: folder, session: session, keys: newKeys(), view: boardView, mode: walking, look: theme.Dark(), now: time.Now(),
		snap: &snapshot.Snapshot{State: snapshot.Draft}, model: &board.Model{Snap: &snapshot.Snapshot{}}, folds: board.Folds{},
		book: journal.NewBook(), journal: journal.View{Follow: true}}
}

func (a *app) Init() tea.Cmd {
	if a.archive != "" {
		return tea.Batch(tea.RequestBackgroundColor, a.startWatch(), tick())
	}
	a.opening = true
	return tea.Batch(tea.RequestBackgroundColor, a.startWatch(), a.readFile(), tick())
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
		a.snap, a.now = msg.snap, a.at(time.Now())
		a.hear(was)
		a.rebuild()
		a.stillAsked()
		var look tea.Cmd
		if a.view == nodesView && a.machines.Matrix != nil && a.past == nil && returned(was, a.snap) {
			look = a.lookAtMachines()
		}
		return a, tea.Batch(a.nextSnap(), a.follows(was), look, a.notify(a.snap))
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
	case machinesMsg:
		a.takeMachines(msg)
	case invitedMsg:
		a.showInvitation(msg)
	case mendedMsg:
		return a, a.takeMended(msg)
	case keysMsg:
		a.takeKeys(msg)
	case healthMsg:
		return a, a.takeHealth(msg)
	case backMsg:
		a.askToGoBack(msg)
	case rolloutMsg:
		return a, a.takeRollout(msg)
	case accessMsg:
		return a, a.takeAccess(msg)
	case copiedMsg:
		return a, a.copied(msg)
	case writtenMsg:
		a.wrote(msg)
	case reviewAgainMsg:
		a.reviewing = false
		return a, a.readReview()
	case reviewMsg:
		return a, a.reviewed(msg)
	case fileMsg:
		cmd := a.takeFile(msg)
		if msg.anyway && !msg.stamp.IsZero() { // until the next tick nobody else does
			cmd = tea.Batch(cmd, a.watchFile())
		}
		return a, cmd
	case filesMsg:
		a.takeFiles(msg)
	case editorMsg:
		return a, a.backFromEditor(msg)
	case shellMsg:
		return a, a.backFromShell(msg)
	case savedMsg:
		return a, a.saved(msg)
	case wholeMsg:
		return a, a.takeWhole(msg)
	case pastMsg:
		return a, a.takePast(msg)
	case bookMsg:
		a.takeBook(msg)
	case searchedMsg:
		return a, a.takeSearched(msg)
	case latelyMsg:
		a.takeLately(msg)
	case drawnMsg:
		a.say(msg.err != nil, msg.said)
	case orderMsg:
		if msg.err != nil {
			a.failed(msg.err)
			return a, a.lacking(msg.order, msg.err)
		}
	case askedMsg:
		return a, a.backFromAsking(msg)
	}
	return a, nil
}

// at is what time it is for what is looked at.
func (a *app) at(now time.Time) time.Time {
	if a.clock != nil {
		return a.clock(now)
	}
	return now
}

func (a *app) tick(now time.Time) tea.Cmd {
	if a.gone != nil && a.gone() { // nobody can see this any more, and whoever comes next wants the field
		return tea.Quit
	}
	a.now = a.at(now)
	if !a.bad && now.Sub(a.said) > goodNewsFor {
		a.message = ""
	}
	var look tea.Cmd
	if a.view == accessView && now.Sub(a.accessAt) >= accessEvery {
		look = a.readAccess()
	}
	return tea.Batch(tick(), a.watchFile(), a.readBook(), a.readLately(), a.readRollout(), a.readHealth(), look)
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
