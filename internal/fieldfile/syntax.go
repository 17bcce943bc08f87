package fieldfile

import (
	"errors"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/token"
)

func invalidAt(data []byte) (line, column int) {
	line, column = 1, 1
	for len(data) > 0 {
		r, size := utf8.DecodeRune(data)
		if r == utf8.RuneError && size == 1 {
			break
		}
		column++
		if r == '\n' {
			line, column = line+1, 1
		}
		data = data[size:]
	}
	return line, column
}

// flowDepth finds how deep brackets nest, before a parser that recurses sees them. Brackets in quotes count too, which
// only ever makes it refuse what no field file needs.
func flowDepth(data []byte) (deepest, line int) {
	depth, at := 0, 1
	for _, b := range data {
		switch b {
		case '[', '{':
			if depth++; depth > deepest {
				deepest, line = depth, at
			}
		case ']', '}':
			depth = max(0, depth-1)
		case '\n':
			at++
		}
	}
	return deepest, line
}

func (d *document) syntax(err error) *Error {
	for i, line := range d.lines {
		if indent := line[:len(line)-len(strings.TrimLeft(line, " \t"))]; strings.Contains(indent, "\t") && strings.TrimSpace(line) != "" {
			return d.pointed(i+1, strings.IndexByte(indent, '\t')+1, 1, "this line is indented with a tab, and YAML takes blanks only", "put blanks in place of the tab")
		}
	}
	var e *yaml.SyntaxError
	if errors.As(err, &e) && e.Token != nil {
		return d.pointed(e.Token.Position.Line, e.Token.Position.Column, tokenWidth(e.Token), "this is not YAML: "+e.Message, d.syntaxHint(e.Token.Position.Line))
	}
	return &Error{File: d.name, Text: "this is not YAML: " + strings.SplitN(err.Error(), "\n", 2)[0]}
}

// syntaxHint says what is most likely wrong where a line cannot be read.
func (d *document) syntaxHint(line int) string {
	for _, at := range []int{line, line - 1} {
		if at >= 1 && at <= len(d.lines) && bareTemplate(d.lines[at-1]) {
			return templateHint
		}
	}
	if line >= 1 && line <= len(d.lines) {
		switch text := d.lines[line-1]; {
		case bareRange.MatchString(text):
			return "in braces a range is quoted: " + strconv.Quote(bareRange.FindStringSubmatch(text)[1])
		case innerColon.MatchString(text):
			return "a value with a colon and a blank in it is quoted, best in single quotes"
		}
	}
	return "look at the indentation, quotes and colons here and on the line above"
}

var (
	// bareRange is a range of names that stands in a set of keys, or in a list, without quotes.
	bareRange = regexp.MustCompile(`[{\[,][^"'#]*[ ,\[]([a-z][a-z0-9-]*\{[0-9]+\.\.[0-9]+\})`)
	// innerColon is a value that begins without a quote and has another colon further on.
	innerColon = regexp.MustCompile(`^\s*(- )?[A-Za-z_][A-Za-z0-9_-]*:\s+[^'"#{\[|>\s][^#]*: `)
)

const templateHint = `templates are quoted, since { begins a set of keys in YAML: '{{.Port "client"}}'`

// bareTemplate tells whether a line has a template that no quotes protect.
func bareTemplate(line string) bool {
	quote := byte(0)
	for i := range len(line) {
		switch c := line[i]; {
		case quote == 0 && (c == '\'' || c == '"') && (i == 0 || strings.IndexByte(" ,[{:-", line[i-1]) >= 0):
			quote = c
		case quote != 0 && c == quote:
			quote = 0
		case quote == 0 && strings.HasPrefix(line[i:], "{{"):
			before := strings.TrimRight(line[:i], " ")
			return before == "" || strings.IndexByte(":-,[", before[len(before)-1]) >= 0
		}
	}
	return false
}

func tokenWidth(t *token.Token) int {
	return max(1, utf8.RuneCountInString(strings.TrimSpace(t.Value)))
}
