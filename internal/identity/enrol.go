package identity

import (
	"crypto/ecdsa"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
)

// Enrolment is how an agent that has just been started comes to its certificate: over a connection that it inherits from who has
// started it, and that nobody else can have.
type (
	asks struct {
		Request []byte `json:"request"` // DER
	}
	answers struct {
		Certificate []byte   `json:"certificate"` // DER
		Counting    Counting `json:"counting"`
		Seal        []byte   `json:"seal"` // seals what the agent keeps on its disk
	}
	enrolled struct {
		URL string `json:"url"`
	}
)

const sealBytes = 32

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
	if len(got.Seal) != sealBytes {
		return nil, errors.New("no key to seal with was given")
	}
	return got.Seal, a.take(got.Certificate, &got.Counting)
}

// kept is what an agent on a host keeps of its enrolment, so that it can be started again while no controller is there.
type kept struct {
	Key         []byte   `json:"key"`                 // PKCS #8
	Certificate []byte   `json:"certificate"`         // DER
	Authority   []byte   `json:"authority,omitempty"` // DER; of the release before, that knew one only
	Counting    Counting `json:"counting,omitzero"`
	Seal        []byte   `json:"seal"`
}

// Keep writes the identity of an agent, with the key that it seals with, to a file for its owner only.
func (a *Agent) Keep(name string, seal []byte) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	key, err := x509.MarshalPKCS8PrivateKey(a.key)
	if err != nil {
		return err
	}
	data, err := json.Marshal(kept{Key: key, Certificate: a.cert.Leaf.Raw, Counting: a.counting, Seal: seal})
	if err != nil {
		return err
	}
	return WriteSynced(name, data)
}

// Load reads what Keep has written, and gives the key to seal with.
func (a *Agent) Load(name string) (seal []byte, err error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	var k kept
	if err := json.Unmarshal(data, &k); err != nil {
		return nil, fmt.Errorf("%s is damaged: %w", name, err)
	}
	key, err := x509.ParsePKCS8PrivateKey(k.Key)
	if err != nil {
		return nil, fmt.Errorf("%s is damaged: %w", name, err)
	}
	own, ok := key.(*ecdsa.PrivateKey)
	if !ok || len(k.Seal) != sealBytes {
		return nil, fmt.Errorf("%s is damaged: it holds another kind of key", name)
	}
	a.asked = append(a.asked, own)
	if len(k.Counting.Authorities) == 0 {
		k.Counting.Authorities = [][]byte{k.Authority}
	}
	return k.Seal, a.take(k.Certificate, &k.Counting)
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
	if err := json.NewEncoder(with).Encode(answers{certificate, a.Counting(), seal}); err != nil {
		return "", err
	}
	var done enrolled
	return done.URL, errors.Join(in.Decode(&done))
}
