package fieldfile

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"lanternfield/internal/core/finding"
	"lanternfield/internal/kit"
)

// TestAllKitsThatShipAreRight checks them as an author checks one.
func TestAllKitsThatShipAreRight(t *testing.T) {
	library := kit.Of(filepath.Join(t.TempDir(), "x.field.yaml"))
	for _, k := range library.All() {
		if _, err := CheckKit(k, library); err != nil {
			t.Errorf("%s: %v", k.Name, err)
		}
	}
}

// TestANewKitIsRightAndMistakesInItAreNamed writes a kit as `kit new` does, breaks it in one place after the other, and reads what is said.
func TestANewKitIsRightAndMistakesInItAreNamed(t *testing.T) {
	below := t.TempDir()
	k, err := kit.New(below, "bells")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := kit.New(below, "bells"); err == nil || !strings.Contains(err.Error(), "is there already") {
		t.Errorf("a kit is written over: %v", err)
	}
	if _, err := kit.New(below, "Bells"); err == nil {
		t.Error("a kit may be called Bells")
	}
	library := kit.Of(filepath.Join(below, "x.field.yaml"))
	tried, err := CheckKit(k, library)
	if err != nil || tried.Members != 3 {
		t.Fatalf("as it was written: %v", err)
	}
	for _, test := range []struct{ file, old, new, want string }{
		{"kit.yaml", "port: main, expect", "port: mein, expect", `kit.yaml:23:17: the ready probe of bells asks a port that its program does not have: there is no port "mein"; did you mean "main"?`},
		{"kit.yaml", `'{{.Setting "greeting"}}'`, `'{{.Setting "greting"}}'`, `kit.yaml:23:31: ready.tcp.expect of bells cannot be made for bells-1: there is no setting "greting"`},
		{"kit.yaml", "kit: bells", "kit: bell", `the kit calls itself "bell" and its folder is "bells"`},
		{"kit.yaml", "kind: worker", "kind: workers", `did you mean "worker"?`},
		{"kit.yaml", "every: 1s", "evry: 1s", `unknown key "evry" in program.ready`},
		{"kit.yaml", `default: "ahoy", `, "", "the setting greeting has no default"},
		{"kit.yaml", "from: greeting.txt.tmpl", "from: greetings.tmpl", "there is no file greetings.tmpl beside kit.yaml"},
		{"kit.yaml", "{from: greeting.txt.tmpl, ", "{", "the file greeting.txt says neither template nor from"},
		{"kit.yaml", "{from: greeting.txt.tmpl, ", "{from: greeting.txt.tmpl, template: x, ", "says both template and from"},
		{"kit.yaml", "  ready:\n    tcp: {port: main, expect: '{{.Setting \"greeting\"}}'}", "  ready:\n    http: {port: main}\n    expect: body.size >", "kit.yaml:24:13: this expression cannot be used"},
		{"serve.py.tmpl", `{{.Port "main"}}`, `{{.Port "other"}}`, `in its line 11: there is no port "other"`},
		{"serve.py.tmpl", `{{.Address}}`, `{{.Adress}}`, `did you mean ".Address"?`},
		{"greeting.txt.tmpl", "{{.Node}}", `{{if .Begins}}{{.Calls "store"}}{{end}}`, `there is no call "store"`},
		{"greeting.txt.tmpl", "{{.Node}}", `{{if not .Founding}}{{.Calls "store"}}{{end}}`, `there is no call "store"`},
	} {
		name := filepath.Join(k.Folder, test.file)
		before, err := os.ReadFile(name)
		if err != nil || !strings.Contains(string(before), test.old) {
			t.Fatalf("%s has no %q: %v", test.file, test.old, err)
		}
		if err := os.WriteFile(name, []byte(strings.Replace(string(before), test.old, test.new, 1)), 0o644); err != nil {
			t.Fatal(err)
		}
		if _, err := CheckKit(k, library); err == nil || !strings.Contains(err.Error(), test.want) {
			t.Errorf("with %q in place of %q:\n%v\nwant %s", test.new, test.old, err, test.want)
		}
		if err := os.WriteFile(name, before, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	// What a field says of it is judged where the field is.
	f, err := Parse(filepath.Join(below, "x.field.yaml"), []byte("format: 1\nfield: x\nnodes: [{name: n}]\nroles:\n  it: {kit: belsl, members: 1}\n"), nil)
	if err == nil || !strings.Contains(err.Error(), `there is no kit "belsl"`) {
		t.Errorf("%v, %v", f, err)
	}
}

// TestAProgramInPlaceHasItsFilesInPlace refuses from outside of kits.
func TestAProgramInPlaceHasItsFilesInPlace(t *testing.T) {
	const file = "format: 1\nfield: x\nnodes: [{name: n}]\nroles:\n  it: {members: 1, program: {command: [a], files: {it.conf: %}}}\n"
	for body, want := range map[string]string{"{from: x.tmpl}": "this program is in place", "{mode: '0600'}": "lacks template, its content"} {
		if _, err := Parse("x.field.yaml", []byte(strings.Replace(file, "%", body, 1)), nil); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", body, err)
		}
	}
}

// TestTheSchemaOfAKitIsOneOfItsOwn reads it as an editor does.
func TestTheSchemaOfAKitIsOneOfItsOwn(t *testing.T) {
	var schema map[string]any
	if err := json.Unmarshal(KitSchema(), &schema); err != nil || schema["$ref"] != "#/$defs/kitFile" || schema["$id"] == schemaURL {
		t.Errorf("%v, %v", schema["$ref"], err)
	}
}

// TestWhatAKitRequiresAFieldMustSay has a kit with a setting that has no default.
func TestWhatAKitRequiresAFieldMustSay(t *testing.T) {
	below := t.TempDir()
	k, err := kit.New(filepath.Join(below, "kits"), "bells")
	if err != nil {
		t.Fatal(err)
	}
	name := filepath.Join(k.Folder, kit.FileName)
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	text := strings.Replace(string(data), `default: "ahoy", `, "required: true, ", 1)
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write(text)
	library := kit.Of(filepath.Join(below, "x.field.yaml"))
	if _, err := CheckKit(k, library); err != nil { // it is tried with some value
		t.Errorf("a kit that requires a setting: %v", err)
	}
	if info, err := k.Info(); err != nil || len(info.Required()) != 1 || info.Required()[0] != (kit.Required{Name: "greeting", About: "what it answers"}) {
		t.Errorf("it is not said that it is required: %+v, %v", info.Required(), err)
	}
	const file = "format: 1\nfield: x\nnodes: [{name: n}, {name: m}]\nroles:\n  it: {kit: bells, members: 2%}\n"
	for said, want := range map[string]string{
		"":                              "error, required setting: it needs a value for its setting greeting, which has no default: what it answers; give it one under settings of it: settings: {greeting: VALUE}",
		", settings: {greeting: hello}": "",
		"}\nsettings: {greeting: hello": "", // of the field
	} {
		f, err := Parse(filepath.Join(below, "x.field.yaml"), []byte(strings.Replace(file, "%", said, 1)), nil)
		if err != nil {
			t.Errorf("%q: %v", said, err)
			continue
		}
		got := ""
		for _, x := range finding.All(f.Field) {
			if x.Severity == finding.Error {
				got += string(x.Severity) + ", " + x.What + ": " + x.Text + "; " + x.Mend
			}
		}
		if got != want {
			t.Errorf("%q: %s\nwant %s", said, got, want)
		}
	}
	write(strings.Replace(text, "required: true", "required: true, default: x", 1))
	if _, err := CheckKit(k, library); err == nil || !strings.Contains(err.Error(), "is required and has a default") {
		t.Errorf("both: %v", err)
	}
}
