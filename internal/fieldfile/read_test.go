package fieldfile

import (
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/kit"
)

var update = flag.Bool("update", false, "write the messages into testdata/bad")

// TestBadFilesGetTheWholeMessage compares every message, whole, with the one beside the file.
func TestBadFilesGetTheWholeMessage(t *testing.T) {
	files, err := filepath.Glob("testdata/bad/*.field.yaml")
	if err != nil || len(files) < 10 {
		t.Fatalf("%d files: %v", len(files), err)
	}
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".field.yaml"), func(t *testing.T) {
			data, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			_, err = Parse(filepath.Base(file), data, nil)
			if err == nil {
				t.Fatal("the file was accepted")
			}
			golden := strings.TrimSuffix(file, ".field.yaml") + ".txt"
			if *update {
				if err := os.WriteFile(golden, []byte(err.Error()+"\n"), 0o644); err != nil {
					t.Fatal(err)
				}
			}
			want, _ := os.ReadFile(golden)
			if got := err.Error() + "\n"; got != string(want) {
				t.Errorf("got\n%s\nwant\n%s", got, want)
			}
		})
	}
}

func TestFilesThatAreNoFieldFilesAtAll(t *testing.T) {
	var bomb strings.Builder
	bomb.WriteString("format: 1\nfield: x\nplace:\n  a0: &a0 [x, x, x, x, x, x, x, x, x, x]\n")
	for i := '1'; i <= '9'; i++ {
		before := "*a" + string(i-1)
		bomb.WriteString("  a" + string(i) + ": &a" + string(i) + " [" + strings.Repeat(before+", ", 9) + before + "]\n")
	}
	for _, test := range []struct {
		name, data, want string
	}{
		{"empty", " \n\n", "f.field.yaml: the file is empty\n      a field file starts with `format: 1` and `field: NAME`; examples/ has some to begin with"},
		{"10 MB", strings.Repeat("a: 1234\n", 10<<20/8), "f.field.yaml: the file has 10240 KiB; a field file may have 1024 KiB at most\n      is it the right file? Put long config templates into kits."},
		{"binary", "\x7fELF\x00\x01", "f.field.yaml: this is a binary file, and a field file is YAML text\n      is it the right file?"},
		{"not UTF-8", "format: 1\nfield: caf\xe9\n", "f.field.yaml: line 2 has a byte at column 11 that is not UTF-8\n      save the file as UTF-8"},
		{"nested without end", "a: " + strings.Repeat("[", 100_000), ""},
		{"alias bomb", bomb.String(), ""},
		{"two documents", "format: 1\n---\nformat: 1\n", "f.field.yaml: the file holds 2 YAML documents; a field file is one\n      take out the lines `---` between them"},
		{"a list", "- 1\n", "f.field.yaml:1:1: the file must be a set of keys, and this is a list\n    1 | - 1\n      | ^"},
		{"format of the future", "format: 2\nfield: x\nnodes: [{name: n}]\nroles: {a: {kit: etcd}}\n", "f.field.yaml:1:9: format is 2; this version reads 1\n    1 | format: 2\n      |         ^"},
		{"terminal escapes", "format: 1\nfield: \"\x1b[31mred\"\n", ""},
	} {
		t.Run(test.name, func(t *testing.T) {
			_, err := Parse("f.field.yaml", []byte(test.data), nil)
			if err == nil {
				t.Fatal("the file was accepted")
			}
			got := err.Error()
			if test.want != "" && got != test.want {
				t.Errorf("got\n%s\nwant\n%s", got, test.want)
			}
			if len(got) > 2000 || strings.ContainsRune(got, 0x1b) {
				t.Errorf("the message is too long or would act on a terminal: %d bytes\n%q", len(got), got[:min(len(got), 300)])
			}
		})
	}
}

func TestMissingFileNamesThoseThatAreThere(t *testing.T) {
	_, err := Load("testdata/etdc.field.yaml", "")
	want := "testdata/etdc.field.yaml: there is no such file\n      that folder has etcd.field.yaml, haproxy.field.yaml, nats-jetstream.field.yaml, postgres.field.yaml"
	if err == nil || err.Error() != want {
		t.Errorf("got\n%v\nwant\n%s", err, want)
	}
	_, err = Load("testdata", "")
	if err == nil || !strings.Contains(err.Error(), "is a folder, not a field file") {
		t.Errorf("a folder: %v", err)
	}
}

