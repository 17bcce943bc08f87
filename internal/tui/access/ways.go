package access

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/theme"
)

// waysIn lists the ways in, each with its forms where the cursor is; then the addresses of roles of which no more is known.
func (v *View) waysIn(k theme.Theme, s *snapshot.Snapshot, width int) []line {
	lines := []line{plain(piece{0, "ways in", k.Quiet()})}
	told := map[field.RoleName]bool{}
	for i, w := range v.Ways {
		told[w.Role] = true
		how, style := "all of its members", k.Text()
		switch {
		case w.Through != "":
			told[w.Through] = true
			how, style = "through "+string(w.Through), k.In(k.Gold)
		case len(w.Write) == 1:
			how = "its only member"
		}
		lines = append(lines, line{thing: i, pieces: []piece{{0, string(w.Role), k.Text().Strong()}, {18, how, style}, {40, addresses(w.Write), k.Text()}}})
		if i == v.At {
			lines = append(lines, v.way(k, w, s.Role(w.Role), width)...)
		}
	}
	lines = append(lines, others(k, s, told, width)...)
	if v.Sealed != nil && v.beforeProofs() == 0 {
		for _, part := range grid.Wrap("How clients get in, certificates and secrets cannot be told: "+v.Sealed.Error(), max(20, width)) {
			lines = append(lines, plain(piece{0, part, k.In(k.Warm)}))
		}
	} else if len(lines) == 1 {
		lines = append(lines, plain(piece{0, "Nobody is ready yet, so there is no way in. Addresses stand here as soon as members are lit.", k.Text()}))
		lines = append(lines, v.drafted(k)...)
	}
	return append(lines, plain())
}

func addresses(hosts []render.Host) string {
	words := make([]string, len(hosts))
	for i, h := range hosts {
		words[i] = h.At()
	}
	return strings.Join(words, "  ")
}

// way says how a client gets in, in every form.
func (v *View) way(k theme.Theme, w control.Access, role *snapshot.RoleView, width int) []line {
	var lines []line
	row := func(head, text string, style grid.Style) {
		for i, part := range grid.Wrap(text, max(20, width-20)) {
			if i > 0 {
				head = ""
			}
			lines = append(lines, plain(piece{2, head, k.Quiet()}, piece{18, part, style}))
		}
	}
	said := func(head, text string) {
		if text != "" {
			row(head, text, k.Text())
		}
	}
	said("for", w.Purpose)
	said("to read", addresses(w.Read))
	said("names", strings.Join(w.Names, ", "))
	switch {
	case w.TLS && w.Client:
		said("TLS", "yes; a client shows a certificate of the field, which w writes")
	case w.TLS:
		said("TLS", "yes")
	default:
		said("TLS", "no: what is sent can be read on the way")
	}
	if len(w.Write) == 1 && w.Through == "" {
		row("alone", "who uses this address is cut off when that member is lost", k.In(k.Warm))
	}
	said("user", w.User)
	if w.Secret != "" {
		word := w.Value
		if !v.Shown {
			word += "  (s shows it)"
		}
		said("secret", word)
	}
	for _, f := range w.Forms {
		row(f.Name, f.Text, k.In(k.Act))
	}
	for i, name := range slices.Sorted(maps.Keys(w.Env)) {
		said([]string{"environment", ""}[min(i, 1)], name+"="+w.Env[name])
	}
	if role != nil {
		for i, h := range role.HandedTo {
			said([]string{"handed to", ""}[min(i, 1)], h.String())
		}
	}
	return append(lines, plain())
}

// others lists the addresses of what people call and of which no kit says more, entries first.
func others(k theme.Theme, s *snapshot.Snapshot, told map[field.RoleName]bool, width int) []line {
	roles := slices.DeleteFunc(slices.Clone(s.Roles), func(r snapshot.RoleView) bool { return told[r.Role] })
	slices.SortStableFunc(roles, func(a, b snapshot.RoleView) int {
		return cmp.Compare(map[bool]int{true: 0, false: 1}[a.Kind == field.Entry], map[bool]int{true: 0, false: 1}[b.Kind == field.Entry])
	})
	var lines []line
	for _, r := range roles {
		if r.Link != nil {
			style := k.Text()
			if r.Link.Why != "" {
				style = k.In(k.Warm)
			}
			for i, part := range grid.Wrap(r.Link.String(), max(20, width-20)) {
				lines = append(lines, plain(piece{0, []string{string(r.Role), ""}[min(i, 1)], k.Text()}, piece{18, part, style}))
			}
			for _, a := range r.Outside {
				lines = append(lines, plain(piece{18, "outside", k.Quiet()}, piece{28, a, k.Text()}))
			}
			continue
		}
		at := map[string][]string{}
		for _, m := range s.Members {
			if m.Role == r.Role && m.Phase == state.Ready && !m.Leaving {
				for name, port := range m.Ports {
					at[name] = append(at[name], fmt.Sprintf("%s:%d", m.Address, port))
				}
			}
		}
		for i, name := range slices.Sorted(maps.Keys(at)) {
			head := ""
			if i == 0 {
				head = string(r.Role)
			}
			style := k.Text()
			if r.Kind == field.Entry {
				style = k.In(k.Gold)
			}
			lines = append(lines, plain(piece{0, head, style}, piece{18, name, k.Quiet()}, piece{28, strings.Join(at[name], "  "), k.Text()}))
		}
		for i, a := range r.Outside {
			lines = append(lines, plain(piece{0, []string{string(r.Role), ""}[min(i, 1)], k.Text()}, piece{18, "outside", k.Quiet()}, piece{28, a, k.Text()}))
		}
	}
	return lines
}

