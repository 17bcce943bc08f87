package fieldfile

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/render"
)

func programsPage(t *testing.T) string {
	t.Helper()
	data, err := os.ReadFile("../../docs/programs.md")
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// TestTheExamplesOfTheProgramsPageAreWhole reads and checks every field file on the page, as whoever copies it would.
func TestTheExamplesOfTheProgramsPageAreWhole(t *testing.T) {
	n := 0
	for _, part := range strings.Split(programsPage(t), "```yaml\n")[1:] {
		text, _, _ := strings.Cut(part, "```")
		if !strings.HasPrefix(text, "format: 1") {
			continue
		}
		n++
		f, err := Parse("example.field.yaml", []byte(text), nil)
		if err != nil {
			t.Errorf("%v", err)
			continue
		}
		for _, x := range finding.Whole(f.Field) {
			if x.Severity == finding.Error {
				t.Errorf("%s: %s", f.Field.Name, x.Text)
			}
		}
	}
	if n != 3 {
		t.Errorf("%d field files stand on the page, want 3", n)
	}
}

// TestTheProgramsPageSaysEveryWord compares it with the schema and with what templates know.
func TestTheProgramsPageSaysEveryWord(t *testing.T) {
	page := programsPage(t)
	var schema struct {
		Defs map[string]struct {
			Properties map[string]json.RawMessage
			Items      struct{ Properties map[string]json.RawMessage }
		} `json:"$defs"`
	}
	if err := json.Unmarshal(Schema, &schema); err != nil {
		t.Fatal(err)
	}
	words := map[string]bool{}
	for _, def := range []string{"program", "port", "file", "http", "tcp", "probe"} {
		for word := range schema.Defs[def].Properties {
			words[word] = true
		}
	}
	for word := range schema.Defs["steps"].Items.Properties {
		words[word] = true
	}
	for word := range words {
		if !strings.Contains(page, "`"+word+"`") && !strings.Contains(page, word+":") && !strings.Contains(page, word+",") {
			t.Errorf("the page does not say %s", word)
		}
	}
	for _, name := range render.TemplateNames() {
		if !strings.Contains(page, "`."+name) {
			t.Errorf("the page does not say .%s", name)
		}
	}
	described := func(name string, raw json.RawMessage) {
		if !strings.Contains(string(raw), `"description"`) && !strings.Contains(string(raw), `"$ref"`) {
			t.Errorf("the schema describes no %s", name)
		}
	}
	for word, raw := range schema.Defs["program"].Properties {
		described(word, raw)
	}
}