// TestFourRealProgramsCanBeSaid proves the format on programs that differ as much as they can, by parsing and by
// executing every template for every member.
func TestFourRealProgramsCanBeSaid(t *testing.T) {
	for _, name := range []string{"etcd", "nats-jetstream", "postgres", "haproxy"} {
		f, err := Load("testdata/"+name+".field.yaml", "")
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		for _, x := range finding.All(f.Field) {
			if x.Severity == finding.Error {
				t.Errorf("%s: %s: %s", name, x.What, x.Text)
			}
		}
	}
}

func TestKitsAreSound(t *testing.T) {
	library := kit.Of("x.field.yaml")
	for _, name := range library.Names() {
		k, _ := library.Find(name)
		if _, err := CheckKit(k, library); err != nil {
			t.Errorf("kit %s: %v", name, err)
		}
	}
}

func TestSetMembersLeavesEverythingElseAlone(t *testing.T) {
	const file = `format: 1
field: ferries   # Fähren
nodes: [{name: n}]
roles:
  crews:          # those who sail
    kit: nats
    members:   2  # für den Anfang
  relays: {kit: nats, members: 1}
  plain: {kit: nats}
  bare:
    kit: nats
`
	for _, test := range []struct {
		role     string
		old, new string
	}{
		{"crews", "members:   2  #", "members:   12  #"},
		{"relays", "members: 1}", "members: 12}"},
		{"plain", "plain: {kit: nats}", "plain: {kit: nats, members: 12}"},
		{"bare", "  bare:\n    kit: nats\n", "  bare:\n    kit: nats\n    members: 12\n"},
	} {
		f, err := Parse("f.field.yaml", []byte(file), nil)
		if err != nil {
			t.Fatal(err)
		}
		r := f.Field.Role(f.Field.Roles[0].Name)
		for i := range f.Field.Roles {
			if string(f.Field.Roles[i].Name) == test.role {
				r = &f.Field.Roles[i]
			}
		}
		got, err := f.Set(arrange.Change{Role: r.Name, Members: 12})
		if err != nil {
			t.Fatal(err)
		}
		if want := strings.Replace(file, test.old, test.new, 1); string(got) != want {
			t.Errorf("%s: got\n%s\nwant\n%s", test.role, got, want)
		}
		again, err := Parse("f.field.yaml", got, nil)
		if err != nil || again.Field.Role(r.Name).Members != 12 {
			t.Errorf("%s: read again: %v", test.role, err)
		}
	}
}

func TestSaveRefusesAFileThatSomebodyElseChanged(t *testing.T) {
	name := filepath.Join(t.TempDir(), "f.field.yaml")
	const data = "format: 1\nfield: x\nnodes: [{name: n}]\nroles: {a: {kit: nats, members: 1}}\n"
	if err := os.WriteFile(name, []byte(data), 0o640); err != nil {
		t.Fatal(err)
	}
	f, err := Load(name, "")
	if err != nil {
		t.Fatal(err)
	}
	next, err := f.Set(arrange.Change{Role: "a", Members: 2})
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(name, []byte(data+"# mine\n"), 0o640); err != nil {
		t.Fatal(err)
	}
	if err := f.Save(next); err == nil || !strings.Contains(err.Error(), "changed by somebody else") {
		t.Errorf("got %v", err)
	}
	if now, _ := os.ReadFile(name); string(now) != data+"# mine\n" {
		t.Errorf("the other's change was lost:\n%s", now)
	}
	if err := os.WriteFile(name, []byte(data), 0o640); err != nil {
		t.Fatal(err)
	}
	if err := f.Save(next); err != nil {
		t.Fatal(err)
	}
	info, _ := os.Stat(name)
	if now, _ := os.ReadFile(name); string(now) != string(next) || info.Mode().Perm() != 0o640 {
		t.Errorf("got %s with mode %v", now, info.Mode())
	}
}

func TestAliasesAndMergesAreFollowed(t *testing.T) {
	f, err := Parse("f.field.yaml", []byte(`format: 1
field: ferries
nodes:
  - &gull {name: gull-1, zone: a, labels: {disk: nvme, rack: 7}}
  - {<<: *gull, name: gull-2}
roles:
  crews: {kit: nats, members: 1, where: 'labels.disk == "nvme" and labels.rack == "7"'}
`), nil)
	if err != nil {
		t.Fatal(err)
	}
	if n := f.Field.Nodes[1]; n.Name != "gull-2" || n.Zone != "a" || n.Labels["rack"] != "7" {
		t.Errorf("got %+v", n)
	}
}

func FuzzParse(f *testing.F) {
	files, _ := filepath.Glob("testdata/*.yaml")
	for _, name := range files {
		data, _ := os.ReadFile(name)
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		file, err := Parse("f.field.yaml", data, nil)
		if err == nil {
			finding.All(file.Field)
		} else if err.Error() == "" {
			t.Error("an error without words")
		}
	})
}
