package tui

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/logline"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/resolve"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/fieldfile"
	"lanternfield/internal/keeper"
)

// The messages that commands answer with.
type (
	snapMsg  struct{ snap *snapshot.Snapshot }
	watchMsg struct {
		ch  <-chan *snapshot.Snapshot
		err error
	}
	lostMsg   struct{}
	openedMsg struct {
		session control.Session
		err     error
	}
	tideMsg        struct{ samples []control.Sample }
	reviewAgainMsg struct{}
	reviewMsg      struct {
		review *plan.Review
		sketch *plan.Review // who would come and go, where the review is refused
		of     *field.Field // the draft that was compared
		draft  *field.Field // the same with the nodes that its sets come to, as the field is now
		err    error
	}
	fileMsg struct {
		file  *fieldfile.File
		draft *field.Field // of the file, with the nodes that its sets come to
		found []finding.Finding
		stamp time.Time
		err   error

		kits   []readKit
		anyway bool // it was to be read whether it has changed or not
		writes int  // how often this screen had written it when the reading began
	}
	sameFileMsg struct{}
	orderMsg    struct {
		order control.Request
		err   error
	}
	tickMsg time.Time
)

// frameEvery keeps a field that changes a thousand times a second from being drawn as often.
const frameEvery = 33 * time.Millisecond

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
	since := a.at(time.Now())
	if a.past != nil {
		since = minTime(since, a.past.end.Add(-a.span()))
	}
	since = since.Add(-time.Hour)
	if a.wide > 0 {
		since = time.Time{}
	}
	a.tideSince = since
	return func() tea.Msg {
		samples, err := session.Tide(ctx, since)
		if err != nil {
			return nil
		}
		return tideMsg{samples}
	}
}

// askAnew is how long it is until what follows from the field is asked for anew although nothing has changed in it: nodes may lack something else.
const askAnew = 10 * time.Second

// rest is how long no comparison of the draft with a large field follows another: it takes its time, and keeps other changes from being shown.
func (a *app) rest() time.Duration {
	if members := len(a.snap.Members); members >= 1000 {
		return time.Duration(members) * time.Millisecond
	}
	return 0
}

// follows reads what follows from the field, where more than measures has changed, or a while ago.
func (a *app) follows(was *snapshot.Snapshot) tea.Cmd {
	rest, since := a.rest(), a.now.Sub(a.asked)
	if a.snap.Change == 0 || a.snap.Change != a.askedFor && since >= rest || since >= max(askAnew, 5*rest) {
		a.asked, a.askedFor = a.now, a.snap.Change
		return tea.Batch(a.readTide(), a.readReview())
	}
	if was == nil || was.Change != a.snap.Change {
		return a.readTide()
	}
	return nil
}

// readReview has the draft compared with the field, one comparison at a time.
func (a *app) readReview() tea.Cmd {
	session, ctx, draft := a.session, a.ctx, a.draft
	if draft == nil || session == nil {
		return nil
	}
	if a.reviewing {
		a.again = true
		return nil
	}
	a.reviewing = true
	live := a.snap.Live()
	return func() tea.Msg {
		r, err := session.Review(ctx, draft)
		msg := reviewMsg{review: r, err: err, of: draft, draft: resolve.Draft(draft, live, nil)}
		if err != nil {
			msg.sketch = plan.Preview(draft, live)
		}
		return msg
	}
}

func (a *app) reviewed(msg reviewMsg) tea.Cmd {
	a.reviewing = false
	if msg.draft != nil && msg.of == a.draft {
		a.draft = msg.draft // what runs may have changed
	}
	a.review, a.sketch, a.refused = msg.review, msg.sketch, ""
	if msg.err != nil {
		a.review, a.refused = nil, msg.err.Error()
	}
	if a.refused == "" && a.mode == inConfirm && !a.ask.acts() && !a.ask.stays {
		a.mode, a.ask = walking, nil // what it said holds no more
	}
	a.rebuild()
	if !a.again {
		return nil
	}
	a.again = false
	rest := a.rest()
	if rest == 0 {
		return a.readReview()
	}
	a.reviewing = true
	return tea.Tick(rest, func(time.Time) tea.Msg { return reviewAgainMsg{} })
}

// readFile reads the field file, whether it has changed or not.
func (a *app) readFile() tea.Cmd { return a.fileAs(func() bool { return true }, true) }

// How often it is looked whether the field file has changed, and for how long one command does.
const (
	fileEvery = 100 * time.Millisecond
	fileFor   = 10
)

// watchFile reads the field file as soon as it has changed, within the next second.
func (a *app) watchFile() tea.Cmd {
	name, env, stamp, ctx := a.file, a.env, a.stamp, a.ctx
	if a.archive != "" {
		return nil
	}
	return a.fileAs(func() bool {
		for range fileFor {
			if now := stampOf(name, env); now.IsZero() || !now.Equal(stamp) {
				return true
			}
			select {
			case <-ctx.Done():
				return false
			case <-time.After(fileEvery):
			}
		}
		return false
	}, false)
}

