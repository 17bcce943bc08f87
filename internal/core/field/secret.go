package field

import (
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// GivenSecret is a secret that is not made, but given when the field is first deployed: read from a file or a variable of who deploys, or asked for on
// the terminal. One of them is said.
type GivenSecret struct {
	Prompt bool   `json:"prompt,omitempty"`
	File   string `json:"file,omitempty"` // beside the field file, where it is no absolute path
	Env    string `json:"env,omitempty"`  // the name of a variable
}

// String says where it is from.
func (g GivenSecret) String() string {
	switch {
	case g.File != "":
		return "the file " + g.File
	case g.Env != "":
		return "the variable " + g.Env
	}
	return "the terminal"
}

// SecretRule is what a program says of one of its secrets: what it can be like, and how the program takes another one.
type SecretRule struct {
	About   string       `json:"about,omitempty"`
	Least   int          `json:"least,omitempty"`   // characters; 8 when 0
	Most    int          `json:"most,omitempty"`    // characters; 128 when 0
	Needs   []string     `json:"needs,omitempty"`   // of each of these classes one: lower, upper, digit, other
	Without string       `json:"without,omitempty"` // characters that it cannot have; quotes, \, $ and blanks when empty
	Change  SecretChange `json:"change,omitempty"`
}

// SecretChange is how a program takes another secret.
type SecretChange string

// How a program takes another secret.
const (
	ByFiles SecretChange = ""      // with its files and its environment, as any other change of them
	BySteps SecretChange = "steps" // by the steps of change_secret, before its files have it
	Never   SecretChange = "never" // it cannot
)

// What a secret can be like where nothing is said.
const (
	leastSecret   = 8
	mostSecret    = 128
	withoutSecret = "\"'`\\$ "
)

// madeSecret is how many characters a secret has that is made: lower-case letters and digits.
const madeSecret = 32

var classes = map[string]func(rune) bool{"lower": unicode.IsLower, "upper": unicode.IsUpper, "digit": unicode.IsDigit,
	"other": func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }}

// with gives the rule with what it leaves unsaid.
func (r SecretRule) with() SecretRule {
	if r.Least == 0 {
		r.Least = leastSecret
	}
	if r.Most == 0 {
		r.Most = mostSecret
	}
	if r.Without == "" {
		r.Without = withoutSecret
	}
	return r
}

// Check says what is wrong with a secret, and says nothing of it but that.
func (r SecretRule) Check(value string) error {
	r = r.with()
	if value == "" {
		return fmt.Errorf("it is empty")
	}
	if !utf8.ValidString(value) {
		return fmt.Errorf("it is no text (UTF-8)")
	}
	var wrong []string
	switch n := utf8.RuneCountInString(value); {
	case n < r.Least:
		wrong = append(wrong, fmt.Sprintf("it has %d characters, and must have at least %d", n, r.Least))
	case n > r.Most:
		wrong = append(wrong, fmt.Sprintf("it has %d characters, and may have at most %d", n, r.Most))
	}
	for _, class := range r.Needs {
		if is := classes[class]; is != nil && strings.IndexFunc(value, is) < 0 {
			wrong = append(wrong, fmt.Sprintf("it has no %s", classWord(class)))
		}
	}
	var has []string
	for _, c := range value {
		word := string(c)
		switch {
		case c == '\n' || c == '\r':
			word = "a line break"
		case unicode.IsControl(c):
			word = fmt.Sprintf("the control character %U", c)
		case c == ' ' && strings.ContainsRune(r.Without, c):
			word = "a blank"
		case !strings.ContainsRune(r.Without, c):
			continue
		case strings.ContainsRune("\"'`", c):
			word = "the quote " + word
		}
		if !slices.Contains(has, word) {
			has = append(has, word)
		}
	}
	if len(has) > 0 {
		wrong = append(wrong, "it must be without "+and(has))
	}
	if len(wrong) > 0 {
		return fmt.Errorf("%s", and(wrong))
	}
	return nil
}

// Words says what a secret must be like.
func (r SecretRule) Words() string {
	r = r.with()
	words := []string{fmt.Sprintf("%d to %d characters", r.Least, r.Most)}
	for _, class := range r.Needs {
		words = append(words, "with a "+classWord(class))
	}
	blank := strings.ContainsRune(r.Without, ' ')
	without := strings.Join(strings.Split(strings.ReplaceAll(r.Without, " ", ""), ""), " ")
	if blank {
		without = strings.TrimSpace(without + " and blanks")
	}
	return strings.Join(append(words, "without "+without), ", ")
}

func classWord(class string) string {
	return map[string]string{"lower": "lower-case letter", "upper": "upper-case letter", "digit": "digit", "other": "character that is neither a letter nor a digit"}[class]
}

func and(words []string) string {
	if n := len(words); n > 1 {
		return strings.Join(words[:n-1], ", ") + " and " + words[n-1]
	}
	return strings.Join(words, "")
}

// mustBeGiven says why a secret that is made would not do; empty where it would.
func (r SecretRule) mustBeGiven() string {
	r = r.with()
	switch {
	case slices.Contains(r.Needs, "upper") || slices.Contains(r.Needs, "other"):
		return "its program wants characters in it that no secret has that is made"
	case r.Least > madeSecret || r.Most < madeSecret:
		return fmt.Sprintf("its program wants another length than the %d characters of one that is made", madeSecret)
	}
	return ""
}

