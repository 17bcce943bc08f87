package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/user"

	"github.com/spf13/cobra"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/control"
)

// exitStatus ends a command with the status of what it has run.
type exitStatus int

func (s exitStatus) Error() string { return fmt.Sprintf("exit status %d", int(s)) }

// visitor says who visits a member, for the journal.
func visitor() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return fmt.Sprintf("user %d", os.Getuid())
}

// splitDash takes the arguments before `--` and after it.
func splitDash(cmd *cobra.Command, args []string) (before, after []string) {
	if at := cmd.ArgsLenAtDash(); at >= 0 {
		return args[:at], args[at:]
	}
	return args, nil
}

// oneMember finds the one member that a command is about.
func (a *app) oneMember(folder control.Folder, name string) (*control.Visitor, control.Host, error) {
	v, hosts, err := control.Visiting(folder, []string{name})
	switch {
	case err != nil:
		return nil, control.Host{}, err
	case len(hosts) == 0:
		return nil, control.Host{}, fmt.Errorf("%s has no node yet, so there is nothing to go to", name)
	case len(hosts) > 1:
		return nil, control.Host{}, fmt.Errorf("%s is %d members; name one, such as %s", name, len(hosts), hosts[0].Member)
	}
	return v, hosts[0], nil
}

// errAgentGone says that nothing is heard any more of what was begun at a member.
var errAgentGone = errors.New("the connection to its agent ended; how what was begun there has ended is not known")

// visit is what goes on at one member.
type visit struct {
	frames *agentapi.Frames
	in     io.Reader // nil for nothing
	out    io.Writer
	err    io.Writer
}

// run passes on what comes and goes until it ends. An error says that it is not known how it ended.
func (v visit) run() (agentapi.Ending, error) {
	room := make(chan struct{}, agentapi.MostUntaken) // what was sent and not taken yet
	if v.in == nil {
		_ = v.frames.Write(agentapi.FrameInEnd, nil)
	} else {
		go func() {
			part := make([]byte, agentapi.MostFrame)
			for {
				n, err := v.in.Read(part)
				if n > 0 {
					room <- struct{}{}
					if v.frames.Write(agentapi.FrameIn, part[:n]) != nil {
						return
					}
				}
				if err != nil {
					_ = v.frames.Write(agentapi.FrameInEnd, nil)
					return
				}
			}
		}()
	}
	for {
		kind, data, err := v.frames.Read()
		if err != nil {
			return agentapi.Ending{}, errAgentGone
		}
		switch kind {
		case agentapi.FrameOut:
			_, err = v.out.Write(data)
		case agentapi.FrameErr:
			_, err = v.err.Write(data)
		case agentapi.FrameTaken:
			select {
			case <-room:
			default:
			}
		case agentapi.FrameEnd:
			var e agentapi.Ending
			return e, json.Unmarshal(data, &e)
		}
		if err != nil {
			return agentapi.Ending{}, err
		}
	}
}