// fileAs reads the field file if it has changed, or has to be read anyway.
func (a *app) fileAs(changed func() bool, anyway bool) tea.Cmd {
	name, env, folder, live, writes := a.file, a.env, a.folder, a.snap.Live(), a.writes
	return func() tea.Msg {
		if !changed() {
			return sameFileMsg{}
		}
		msg := fileMsg{stamp: stampOf(name, env), anyway: anyway, writes: writes, kits: readKits(name)}
		msg.file, msg.err = fieldfile.Load(name, env)
		if msg.err != nil && !anyway { // it may have been read while it was being written
			time.Sleep(2 * fileEvery)
			msg.stamp = stampOf(name, env)
			msg.file, msg.err = fieldfile.Load(name, env)
		}
		if msg.err == nil {
			declared := resolve.Surrounded(msg.file.Field, folder.Around)
			msg.found, msg.draft = finding.All(resolve.Draft(declared, plan.Live{}, nil)), resolve.Draft(declared, live, nil)
		}
		return msg
	}
}

// stampOf is when the field file, or what its environment chooses, was last written; zero when it cannot be told.
func stampOf(name, env string) time.Time {
	var latest time.Time
	for _, n := range []string{name, fieldfile.ChoicesName(name, env)} {
		if info, err := os.Stat(n); err == nil && info.ModTime().After(latest) && (n == name || env != "") {
			latest = info.ModTime()
		}
	}
	return latest
}

func (a *app) takeFile(msg fileMsg) tea.Cmd {
	if a.saving {
		return nil // what is being written is read back anyway
	}
	if msg.writes != a.writes { // it was read before this screen wrote it, or while it did: whoever else has changed it is found at the next look
		if msg.anyway {
			return a.readFile()
		}
		return nil
	}
	if !msg.anyway && msg.stamp.Equal(a.stamp) && !msg.stamp.IsZero() {
		return nil // this screen has written it
	}
	a.stamp, a.opening = msg.stamp, false
	if msg.err != nil {
		a.trouble = "The file cannot be used, the last good draft stays: " + inOneLine(msg.err)
		if a.draft == nil {
			a.trouble = "The file cannot be used yet: " + inOneLine(msg.err)
		}
		return a.pressEarly()
	}
	if a.loaded != nil && len(a.edits.done) > 0 && string(a.loaded.Bytes) != string(msg.file.Bytes) {
		a.say(false, "The file has been changed by somebody else; that is in the draft now.")
	}
	a.trouble, a.loaded, a.draft, a.findings = "", msg.file, msg.draft, msg.found
	if msg.kits != nil {
		a.kits = msg.kits
	}
	a.rebuild()
	return tea.Batch(a.readReview(), a.checkWhole(), a.firstLook(), a.pressEarly())
}

// wholeMsg is what was found with every member of a large draft rendered.
type wholeMsg struct {
	of    *fieldfile.File
	found []finding.Finding
}

// checkWhole goes through every member of a large draft beside all else, one draft at a time.
func (a *app) checkWhole() tea.Cmd {
	members := 0
	for i := range a.draft.Roles {
		members += a.draft.Roles[i].Members
	}
	if a.checking || members <= review.MostTried {
		return nil
	}
	a.checking = true
	f, folder := a.loaded, a.folder
	return func() tea.Msg { return wholeMsg{f, finding.Whole(resolve.Draft(f.Field, plan.Live{}, folder.Around))} }
}

func (a *app) takeWhole(msg wholeMsg) tea.Cmd {
	a.checking = false
	if msg.of != a.loaded {
		return a.checkWhole()
	}
	a.findings = msg.found
	a.rebuild()
	return nil
}

// inOneLine words what is wrong with a file where there is one line for it.
func inOneLine(err error) string {
	var errs fieldfile.Errors
	if !errors.As(err, &errs) || len(errs) == 0 {
		return err.Error()
	}
	first := errs[0]
	for _, e := range errs { // what is likely a slip of the keyboard explains the others
		if strings.HasPrefix(e.Hint, "did you mean") {
			first = e
			break
		}
	}
	text := first.Text
	if first.Line > 0 {
		text = fmt.Sprintf("line %d: %s", first.Line, text)
	}
	if hint, _, _ := strings.Cut(first.Hint, "?"); strings.HasPrefix(hint, "did you mean") {
		text += "; " + hint + "?"
	}
	if len(errs) > 1 {
		text += fmt.Sprintf(" (and %d more)", len(errs)-1)
	}
	return text
}

// oneLine makes a line of pasted text.
func oneLine(text string) string {
	return logline.Clean(strings.Join(strings.Fields(text), " "))
}

// whoIsHere says for others who looks through this screen.
func whoIsHere() string { return fmt.Sprintf("lanternfield open, process %d", os.Getpid()) }

func (a *app) lost() tea.Cmd {
	if a.ctx.Err() != nil {
		return nil
	}
	a.say(true, "The process that kept the field has gone. Members go on running; another one is being started …")
	return a.reopen()
}

// reopen tries to get the field back after its controller has gone.
func (a *app) reopen() tea.Cmd {
	ctx, folder, old := a.ctx, a.folder, a.session
	a.session, a.reviewing, a.reading, a.asked = nil, false, false, time.Time{}
	return func() tea.Msg {
		if old != nil {
			_ = old.Close()
		}
		s, err := keeper.Attach(ctx, folder, whoIsHere())
		if err != nil {
			time.Sleep(500 * time.Millisecond)
		}
		return openedMsg{s, err}
	}
}

// order has something done, and comes back when it is stored.
func (a *app) order(o control.Request) tea.Cmd {
	session, ctx := a.session, a.ctx
	if session == nil {
		a.say(true, "Nobody keeps the field just now, so nothing can be done; a keeper is being started.")
		return nil
	}
	o.By = whoIsHere()
	return func() tea.Msg { return orderMsg{o, session.Do(ctx, o)} }
}
