package bounded

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"text/template"
	"time"
)

func numbers(n int) []any {
	out := make([]any, n)
	for i := range out {
		out[i] = float64(i)
	}
	return out
}

func TestExpressionsGiveWhatTheyGaveBefore(t *testing.T) {
	env := map[string]any{"body": map[string]any{"members": []any{map[string]any{"name": "it-1", "voter": true}, map[string]any{"name": "it-2"}}}, "me": "it-2"}
	for text, want := range map[string]string{
		`any(body.members, .name == me)`:                          "true",
		`all(body.members, {.voter == true})`:                     "false",
		`len(filter(body.members, .voter == true))`:               "1",
		`map(body.members, .name)`:                                "[it-1 it-2]",
		`find(body.members, .name == me).name`:                    "it-2",
		`count(body.members, any(body.members, .name == "it-1"))`: "2",
		`sum(map(1..3, # * 2))`:                                   "12",
		`reduce(1..4, #acc + #)`:                                  "10",
		`sortBy(body.members, .name, "desc")[0].name`:             "it-2",
	} {
		e, err := Compile(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if got, err := e.Run(context.Background(), env); err != nil || fmt.Sprint(got) != want {
			t.Errorf("%s: got %v, %v; want %s", text, got, err, want)
		}
	}
}

func TestExpressionsEnd(t *testing.T) {
	env := map[string]any{"body": numbers(50_000)}
	e, err := Compile(`all(body, all(body, all(body, # >= 0)))`)
	if err != nil {
		t.Fatal(err)
	}
	begin := time.Now()
	if _, err := e.Run(context.Background(), env); !errors.Is(err, ErrTooMuch) {
		t.Errorf("got %v", err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Millisecond)
	defer cancel()
	if _, err := e.Run(ctx, env); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("with a time limit: %v", err)
	}
	t.Logf("both took %s", time.Since(begin))
	if got, err := e.Run(context.Background(), map[string]any{"body": numbers(10)}); err != nil || got != true {
		t.Errorf("then, on a short answer: %v, %v", got, err)
	}
}

func TestTemplatesEnd(t *testing.T) {
	doubling := "{{define \"t0\"}}x{{end}}"
	for i := 1; i <= 40; i++ {
		doubling += fmt.Sprintf("{{define \"t%d\"}}{{template \"t%d\"}}{{template \"t%d\"}}{{end}}", i, i-1, i-1)
	}
	deep := "{{range .}}{{range $}}{{range $}}{{range $}}{{end}}{{end}}{{end}}{{end}}"
	for name, test := range map[string]struct {
		text, want string
		data       any
	}{
		"doubling":      {doubling + `{{template "t40"}}`, ErrTooMuch.Error(), nil},
		"four deep":     {deep, ErrTooMuch.Error(), numbers(300)},
		"what is usual": {`{{range .}}{{range $}}{{end}}{{.}} {{end}}`, "", numbers(300)},
	} {
		tmpl, err := NewTemplate(test.text, template.FuncMap{}, nil)
		if err != nil {
			t.Fatal(err)
		}
		for range 2 {
			err = tmpl.Execute(io.Discard, test.data)
			if (err == nil) != (test.want == "") || err != nil && !strings.Contains(err.Error(), test.want) {
				t.Errorf("%s: got %v, want %q", name, err, test.want)
			}
		}
	}
}
