package control

import (
	"encoding/json"
	"errors"
	"net/http"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/review"
	"lanternfield/internal/eventlog"
)

// wireError is an error as it passes through the socket: its words, and, of those that somebody may decide by, what they are made of.
type wireError struct {
	Kind string          `json:"kind,omitempty"`
	Text string          `json:"text"`
	Data json.RawMessage `json:"data,omitempty"`
}

// said is an error whose words were made on the other side; the typed one that it was made of is within.
type said struct {
	text string
	err  error
}

func (e *said) Error() string { return e.text }

func (e *said) Unwrap() error { return e.err }

// wires are the errors that keep their types, by the name of their kind. The names are never changed.
var wires = map[string]func() error{
	"lacks":   func() error { return &LacksError{} },
	"held":    func() error { return &HeldError{} },
	"broken":  func() error { return &eventlog.Broken{} },
	"changed": func() error { return &review.Changed{} },
	"old":     func() error { return &eventlog.TooOld{} },
	"ungiven": func() error { return &engine.UngivenError{} },
	"sealed":  func() error { return &SealedError{} },
	"missing": func() error { return &MissingError{} },
}

// EncodeError gives an error as bytes.
func EncodeError(err error) []byte {
	w := wireError{Text: err.Error()}
	keep := func(kind string, typed error) {
		w.Kind = kind
		w.Data, _ = json.Marshal(typed)
	}
	var lacks *LacksError
	var held *HeldError
	var broken *eventlog.Broken
	var changed *review.Changed
	var old *eventlog.TooOld
	var missing *MissingError
	var sealed *SealedError
	var ungiven *engine.UngivenError
	switch {
	case errors.As(err, &lacks):
		keep("lacks", lacks)
	case errors.As(err, &held):
		keep("held", held)
	case errors.As(err, &broken):
		keep("broken", broken)
	case errors.As(err, &changed):
		keep("changed", changed)
	case errors.As(err, &old):
		keep("old", old)
	case errors.As(err, &ungiven):
		keep("ungiven", ungiven)
	case errors.As(err, &sealed):
		keep("sealed", sealed)
	case errors.As(err, &missing):
		keep("missing", missing)
	case errors.Is(err, ErrNothing):
		w.Kind = "nothing"
	}
	data, _ := json.Marshal(w)
	return data
}

// DecodeError gives the error back.
func DecodeError(data []byte) error {
	var w wireError
	if err := json.Unmarshal(data, &w); err != nil || w.Text == "" {
		return errors.New(string(data))
	}
	if w.Kind == "nothing" {
		return &said{w.Text, ErrNothing}
	}
	if make := wires[w.Kind]; make != nil {
		if typed := make(); json.Unmarshal(w.Data, typed) == nil {
			return &said{w.Text, typed}
		}
	}
	return errors.New(w.Text)
}

func answer(w http.ResponseWriter, value any, err error) {
	w.Header().Set("Content-Type", "application/json")
	if err != nil {
		w.WriteHeader(http.StatusConflict)
		_, _ = w.Write(EncodeError(err))
		return
	}
	_ = json.NewEncoder(w).Encode(value)
}
