package plain

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"
)

func TestWhatActsIsShownAsWhatItIs(t *testing.T) {
	for text, want := range map[string]string{
		"plain, with\ta tab\nand a line": "plain, with\ta tab\nand a line",
		"a\x1b[2Jb":                      "a␛[2Jb",
		"gull\u202e1-nret":               "gull<U+202E>1-nret",
		"a\rb\x7f\u009b1m\x07":           "a␍b␡<U+009B>1m␇",
		"\xff\x9b":                       "\ufffd\ufffd",
		"é 漢字 👩‍🚀":                       "é 漢字 👩‍🚀",
	} {
		if got := Text(text); got != want {
			t.Errorf("%q: got %q, want %q", text, got, want)
		}
	}
}

// FuzzNothingThatActsIsWritten writes anything in pieces, as text and as JSON.
func FuzzNothingThatActsIsWritten(f *testing.F) {
	f.Add("a\x1b]0;title\x07b", 3)
	f.Add("\u202eabc\u2066\U000e0001", 2)
	f.Fuzz(func(t *testing.T, text string, size int) {
		size = max(1, min(size, 64))
		write := func(all string, asJSON bool) string {
			var out strings.Builder
			w := &Writer{To: &out, JSON: asJSON}
			for len(all) > 0 {
				n := min(size, len(all))
				if _, err := w.Write([]byte(all[:n])); err != nil {
					t.Fatal(err)
				}
				all = all[n:]
			}
			return out.String()
		}
		got := write(text, false)
		for _, r := range got {
			if r != '\n' && r != '\t' && Acts(r) {
				t.Fatalf("%q was written as %q", text, got)
			}
		}
		doc, err := json.Marshal(strings.ToValidUTF8(text, "\ufffd"))
		if err != nil {
			t.Fatal(err)
		}
		got = write(string(doc), true)
		var back string
		if err := json.Unmarshal([]byte(got), &back); err != nil || back != strings.ToValidUTF8(text, "\ufffd") {
			t.Fatalf("%s became %s: %v", doc, got, err)
		}
		if strings.ContainsFunc(got, Acts) || !utf8.ValidString(got) {
			t.Fatalf("%q acts", got)
		}
	})
}
