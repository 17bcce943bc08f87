package identity

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
)

// Enrolment is how an agent that has just been started comes to its certificate: over a connection that it inherits from who has
// started it, and that nobody else can have.
type (
	asks struct {
		Request []byte `json:"request"` // DER
	}
	answers struct {
		Certificate []byte `json:"certificate"` // DER
		Authority   []byte `json:"authority"`   // DER
		Seal        []byte `json:"seal"`        // seals what the agent keeps on its disk
	}
	enrolled struct {
		URL string `json:"url"`
	}
)

// Enrol is the agent's side: it asks for a certificate and gives the key that seals what it keeps.
func (a *Agent) Enrol(with io.ReadWriter) (seal []byte, err error) {
	request, err := a.Request()
	if err != nil {
		return nil, err
	}
	if err := json.NewEncoder(with).Encode(asks{request}); err != nil {
		return nil, fmt.Errorf("a certificate cannot be asked for: %w", err)
	}
	var got answers
	if err := json.NewDecoder(with).Decode(&got); err != nil {
		return nil, fmt.Errorf("no certificate was given: %w", err)
	}
	if len(got.Seal) != 32 {
		return nil, errors.New("no key to seal with was given")
	}
	return got.Seal, a.Take(got.Certificate, got.Authority)
}

// Answers says where the agent answers, which ends its enrolment.
func Answers(with io.Writer, url string) error { return json.NewEncoder(with).Encode(enrolled{url}) }

// Enrol is the side of who has started the agent of a node. It returns, with the agent's URL, when the agent answers.
func (a *Authority) Enrol(with io.ReadWriter, node string, seal []byte) (url string, err error) {
	in := json.NewDecoder(io.LimitReader(with, 64<<10))
	var ask asks
	if err := in.Decode(&ask); err != nil {
		return "", err
	}
	certificate, err := a.Sign(ask.Request, node)
	if err != nil {
		return "", err
	}
	if err := json.NewEncoder(with).Encode(answers{certificate, a.Certificate(), seal}); err != nil {
		return "", err
	}
	var done enrolled
	return done.URL, errors.Join(in.Decode(&done))
}
