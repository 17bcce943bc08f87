package access

import (
	"fmt"
	"strings"

	"lanternfield/internal/core/state"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/theme"
)

// kept lists the secrets by name: whether they are made or given, since when, and who has them.
func (v *View) kept(k theme.Theme, width int) []line {
	all := v.secrets()
	if len(all) == 0 {
		return nil
	}
	lines := []line{plain(piece{0, "secrets", k.Quiet()})}
	for i, x := range all {
		lamp := k.LampOf(state.Ready, false)
		waits := x.Waiting()
		if waits != "" {
			lamp = k.LampOf(state.Starting, false)
		}
		since := "at the first deploy"
		if !x.Since.IsZero() {
			since = "on " + x.Since.Local().Format("2 Jan 2006")
		}
		how := "made"
		if x.Given {
			how = "given"
		}
		roles := make([]string, len(x.Roles))
		for i, r := range x.Roles {
			roles[i] = string(r)
		}
		at := len(v.Ways) + len(v.certificates()) + i
		lines = append(lines, line{thing: at, pieces: []piece{{0, string(lamp.Shape), k.In(lamp.Color)}, {2, x.Name, k.Text()}, {24, fmt.Sprintf("number %d", x.Number), k.Text()},
			{36, how + " " + since, k.Text()}, {66, strings.Join(roles, " "), k.Quiet()}}})
		if at != v.At {
			continue
		}
		row := func(head, text string, style grid.Style) {
			for _, part := range grid.Wrap(text, max(20, width-20)) {
				lines = append(lines, plain(piece{2, head, k.Quiet()}, piece{18, part, style}))
				head = ""
			}
		}
		if x.About != "" {
			row("for", x.About, k.Text())
		}
		if waits != "" {
			row("waits", waits, k.In(k.Warm))
		}
		if x.Fixed {
			row("fixed", "its program takes it once; it cannot be changed", k.Text())
		}
		lines = append(lines, plain())
	}
	return append(lines, plain())
}
