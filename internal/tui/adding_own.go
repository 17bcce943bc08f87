package tui

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/kballard/go-shellquote"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/tui/sheet"
)

// own is a program that no kit knows, as far as it was asked for.
type own struct {
	role    string
	command []string
	port    int    // 0 where it listens nowhere
	path    string // asked by HTTP whether it is ready; empty for a connection
}

// ownPort is the name of its port.
const ownPort = "main"

// addOwn asks for a role whose program no kit knows: its command, where it listens, and what says that it is ready.
func (a *app) addOwn() {
	a.askRole(func(role string) tea.Cmd {
		a.askText("Its command, with arguments", `quoted as in a shell, though none reads it. {{.Address}} stands for the address of its node, {{.Port "main"}} for its port, {{.Data}} for a folder of its own`, "", func(line string) tea.Cmd {
			words, err := commandLine(line)
			if err != nil {
				a.say(true, err.Error())
				return nil
			}
			o := own{role: role, command: words}
			a.askText("On which port does it listen?", "a number, for every member on the address of its own node; empty where it listens nowhere", "", func(text string) tea.Cmd {
				if text == "" {
					return a.putOwn(o)
				}
				if o.port, err = strconv.Atoi(text); err != nil || o.port < 1 || o.port > 65535 {
					a.say(true, fmt.Sprintf("%q is no port from 1 to 65535", text))
					return nil
				}
				a.askText("What says that it is ready?", "a path that it answers by HTTP with a status below 400, such as /health; empty, and a connection to its port will do", "", func(path string) tea.Cmd {
					if path != "" && !strings.HasPrefix(path, "/") {
						a.say(true, fmt.Sprintf("%q is no path: it begins with /", path))
						return nil
					}
					o.path = path
					return a.putOwn(o)
				})
				return nil
			})
			return nil
		})
		return nil
	})
}

func (a *app) putOwn(o own) tea.Cmd {
	return a.put("new role: "+o.role, arrange.Put{Path: []string{"roles", o.role}, Value: o.text()})
}

// text is the role as it stands in the file.
func (o own) text() string {
	words := make([]string, len(o.command))
	for i, w := range o.command {
		if words[i] = sheet.Quote(w); strings.Contains(w, `"`) && !strings.Contains(w, "'") {
			words[i] = "'" + w + "'"
		}
	}
	text := "members: 1\nprogram:\n  command: [" + strings.Join(words, ", ") + "]"
	if o.port > 0 {
		text += fmt.Sprintf("\n  ports: {%s: {port: %d}}", ownPort, o.port)
	}
	if o.path != "" {
		text += fmt.Sprintf("\n  ready: {http: {port: %s, path: %s}}", ownPort, sheet.Quote(o.path))
	}
	return text
}

// action is a part of a template. What is in it is no matter of quoting.
var action = regexp.MustCompile(`\{\{[^}]*\}\}`)

// commandLine splits a command as a shell would.
func commandLine(line string) ([]string, error) {
	var actions []string
	words, err := shellquote.Split(action.ReplaceAllStringFunc(line, func(text string) string {
		actions = append(actions, text)
		return fmt.Sprintf("\x01%d\x02", len(actions)-1)
	}))
	switch {
	case err != nil:
		return nil, fmt.Errorf("a quote, or a backslash, is not ended: %s", line)
	case len(words) == 0:
		return nil, fmt.Errorf("there is no command; write the program and its arguments, such as: python3 -m http.server --bind {{.Address}} 8000")
	}
	for i := range words {
		for n, text := range actions {
			words[i] = strings.ReplaceAll(words[i], fmt.Sprintf("\x01%d\x02", n), text)
		}
		if strings.ContainsAny(words[i], "\n\r") {
			return nil, fmt.Errorf("a command is one line here")
		}
	}
	return words, nil
}