// trusted lists the certificates of members.
func (v *View) trusted(k theme.Theme, now time.Time, width int) []line {
	all := v.certificates()
	if len(all) == 0 {
		return nil
	}
	head := "certificates, by authority " + fmt.Sprint(v.Trust.Authorities[len(v.Trust.Authorities)-1].Number)
	if len(v.Trust.Authorities) > 1 {
		head += "; the one before still counts"
	}
	lines := []line{plain(piece{0, head, k.Quiet()})}
	for i, c := range all {
		lamp, word := k.LampOf(state.Ready, false), "shows it"
		for _, s := range c.Served {
			switch {
			case s.Silent:
			case s.Why != "":
				lamp, word = k.LampOf(state.Failed, false), "not believed"
			case !s.Same:
				lamp, word = k.LampOf(state.Starting, false), "shows another"
			}
		}
		if len(c.Served) == 0 {
			lamp, word = k.LampOf(state.Planned, false), "on no port"
			if len(c.Ports) > 0 {
				word = "is not up"
			}
		}
		left := c.Of.Issue.Until.Sub(now)
		at := len(v.Ways) + i
		lines = append(lines, line{thing: at, pieces: []piece{{0, string(lamp.Shape), k.In(lamp.Color)}, {2, string(c.Member), k.Text()}, {18, word, k.In(lamp.Color)},
			{33, fmt.Sprintf("%s left", field.Span(left)), k.Text()}, {48, strings.Join(c.Of.Names, " "), k.Quiet()}}})
		if at == v.At {
			lines = append(lines, certificate(k, c, width)...)
		}
	}
	lines = append(lines, outside(k, v.Trust.Outside, now)...)
	return append(lines, plain())
}

// outside lists the certificates from outside, by the role that shows them.
func outside(k theme.Theme, all []snapshot.OutsideShown, now time.Time) []line {
	var lines []line
	for _, o := range all {
		lamp, word := k.LampOf(state.Ready, false), "shown by name"
		for _, s := range o.Shown {
			if !s.Same && !s.Silent {
				lamp, word = k.LampOf(state.Failed, false), "not shown"
			}
		}
		if len(o.Missing) > 0 || snapshot.Ending(o.Role, o.Outside, now) != "" {
			lamp = k.LampOf(state.Failed, false)
		}
		lines = append(lines, plain(piece{0, string(lamp.Shape), k.In(lamp.Color)}, piece{2, string(o.Role), k.Text()}, piece{18, word, k.In(lamp.Color)},
			piece{33, fmt.Sprintf("%s left", field.Span(o.Until.Sub(now))), k.Text()}, piece{48, strings.Join(o.Names, " ") + ", by " + o.Issuer, k.Quiet()}))
	}
	return lines
}

// certificate says what is in a member's certificate, and what it shows on each port.
func certificate(k theme.Theme, c snapshot.Certificate, width int) []line {
	var lines []line
	row := func(head, text string, style grid.Style) {
		for i, part := range grid.Wrap(text, max(20, width-20)) {
			if i > 0 {
				head = ""
			}
			lines = append(lines, plain(piece{2, head, k.Quiet()}, piece{18, part, style}))
		}
	}
	row("names", strings.Join(c.Of.Names, ", "), k.Text())
	row("until", fmt.Sprintf("%s; it is renewed on %s", c.Of.Issue.Until.Local().Format("2 Jan 2006"), c.Renews.Local().Format("2 Jan 2006")), k.Text())
	for _, s := range c.Served {
		head := fmt.Sprintf("%s %d", s.Port, s.Number)
		switch {
		case s.Silent:
			row(head, "nobody listens there now", k.Quiet())
		case s.Why != "":
			row(head, s.Why, k.In(k.Fail))
		case !s.Same:
			row(head, fmt.Sprintf("shows another one, until %s", s.Until.Local().Format("2 Jan 2006")), k.In(k.Warm))
		default:
			row(head, "shows it", k.Text())
		}
	}
	return append(lines, plain())
}
