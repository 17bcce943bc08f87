package tui

import (
	"fmt"
	"maps"
	"time"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	core "lanternfield/internal/core/journal"
	"lanternfield/internal/core/wording"
)

// searching is a search on the nodes for older lines that fit the filter.
type searching struct {
	of     string // the filter that it is for
	busy   bool
	found  int
	before map[field.MemberName]int64 // where it goes on
	rest   int64
}

// searchedMsg is what came of one part of a search.
type searchedMsg struct {
	of    string
	found *control.SearchFound
	err   error
}

// searchWithin is how long a part of a search takes at the most: then what was found is shown.
const searchWithin = 200 * time.Millisecond

// searchNodes looks for lines that fit, on the nodes, before what has been read of them.
func (a *app) searchNodes() tea.Cmd {
	if a.session == nil || a.searching.busy && a.searching.of == a.journal.Text {
		return nil
	}
	a.searching = searching{of: a.journal.Text, before: maps.Clone(a.book.Begun)}
	return a.searchOn(false)
}

func (a *app) searchOn(on bool) tea.Cmd {
	session, ctx := a.session, a.ctx
	filter := core.Parse(a.searching.of, a.names())
	if filter.Wrong != "" {
		a.say(true, filter.Wrong)
		return nil
	}
	a.searching.busy = true
	ask := control.SearchAsked{Filter: filter, Before: a.searching.before, On: on, Within: searchWithin}
	of := a.searching.of
	return func() tea.Msg {
		found, err := session.Search(ctx, ask)
		return searchedMsg{of, found, err}
	}
}

func (a *app) takeSearched(msg searchedMsg) tea.Cmd {
	s := &a.searching
	if msg.of != s.of {
		return nil
	}
	if s.busy = false; msg.err != nil {
		a.say(true, "The search on the nodes came to nothing: "+msg.err.Error())
		return nil
	}
	for _, lines := range msg.found.Lines {
		s.found += len(lines)
	}
	a.book.AddFound(msg.found.Lines, a.where)
	silent := ""
	if n := len(msg.found.Silent); n > 0 {
		silent = fmt.Sprintf("; %s cannot be asked", wording.Members(msg.found.Silent))
	}
	s.before, s.rest = msg.found.Left, msg.found.Rest
	if len(s.before) == 0 || a.book.Full() || a.view != journalView || a.journal.Text != s.of {
		all := "all that is kept on the nodes is searched"
		if len(s.before) > 0 {
			all = field.Bytes(s.rest).String() + " are not searched: there is no room for more lines; a narrower filter finds what is older"
		}
		a.say(false, fmt.Sprintf("Found %s; %s%s.", wording.Counted(s.found, "older line"), all, silent))
		return nil
	}
	a.say(false, fmt.Sprintf("Found %s; %s still to be searched%s.", wording.Counted(s.found, "older line"), field.Bytes(s.rest), silent))
	return a.searchOn(true)
}
