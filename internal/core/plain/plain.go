// Package plain makes text that we have not written fit for a terminal. What comes from programs, from files and from other hosts may
// hold sequences that move the cursor, rename the window or turn the reading order round; nothing of that reaches anybody's eyes as
// anything but what it is.
package plain

import (
	"fmt"
	"io"
	"strings"
	"unicode/utf8"
)

// Acts tells whether a rune acts on a terminal, or on how what is around it is shown, instead of being shown itself. A line's end and
// a tab are the caller's matter.
func Acts(r rune) bool {
	switch {
	case r < 0x20, r >= 0x7f && r < 0xa0: // control characters
		return true
	case r == 0x061c, r == 0x200e, r == 0x200f, r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x206f: // order of reading
		return true
	case r == 0x2028, r == 0x2029, r == 0xfeff, r >= 0xfff9 && r <= 0xfffb, r >= 0xe0000 && r <= 0xe007f: // lines, marks, tags
		return true
	}
	return false
}

// shown is how a rune that acts is shown.
func shown(r rune) string {
	switch {
	case r < 0x20:
		return string('\u2400' + r)
	case r == 0x7f:
		return "\u2421"
	}
	return fmt.Sprintf("<U+%04X>", r)
}

// Text makes a text fit for a terminal; lines and tabs stay.
func Text(s string) string { return string(put(nil, s, false)) }

// put appends a text, made fit; as JSON has it where that is wanted: there such runes can only be inside of a string.
func put(out []byte, s string, json bool) []byte {
	if !strings.ContainsFunc(s, func(r rune) bool { return r != '\n' && r != '\t' && (Acts(r) || r == utf8.RuneError) }) {
		return append(out, s...)
	}
	for i, w := 0, 0; i < len(s); i += w {
		var r rune
		r, w = utf8.DecodeRuneInString(s[i:])
		switch {
		case r == '\n', r == '\t', !Acts(r):
			out = utf8.AppendRune(out, r) // a byte that is no text becomes U+FFFD
		case json && r > 0xffff:
			r -= 0x10000
			out = fmt.Appendf(out, `\u%04x\u%04x`, 0xd800+r>>10, 0xdc00+r&0x3ff)
		case json:
			out = fmt.Appendf(out, `\u%04x`, r)
		default:
			out = append(out, shown(r)...)
		}
	}
	return out
}

// Writer makes everything fit that is written through it.
type Writer struct {
	To   io.Writer
	JSON bool // what is written is JSON, and stays the same document
	part []byte
}

// Write writes a part of a text. A rune may be cut in two between one call and the next.
func (w *Writer) Write(p []byte) (int, error) {
	text := append(w.part, p...)
	whole := len(text)
	for back := 1; back < utf8.UTFMax && back <= len(text); back++ {
		if b := text[len(text)-back]; utf8.RuneStart(b) {
			if b >= utf8.RuneSelf && !utf8.FullRune(text[len(text)-back:]) {
				whole = len(text) - back
			}
			break
		}
	}
	out := put(make([]byte, 0, whole), string(text[:whole]), w.JSON)
	w.part = append([]byte(nil), text[whole:]...)
	if _, err := w.To.Write(out); err != nil {
		return 0, err
	}
	return len(p), nil
}
