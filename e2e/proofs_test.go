package e2e

import (
	"encoding/json"
	"os"
	"strings"
	"testing"
	"time"
)

const provable = `format: 1
field: quay
nodes: [{name: gull-1}, {name: tern-1}]
roles:
  books:
    members: 2
    spread: node
    program:
      command: [python3, -m, http.server, --bind, "{{.Address}}", --directory, "{{.Data}}", '{{.Port "page"}}']
      ports: {page: {from: 7300, to: 7399, scheme: http}}
      ready: {http: {port: page}}
    proofs:
      shelved:
        about: What is put on a shelf is read there, and its name is carried on.
        steps:
          - {say: put it on a shelf, exec: [sh, -c, 'echo {{.Once}} >data/{{.Space}} && echo {{.Space}}'], capture: {name: trim(output)}}
          - {say: read it, http: {port: page, path: '/{{.Value "name"}}'}, expect: 'trim(body) == "{{.Once}}"'}
          - {say: nothing of it is elsewhere, to: others, http: {port: page, path: '/{{.Value "name"}}'}, expect: status == 404}
        clean:
          - {say: take it off, to: each, exec: [rm, -f, "data/{{.Space}}"]}
  readers:
    members: 1
    after: {books: proof}
    program: {command: [sleep, "600"]}
`

// TestProofs deploys a role that waits until another is proved, breaks what is proved, and mends it.
func TestProofs(t *testing.T) {
	t.Parallel()
	x := newTrial(t, provable)
	x.must("deploy", x.file, "--yes", "--timeout", "60s")
	x.contains(x.must("journal", x.file), "proof shelved of books asked for by the deploy", "proved: shelved of books, in", "readers-1 is ordered to run")
	out := x.must("prove", x.file)
	x.contains(out, "shelved of books holds, in", "+ books-1", "put it on a shelf", "+ books-1", "read it", "+ books-2", "nothing of it is elsewhere")
	if left := x.must("run", x.file, "books", "--", "sh", "-c", "ls data"); strings.Contains(left, "lanternfield_") {
		t.Errorf("a proof has left something: %s", left)
	}
	var all []struct {
		Role, Name, By string
		OK             bool
		Steps          []struct{ Member, Say string }
	}
	if err := json.Unmarshal([]byte(x.must("prove", x.file, "books", "--json")), &all); err != nil || len(all) != 1 || !all[0].OK || len(all[0].Steps) != 3 || all[0].By != "lanternfield prove" {
		t.Errorf("as JSON: %+v, %v", all, err)
	}
	if out := x.must("status", x.file); !strings.Contains(out, "proved") || !strings.Contains(out, " s ago") {
		t.Errorf("status does not say when it was proved:\n%s", out)
	}

	// What breaks it is found, said, and what was written is removed all the same.
	x.must("run", x.file, "books-2", "--", "sh", "-c", "echo torn >data/lanternfield_books_shelved ")
	content, _ := os.ReadFile(x.file)
	broken := strings.Replace(string(content), "expect: status == 404", "expect: status == 410", 1)
	x.write(broken)
	out, code := x.try(time.Minute, "deploy", x.file, "--yes", "--timeout", "60s")
	if code != 1 {
		t.Errorf("a deploy that is not proved: %d", code)
	}
	x.contains(out, "shelved of books does not hold", "x books-2", "nothing of it is elsewhere", "`status == 410` does not hold", "is not proved. `lanternfield prove` tries again.")
	if s := x.status(); s.State != "degraded" || !strings.Contains(s.Verdict, "books is not proved (shelved)") {
		t.Errorf("%s: %s", s.State, s.Verdict)
	}
	if left := x.must("run", x.file, "books", "--", "sh", "-c", "ls data"); strings.Contains(left, "lanternfield_") {
		t.Errorf("a proof that does not hold has left something: %s", left)
	}
	x.write(string(content))
	x.must("deploy", x.file, "--yes", "--timeout", "60s")
	if s := x.status(); s.State != "converged" {
		t.Errorf("mended: %s: %s", s.State, s.Verdict)
	}

	// What is wrong with a proof is found before anything runs.
	for says, change := range map[string][2]string{
		"there is no captured value \"nam\"; did you mean \"name\"?":         {`.Value "name"}}'}, expect: 'trim`, `.Value "nam"}}'}, expect: 'trim`},
		"must say exactly one of http, tcp, exec and sql":                    {"to: others, http:", "to: others, exec: [x], http:"},
		"nobody is known to lead books":                                      {"to: others", "to: leader"},
		"asks members of \"book\", and there is no such role":                {"expect: status == 404", "of: book, expect: status == 404"},
		"there is no statue here; did you mean \"status\"?":                  {"expect: status == 404", "expect: statue == 404"},
		"readers waits until readers2 is proved, and readers2 has no proofs": {"after: {books: proof}", "after: {readers2: proof}"},
		"there is no port \"pag\"; did you mean \"page\"?":                   {`say: read it, http: {port: page`, `say: read it, http: {port: pag`},
	} {
		text := strings.Replace(string(content), change[0], change[1], 1) + "  readers2: {members: 1, program: {command: [sleep, \"600\"]}}\n"
		x.write(text)
		if out, code := x.try(time.Minute, "check", x.file); code == 0 || !strings.Contains(out, says) {
			t.Errorf("%q is not said: %d\n%s", says, code, out)
		}
	}
	x.write(string(content))
	if out, code := x.try(time.Minute, "prove", x.file, "book"); code != 2 || !strings.Contains(out, `did you mean "books"?`) {
		t.Errorf("%d, %s", code, out)
	}
	if out, code := x.try(time.Minute, "prove", x.file, "readers"); code != 2 || !strings.Contains(out, "there is nothing to prove") {
		t.Errorf("%d, %s", code, out)
	}
	x.must("retire", x.file, "--yes", "--forget")
}
