package state

import (
	"flag"
	"fmt"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

var update = flag.Bool("update", false, "add kinds of facts that testdata/kinds.tsv lacks; what is in it is never changed")

const fixture = "testdata/kinds.tsv"

// filled gives a value of a type in which nothing is empty: numbers count up, texts name themselves, lists and maps have one entry.
func filled(t reflect.Type, n *int, depth int) reflect.Value {
	v := reflect.New(t).Elem()
	*n++
	switch t.Kind() {
	case reflect.String:
		if t == reflect.TypeFor[order.Procedure]() {
			v.SetString(string(order.Join))
			break
		}
		v.SetString(fmt.Sprintf("%s-%d", strings.ToLower(t.Name()), *n))
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int, reflect.Int32, reflect.Int64:
		v.SetInt(int64(*n))
	case reflect.Uint8, reflect.Uint32, reflect.Uint64:
		v.SetUint(uint64(*n % 200))
	case reflect.Float64:
		v.SetFloat(float64(*n) / 4)
	case reflect.Pointer:
		if depth < 6 {
			v.Set(filled(t.Elem(), n, depth+1).Addr())
		}
	case reflect.Slice:
		if depth < 6 {
			v.Set(reflect.Append(v, filled(t.Elem(), n, depth+1)))
		}
	case reflect.Map:
		if depth < 6 {
			v.Set(reflect.MakeMap(t))
			v.SetMapIndex(filled(t.Key(), n, depth+1), filled(t.Elem(), n, depth+1))
		}
	case reflect.Struct:
		if t == reflect.TypeFor[time.Time]() {
			v.Set(reflect.ValueOf(time.Date(2026, 1, 1, 0, 0, *n, 0, time.UTC)))
			break
		}
		for i := range t.NumField() {
			if f := t.Field(i); f.IsExported() && f.Tag.Get("json") != "-" {
				v.Field(i).Set(filled(f.Type, n, depth+1))
			}
		}
	}
	return v
}

// example gives a fact of a kind with something in every place.
func example(kind string) Fact {
	n := 0
	f := filled(kinds[kind], &n, 0).Interface().(Fact)
	switch x := f.(type) {
	case Condensed: // what is in it has to be a state
		x.Version, x.State = CondensedVersion, emptyState()
		return x
	}
	return f
}

func emptyState() []byte {
	data, err := Encode(&State{Field: &field.Field{Name: "saltmarsh"}})
	if err != nil {
		panic(err)
	}
	return data
}

// TestEveryKindOfFactIsStoredAndSaid stores a fact of each kind in which nothing is empty: what comes back is the same, and says something.
func TestEveryKindOfFactIsStoredAndSaid(t *testing.T) {
	for _, kind := range Kinds() {
		f := example(kind)
		stored, data, err := EncodeFact(f)
		if err != nil || stored != kind {
			t.Errorf("%s: stored as %s, %v", kind, stored, err)
			continue
		}
		again, err := DecodeFact(kind, data)
		if err != nil {
			t.Errorf("%s: %v", kind, err)
			continue
		}
		if second, secondData, err := EncodeFact(again); err != nil || second != kind || string(secondData) != string(data) {
			t.Errorf("%s is stored as\n%s, and, once read, as\n%s (%v)", kind, data, secondData, err)
		}
		if !reflect.DeepEqual(again, f) && !unset(kind) {
			t.Errorf("%s: read %+v, want %+v", kind, again, f)
		}
		if text := again.Sentence(); text == "" || strings.Contains(text, "%!") {
			t.Errorf("%s says %q", kind, text)
		}
	}
}

// unset tells whether a kind holds values that are found out and not stored (the labels of a field's nodes in one text).
func unset(kind string) bool { return kind == "accepted" }

// TestOldLogsAreRead reads facts of all kinds as they were stored when each kind was new.
func TestOldLogsAreRead(t *testing.T) {
	data, err := os.ReadFile(fixture)
	if err != nil && !*update {
		t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSpace(string(data)), "\n")
	var had []string
	for _, line := range lines {
		kind, data, ok := strings.Cut(line, "\t")
		if !ok {
			continue
		}
		had = append(had, kind)
		f, err := DecodeFact(kind, []byte(data))
		if err != nil {
			t.Errorf("%s, as it was stored before, cannot be read: %v", kind, err)
			continue
		}
		if f.Sentence() == "" || SubjectOf(f) == (Subject{}) && SubjectOf(example(kind)) != (Subject{}) {
			t.Errorf("%s, as it was stored before, tells nothing any more", kind)
		}
		if zero := Zero(kind); reflect.DeepEqual(f, zero) && !reflect.DeepEqual(example(kind), zero) {
			t.Errorf("%s, as it was stored before, has nothing in it any more", kind)
		}
	}
	for _, kind := range Kinds() {
		if slices.Contains(had, kind) {
			continue
		}
		if !*update {
			t.Errorf("there is no fact of kind %s in %s; -update adds one", kind, fixture)
			continue
		}
		_, data, err := EncodeFact(example(kind))
		if err != nil {
			t.Fatal(err)
		}
		lines = append(lines, kind+"\t"+string(data))
	}
	if *update {
		slices.Sort(lines)
		if err := os.WriteFile(fixture, []byte(strings.TrimSpace(strings.Join(lines, "\n"))+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// TestNoFactIsLostFromTheKinds finds facts that are declared and cannot be stored.
func TestNoFactIsLostFromTheKinds(t *testing.T) {
	entries, err := os.ReadDir(".")
	if err != nil {
		t.Fatal(err)
	}
	declared := 0
	for _, e := range entries {
		if !strings.HasSuffix(e.Name(), ".go") || strings.HasSuffix(e.Name(), "_test.go") {
			continue
		}
		data, err := os.ReadFile(e.Name())
		if err != nil {
			t.Fatal(err)
		}
		for line := range strings.Lines(string(data)) {
			rest, is := strings.CutPrefix(line, "func (")
			if !is || !strings.Contains(line, ") apply(") {
				continue
			}
			words := strings.Fields(strings.Split(rest, ")")[0])
			name := words[len(words)-1]
			declared++
			if !slices.ContainsFunc(Kinds(), func(kind string) bool { return kinds[kind].Name() == name }) {
				t.Errorf("%s can be folded and not be stored: it is missing from the kinds", name)
			}
		}
	}
	if declared != len(Kinds()) {
		t.Errorf("%d facts are declared and %d are kinds", declared, len(Kinds()))
	}
}
