// Package words holds every sentence that the product can print, as a list that is made from the code, so that a change of
// words is seen as one.
package words

import (
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

var update = flag.Bool("update", false, "write the list into testdata")

const list = "testdata/sentences.txt"

var (
	word    = regexp.MustCompile(`[A-Za-z]{2,}`)
	foreign = regexp.MustCompile(`^(SELECT|INSERT|CREATE|file:|postgres|application/)|^[a-z_]+\(|\\x1b|^/proc|^GET |^PUT |^POST `)
)

// sentences are the texts of at least two words in the code of a folder, each with the package that it stands in.
func sentences(t *testing.T, root string) []string {
	t.Helper()
	seen := map[string]bool{}
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		room, _ := filepath.Rel(root, filepath.Dir(path))
		ast.Inspect(file, func(n ast.Node) bool {
			switch x := n.(type) {
			case *ast.ImportSpec, *ast.Field: // struct tags
				if f, ok := x.(*ast.Field); ok && f.Tag != nil {
					f.Tag = nil
				}
			case *ast.BasicLit:
				text, err := strconv.Unquote(x.Value)
				if x.Kind == token.STRING && err == nil && strings.Contains(strings.TrimSpace(text), " ") && len(word.FindAllString(text, -1)) > 1 && !foreign.MatchString(text) {
					seen[fmt.Sprintf("%-24s %s", filepath.ToSlash(room), strings.ReplaceAll(text, "\n", "\\n"))] = true
				}
			}
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	all := make([]string, 0, len(seen))
	for s := range seen {
		all = append(all, s)
	}
	slices.Sort(all)
	return all
}

// TestEverySentenceIsOnTheList compares the list with the code.
func TestEverySentenceIsOnTheList(t *testing.T) {
	all := sentences(t, "..")
	if *update {
		if err := os.WriteFile(list, []byte(strings.Join(all, "\n")+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	data, err := os.ReadFile(list)
	if err != nil {
		t.Fatal(err)
	}
	known := strings.Split(strings.TrimRight(string(data), "\n"), "\n")
	for _, s := range all {
		if !slices.Contains(known, s) {
			t.Errorf("not on the list (go test ./internal/words -update): %s", s)
		}
	}
	for _, s := range known {
		if !slices.Contains(all, s) {
			t.Errorf("on the list, and nowhere in the code: %s", s)
		}
	}
	t.Logf("%d sentences", len(all))
}

// unwanted are ways of saying things that were read twice, each with what is said instead.
var unwanted = map[string]string{
	`\bshall\b`:               "is to, must",
	`\blet (it|him|%s|%v) in`: "add, join",
	`\bis let in\b`:           "joins, is added",
	`\blets? go\b`:            "remove",
	`\bno more( [^t]|$|\.)`:   "no longer, not any more",
	`\bmade of (each|one)\b`:  "say what it is",
	`\btakes? up\b`:           "resume",
	`\bheed`:                  "accept",
	`\bfor good\b.*\bgone\b`:  "removed",
	`\bhow things are\b`:      "how they are",
}

// TestNoSentenceHasToBeReadTwice keeps phrases out that were mended once.
func TestNoSentenceHasToBeReadTwice(t *testing.T) {
	all := sentences(t, "..")
	docs, err := filepath.Glob("../../docs/*.md")
	if err != nil || len(docs) < 4 {
		t.Fatalf("%d documents: %v", len(docs), err)
	}
	for _, doc := range append(docs, "../../README.md") {
		data, err := os.ReadFile(doc)
		if err != nil {
			t.Fatal(err)
		}
		for i, line := range strings.Split(string(data), "\n") {
			all = append(all, fmt.Sprintf("%s:%d %s", filepath.Base(doc), i+1, line))
		}
	}
	for _, s := range all {
		for phrase, better := range unwanted {
			if regexp.MustCompile(phrase).MatchString(s) {
				t.Errorf("%s\n    says %q; say %s", s, phrase, better)
			}
		}
	}
}
