package render

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"text/template"
	"text/template/parse"

	"lanternfield/internal/core/bounded"
	"lanternfield/internal/core/trust"
)

func execute(text string, view *View) (string, error) {
	t, err := parsed(text)
	if err != nil {
		return "", inLine(text, err)
	}
	out := limited{left: mostRendered}
	if err := t.Execute(&out, view); err != nil {
		return "", inLine(text, err)
	}
	return out.String(), nil
}

var templateLine = regexp.MustCompile(`^template: :(\d+)`)

// inLine words what is wrong with a template, and in which of its lines where it has several.
func inLine(text string, err error) error {
	at := templateLine.FindStringSubmatch(err.Error())
	if at == nil || strings.Count(strings.TrimRight(text, "\n"), "\n") == 0 {
		return plainError(err)
	}
	return fmt.Errorf("in its line %s: %w", at[1], plainError(err))
}

// mostRendered is how long a rendered text may be, in bytes.
const mostRendered = 8 << 20

// limited is a buffer that takes only so much.
type limited struct {
	bytes.Buffer
	left int
}

// Write takes more text, or refuses it.
func (l *limited) Write(p []byte) (int, error) {
	if l.left -= len(p); l.left < 0 {
		return 0, fmt.Errorf("it grows beyond %d MiB", mostRendered>>20)
	}
	return l.Buffer.Write(p)
}

// arithmetic is what templates can reckon with: whole numbers, given as numbers or as digits; and what they can write in another way.
var arithmetic = template.FuncMap{
	"base64": func(text any) (string, error) {
		plain := traceMark.ReplaceAllString(fmt.Sprint(text), "")
		if certified, _ := trust.Has(plain); certified || secretMark.MatchString(plain) || basicMark.MatchString(plain) {
			return "", errors.New("base64 cannot encode a secret, which is put in later; use .Basic for an HTTP header")
		}
		return base64.StdEncoding.EncodeToString([]byte(plain)), nil
	},
	"add": func(a, b any) (int, error) { return reckon(a, b, func(x, y int) (int, error) { return x + y, nil }) },
	"sub": func(a, b any) (int, error) { return reckon(a, b, func(x, y int) (int, error) { return x - y, nil }) },
	"mul": func(a, b any) (int, error) { return reckon(a, b, func(x, y int) (int, error) { return x * y, nil }) },
	"div": func(a, b any) (int, error) {
		return reckon(a, b, func(x, y int) (int, error) {
			if y == 0 {
				return 0, errors.New("division by zero")
			}
			return x / y, nil
		})
	},
	"replace": func(old, with string, text any) string { return strings.ReplaceAll(fmt.Sprint(text), old, with) },
	"min": func(a, b any) (int, error) {
		return reckon(a, b, func(x, y int) (int, error) { return min(x, y), nil })
	},
	"max": func(a, b any) (int, error) {
		return reckon(a, b, func(x, y int) (int, error) { return max(x, y), nil })
	},
	"mod": func(a, b any) (int, error) {
		return reckon(a, b, func(x, y int) (int, error) {
			if y == 0 {
				return 0, errors.New("division by zero")
			}
			return x % y, nil
		})
	},
}

func reckon(a, b any, with func(x, y int) (int, error)) (int, error) {
	x, err := whole(a)
	if err != nil {
		return 0, err
	}
	y, err := whole(b)
	if err != nil {
		return 0, err
	}
	return with(x, y)
}

func whole(v any) (int, error) {
	n, err := strconv.Atoi(traceMark.ReplaceAllString(fmt.Sprint(v), ""))
	if err != nil {
		return 0, fmt.Errorf("%v is not a whole number", v)
	}
	return n, nil
}

// endless finds templates that call themselves, or each other in a circle: nothing else in a template can go on for ever.
func endless(t *template.Template) error {
	calls := map[string][]string{}
	for _, one := range t.Templates() {
		if one.Tree != nil {
			collect(one.Root, func(name string) { calls[one.Name()] = append(calls[one.Name()], name) })
		}
	}
	var path []string
	done := map[string]bool{} // looked through, or being so: each template once, however many call it
	var walk func(name string) error
	walk = func(name string) error {
		if i := slices.Index(path, name); i >= 0 {
			return fmt.Errorf("templates call each other without end: %s", strings.Join(append(path[i:], name), " calls "))
		}
		if done[name] {
			return nil
		}
		done[name] = true
		path = append(path, name)
		defer func() { path = path[:len(path)-1] }()
		for _, next := range calls[name] {
			if err := walk(next); err != nil {
				return err
			}
		}
		return nil
	}
	for _, name := range slices.Sorted(maps.Keys(calls)) {
		if err := walk(name); err != nil {
			return err
		}
	}
	return nil
}

// collect finds the names of the templates that a part of a template calls.
func collect(n parse.Node, found func(name string)) {
	list := func(l *parse.ListNode) {
		if l != nil {
			collect(l, found)
		}
	}
	branch := func(b *parse.BranchNode) {
		list(b.List)
		list(b.ElseList)
	}
	switch x := n.(type) {
	case *parse.ListNode:
		for _, inner := range x.Nodes {
			collect(inner, found)
		}
	case *parse.IfNode:
		branch(&x.BranchNode)
	case *parse.RangeNode:
		branch(&x.BranchNode)
	case *parse.WithNode:
		branch(&x.BranchNode)
	case *parse.TemplateNode:
		found(x.Name)
	}
}

// templates keeps what was parsed lately: the same few texts are executed for every member.
var templates struct {
	sync.Mutex
	known map[string]*bounded.Template
}

// mostKept bounds what is kept of parsed templates.
const mostKept = 4000

func parsed(text string) (*bounded.Template, error) {
	templates.Lock()
	t := templates.known[text]
	templates.Unlock()
	if t != nil {
		return t, nil
	}
	t, err := bounded.NewTemplate(text, arithmetic, endless)
	if err != nil {
		return nil, err
	}
	templates.Lock()
	defer templates.Unlock()
	if templates.known == nil || len(templates.known) >= mostKept {
		templates.known = map[string]*bounded.Template{}
	}
	templates.known[text] = t
	return t, nil
}

// plainError words an error of the template engine in our terms.
func plainError(err error) error {
	var missing *Missing
	if errors.As(err, &missing) {
		return missing
	}
	if m := unknownField.FindStringSubmatch(err.Error()); m != nil {
		return unknown("template name", "."+m[1], dotted(templateNames))
	}
	return fmt.Errorf("%s", templatePrefix.ReplaceAllString(err.Error(), ""))
}

func dotted(names []string) []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = "." + n
	}
	return out
}
