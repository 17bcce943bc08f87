package field

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Option is a setting that a kit knows: what it is, what it may be, and where its value comes from when nobody says.
type Option struct {
	Name    string          `json:"name"`
	Default Text            `json:"default"`
	From    string          `json:"from,omitempty"`   // an expr-lang expression over the node, by which the value follows from the hardware
	Loads   map[string]Text `json:"loads,omitempty"`  // values by load profile
	Type    OptionType      `json:"type,omitempty"`   // text when empty
	Least   Text            `json:"least,omitempty"`  // where the type has an order
	Most    Text            `json:"most,omitempty"`   // likewise
	OneOf   []Text          `json:"one_of,omitempty"` // the only values there are
	About   string          `json:"about,omitempty"`
	Simple  bool            `json:"simple,omitempty"` // among those that are shown first

	Required bool `json:"required,omitempty"` // it has no default: the field must say it

	Needs        []string `json:"needs,omitempty"`        // settings that must be given too where this one is: name, or name=value
	Excludes     []string `json:"excludes,omitempty"`     // settings that must not be given where this one is: name, or name=value
	Experimental string   `json:"experimental,omitempty"` // why it is not to be relied on yet
}

// OptionType is what kind of value a setting takes.
type OptionType string

// The types of settings.
const (
	TypeText     OptionType = "text"
	TypeNumber   OptionType = "number"
	TypeWhole    OptionType = "whole" // a number without a fraction
	TypeTruth    OptionType = "truth" // true or false
	TypeSize     OptionType = "size"
	TypeDuration OptionType = "duration"
)

// Option finds a setting that the role's kit knows; nil when it knows none of that name.
func (r *Role) Option(name string) *Option {
	if i := slices.IndexFunc(r.Options, func(o Option) bool { return o.Name == name }); i >= 0 {
		return &r.Options[i]
	}
	return nil
}

// OptionNames lists the settings that the role's kit knows.
func (r *Role) OptionNames() []string {
	names := make([]string, len(r.Options))
	for i, o := range r.Options {
		names[i] = o.Name
	}
	return names
}

// Check says what is wrong with a value, or nothing.
func (o *Option) Check(value Text) error {
	if len(o.OneOf) > 0 {
		if slices.Contains(o.OneOf, value) {
			return nil
		}
		words := make([]string, len(o.OneOf))
		for i, w := range o.OneOf {
			words[i] = string(w)
		}
		hint := ""
		if near := Nearest(string(value), words); near != "" {
			hint = fmt.Sprintf("; did you mean %q?", near)
		}
		return fmt.Errorf("%s cannot be %q: it is one of %s%s", o.Name, value, strings.Join(words, ", "), hint)
	}
	n, err := o.Type.measure(value)
	if err != nil {
		return fmt.Errorf("%s: %w", o.Name, err)
	}
	if least, err := o.Type.measure(o.Least); o.Least != "" && err == nil && n < least {
		return fmt.Errorf("%s is %s, and it must be at least %s", o.Name, value, o.Least)
	}
	if most, err := o.Type.measure(o.Most); o.Most != "" && err == nil && n > most {
		return fmt.Errorf("%s is %s, and it may be at most %s", o.Name, value, o.Most)
	}
	return nil
}

// measure reads a value of the type as a number by which values can be compared.
func (t OptionType) measure(value Text) (float64, error) {
	s := string(value)
	switch t {
	case TypeNumber:
		if n, err := strconv.ParseFloat(s, 64); err == nil {
			return n, nil
		}
		return 0, fmt.Errorf("%q is not a number", s)
	case TypeWhole:
		if n, err := strconv.ParseInt(s, 10, 64); err == nil {
			return float64(n), nil
		}
		return 0, fmt.Errorf("%q is not a whole number", s)
	case TypeTruth:
		if s == "true" || s == "false" {
			return 0, nil
		}
		return 0, fmt.Errorf("%q is neither true nor false", s)
	case TypeSize:
		b, err := ParseBytes(s)
		return float64(b), err
	case TypeDuration:
		d, err := time.ParseDuration(s)
		if err != nil || d < 0 {
			return 0, fmt.Errorf("%q is not a length of time; write it like 500ms, 10s or 1m30s", s)
		}
		return float64(d), nil
	}
	return 0, nil
}

// Word writes a number of the type as the file would have it.
func (t OptionType) Word(n float64) Text {
	switch t {
	case TypeWhole:
		return Text(strconv.FormatInt(int64(n), 10))
	case TypeSize:
		for _, u := range byteUnits {
			if n >= float64(u.size) && int64(n)%u.size == 0 {
				return Text(strconv.FormatInt(int64(n)/u.size, 10) + u.name)
			}
		}
		return Text(strconv.FormatInt(int64(n)>>20, 10) + "MiB") // whole MiB are fine enough for what follows from hardware
	case TypeDuration:
		return Text(time.Duration(n).String())
	}
	return Text(strconv.FormatFloat(n, 'f', -1, 64))
}
