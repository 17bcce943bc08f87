package field

import "testing"

func TestWhatATemplateAsksForOfTheMemberItself(t *testing.T) {
	for text, want := range map[string]bool{
		`{{.Key}}`:                                            true,
		`a {{if .TLS}}{{.Certificate}}{{end}}`:                true,
		`{{if .Key}}x{{else}}y{{end}}`:                        true,
		`{{range .Calls "x"}}{{$.Key}}{{end}}`:                true,
		`{{range .Calls "x"}}a{{else}}{{.Key}}{{end}}`:        true,
		`{{printf "%s" .Key}}`:                                true,
		`{{replace "a" "b" .Certificate}}`:                    true,
		`{{with .Key}}{{.}}{{end}}`:                           true,
		`{{.Keys}} .Key`:                                      false,
		`{{(.Access "x").Key}}`:                               false,
		`{{with .Access "x"}}{{.Certificate}}{{.Key}}{{end}}`: false,
		`{{range .Calls "x"}}{{.Key}}{{end}}`:                 false,
		`{{$k := .Access "x"}}{{$k.Key}}`:                     false,
		`{{.Authority}}`:                                      false,
		`{{.Key`:                                              true,
	} {
		if got := asksFor(text, "Certificate", "Key"); got != want {
			t.Errorf("%s: got %v", text, got)
		}
	}
}
