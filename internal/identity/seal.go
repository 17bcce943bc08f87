package identity

import (
	"crypto/aes"
	"crypto/cipher"
	"errors"
)

// Sealer keeps what an agent must remember from being read off its disk (AES-256-GCM, a nonce of its own for each text).
type Sealer struct{ gcm cipher.AEAD }

// NewSealer makes a sealer of a key of 32 bytes.
func NewSealer(key []byte) (*Sealer, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	gcm, err := cipher.NewGCMWithRandomNonce(block)
	return &Sealer{gcm}, err
}

const sealed = "sealed1:"

// Seal seals a text.
func (s *Sealer) Seal(text []byte) []byte { return s.gcm.Seal([]byte(sealed), nil, text, nil) }

// ErrSealed says that a text was sealed with another key, or changed since.
var ErrSealed = errors.New("it was sealed with another key, or has been changed since")

// Open gives what was sealed. What never was, an older version has written, and is given as it is.
func (s *Sealer) Open(data []byte) ([]byte, error) {
	if len(data) < len(sealed) || string(data[:len(sealed)]) != sealed {
		return data, nil
	}
	text, err := s.gcm.Open(nil, nil, data[len(sealed):], nil)
	if err != nil {
		return nil, ErrSealed
	}
	return text, nil
}
