package tui

import (
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/ground/kind"
)

// invitedMsg brings the invitation that was asked for.
type invitedMsg struct {
	as         field.NodeName
	invitation *control.Invitation
	err        error
}

// invitedFor is for how long an invitation of the screen is valid.
const invitedFor = time.Hour

// invite asks for an invitation for the machine of the node under the cursor, or of the first that has none.
func (a *app) invite() tea.Cmd {
	if a.inPast() {
		return nil
	}
	var first, chosen field.NodeName
	for _, n := range a.snap.Nodes {
		if n.Ground != kind.Join || !n.Awaited && !n.Unreachable {
			continue
		}
		if first == "" {
			first = n.Node
		}
		if n.Node == a.machines.Node {
			chosen = n.Node
		}
	}
	switch {
	case a.session == nil:
		a.say(true, "Nobody keeps the field just now; a keeper is being started.")
		return nil
	case first == "":
		a.say(true, "No node waits for a machine. A on the board adds one; with ground: {kind: join} its machine joins by invitation, once that is deployed.")
		return nil
	case chosen == "":
		chosen = first
	}
	session, ctx := a.session, a.ctx
	return func() tea.Msg {
		i, err := session.Invite(ctx, control.InviteAsked{Node: chosen, Uses: 1, For: invitedFor, By: whoIsHere()})
		return invitedMsg{chosen, i, err}
	}
}

// showInvitation shows what is to be run on the machine. It is shown this once.
func (a *app) showInvitation(msg invitedMsg) {
	if msg.err != nil {
		a.say(true, fmt.Sprintf("No machine can be invited as %s: %s.", msg.as, msg.err))
		return
	}
	i := msg.invitation
	command := i.Command()
	q := &ask{title: fmt.Sprintf("Run this on the machine that is to be %s", msg.as), stays: true, yes: "copies it",
		text: []string{command, "", "Run it as root, or as the user that its members are to run as.", fmt.Sprintf("It is valid for one machine until %s, and is shown this once. The machine must be able to reach %s.", i.Until.Local().Format("15:04"), i.At),
			fmt.Sprintf("lanternfield invite revoke %s revokes it.", i.ID)}}
	q.do = func() tea.Cmd {
		a.say(false, "The command was given to the terminal's clipboard.")
		return tea.SetClipboard(command)
	}
	a.ask, a.mode, a.scroll = q, inConfirm, 0
}

// returned tells whether a machine has come, or come back, between two looks at the field.
func returned(was, now *snapshot.Snapshot) bool {
	away := map[field.NodeName]bool{}
	for _, n := range was.Nodes {
		away[n.Node] = n.Unreachable || n.Asked
	}
	for _, n := range now.Nodes {
		if away[n.Node] && !n.Unreachable && !n.Asked {
			return true
		}
	}
	return false
}
