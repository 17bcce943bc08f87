// Package netfault says errors of the network in plain words.
package netfault

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"syscall"
)

// Error says an error of the network in plain words and keeps its cause.
type Error struct {
	text  string
	cause error
}

func (w *Error) Error() string { return w.text }

func (w *Error) Unwrap() error { return w.cause }

// Wrap words an error and keeps its cause.
func Wrap(text string, cause error) error { return &Error{text, cause} }

// Of says what could not be done over the network, and why.
func Of(what string, err error) error { return &Error{what + ": " + Plain(err), err} }

// Plain says an error of the network in plain words.
func Plain(err error) string {
	switch {
	case errors.Is(err, context.DeadlineExceeded), os.IsTimeout(err):
		return "no answer in time"
	case errors.Is(err, syscall.ECONNREFUSED):
		return "connection refused"
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return "the connection was cut"
	}
	var names *net.DNSError
	if errors.As(err, &names) {
		return fmt.Sprintf("the name %s is not known there", names.Name)
	}
	var op *net.OpError
	if errors.As(err, &op) {
		return op.Err.Error()
	}
	return err.Error()
}