var namedSecret = regexp.MustCompile("\\.Secret (?:\\\\?\"|`)([a-z0-9-]+)|\\.Basic [^}]*(?:\\\\?\"|`)([a-z0-9-]+)(?:\\\\?\"|`) *(?:\\||}})")

// SecretNames are the secrets that a program names.
func (p *Program) SecretNames() []string {
	if p == nil {
		return nil
	}
	names := map[string]bool{}
	for name := range p.Secrets {
		names[name] = true
	}
	if p.Access != nil && p.Access.Secret != "" {
		names[p.Access.Secret] = true
	}
	text, _ := json.Marshal(p)
	for _, m := range namedSecret.FindAllStringSubmatch(string(text), -1) {
		names[m[1]+m[2]] = true
	}
	return slices.Sorted(maps.Keys(names))
}

// SecretNames are those that the role's program names, and that of the user as whom the store of its lease is asked.
func (r *Role) SecretNames() []string {
	names := r.Program.SecretNames()
	if r.Floating != nil && r.Floating.Secret != "" && !slices.Contains(names, r.Floating.Secret) {
		names = append(names, r.Floating.Secret)
	}
	if r.Guarded() && r.Lease.Secret != "" && !slices.Contains(names, r.Lease.Secret) {
		names = append(slices.Clone(names), r.Lease.Secret)
		slices.Sort(names)
	}
	return names
}

// UsersOf are the roles that name a secret.
func (f *Field) UsersOf(secret string) []RoleName {
	var out []RoleName
	for i := range f.Roles {
		if slices.Contains(f.Roles[i].SecretNames(), secret) {
			out = append(out, f.Roles[i].Name)
		}
	}
	return out
}

// SecretRules are what programs say of a secret, by role; a rule of nothing where none says anything.
func (f *Field) SecretRules(secret string) map[RoleName]SecretRule {
	out := map[RoleName]SecretRule{}
	for i := range f.Roles {
		if r := &f.Roles[i]; r.Program != nil {
			if rule, says := r.Program.Secrets[secret]; says {
				out[r.Name] = rule
			}
		}
	}
	if len(out) == 0 {
		out[""] = SecretRule{}
	}
	return out
}

// CheckSecret says what is wrong with a secret for the programs that have it.
func (f *Field) CheckSecret(name, value string) error {
	rules := f.SecretRules(name)
	for _, role := range slices.Sorted(maps.Keys(rules)) {
		if err := rules[role].Check(value); err != nil {
			return fmt.Errorf("the secret %s cannot be used: %w", name, err)
		}
	}
	return nil
}

// givenSecrets finds what a field says of secrets and has no meaning.
func (v *validator) givenSecrets() {
	for _, name := range slices.Sorted(maps.Keys(v.Secrets)) {
		g := v.Secrets[name]
		n := 0
		for _, says := range []bool{g.Prompt, g.File != "", g.Env != ""} {
			if says {
				n++
			}
		}
		if n != 1 {
			v.add([]string{"secrets", name}, "write {prompt: true}, {file: PATH} or {env: NAME}", "where the secret %s is from must be said once, and is said %d times", name, n)
		}
		if len(v.UsersOf(name)) == 0 && !v.UsesWebhook(name) {
			var known []string
			for i := range v.Roles {
				known = append(known, v.Roles[i].SecretNames()...)
			}
			hint := ""
			if len(known) > 0 {
				hint = didYouMean(name, known)
			}
			v.add([]string{"secrets", name}, hint, "no program of the field names a secret %s, and no webhook", name)
			v.problems[len(v.problems)-1].Key = true
		}
	}
	for i := range v.Roles {
		r := &v.Roles[i]
		if r.Program == nil {
			continue
		}
		for _, name := range slices.Sorted(maps.Keys(r.Program.Secrets)) {
			if _, given := v.Secrets[name]; given {
				continue
			}
			if why := r.Program.Secrets[name].mustBeGiven(); why != "" {
				v.add([]string{"roles", string(r.Name)}, fmt.Sprintf("say secrets: {%s: {prompt: true}} at the top of the file", name), "the secret %s of %s must be given: %s", name, r.Name, why)
			}
		}
	}
}

// secretRules checks what a program says of its secrets.
func (v *validator) secretRules(p *Program, at func(...string) []string) {
	for _, name := range slices.Sorted(maps.Keys(p.Secrets)) {
		r := p.Secrets[name]
		here := func(rest ...string) []string { return at(append([]string{"secrets", name}, rest...)...) }
		if w := r.with(); w.Least > w.Most {
			v.add(here("least"), "", "the secret %s must have at least %s characters and at most %s", name, strconv.Itoa(w.Least), strconv.Itoa(w.Most))
		}
		if r.Change == BySteps && len(p.ChangeSecret) == 0 {
			v.add(here("change"), "say the steps: change_secret: [{exec: […]}]", "the secret %s is changed by steps, and the program says none", name)
		}
	}
	if len(p.ChangeSecret) > 0 && !slices.ContainsFunc(slices.Collect(maps.Values(p.Secrets)), func(r SecretRule) bool { return r.Change == BySteps }) {
		v.add(at("change_secret"), "say secrets: {NAME: {change: steps}}", "there are steps to change a secret, and no secret that is changed by steps")
	}
}
