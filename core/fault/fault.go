// Package fault holds the one error type that crosses rooms: an error with a
// kind (which fixes the exit status), the place of the setting at fault, and
// the next thing to do.
//
// Every room below cli returns these for anything a user can act on:
//
//	return fault.New(fault.Settings, "client %q is not in this courier file", name).
//		At(pos).Hint("nearest: %s", near)
package fault

import (
	"errors"
	"fmt"
)

// Kind says whose side failed. Its text is what --json prints.
type Kind string

const (
	Internal      Kind = "internal"      // a defect of this program
	Usage         Kind = "usage"         // the command line
	Settings      Kind = "settings"      // courier file, value or secret
	Unreachable   Kind = "unreachable"   // no answer, or one that cannot be trusted
	Authorization Kind = "authorization" // the authorization server refused or answered wrongly
	API           Kind = "api"           // the protected API refused
	Expectation   Kind = "expectation"   // an expectation, drill, vet or verification failed
	Interrupted   Kind = "interrupted"   // stopped by the user
)

// ExitStatus is the process exit status of a kind; scripts rely on it.
func (k Kind) ExitStatus() int {
	switch k {
	case Usage:
		return 2
	case Settings:
		return 3
	case Unreachable:
		return 4
	case Authorization:
		return 5
	case API:
		return 6
	case Expectation:
		return 7
	case Interrupted:
		return 130
	}
	return 1
}

// Error is an error a person can act on.
type Error struct {
	Kind    Kind
	Message string // what was tried and what happened, no trailing full stop
	Where   string // "courier.yaml:31:5", or the flag or variable at fault; may be empty
	Next    string // the next thing to do; may be empty

	// Code, Description and Status are set for refusals of an authorization
	// server: the RFC 6749 5.2 members and the HTTP status.
	Code        string
	Description string
	Status      int

	Cause error
}

// New makes an Error of a kind.
func New(kind Kind, format string, args ...any) *Error {
	return &Error{Kind: kind, Message: fmt.Sprintf(format, args...)}
}

// Wrap makes an Error of a kind around a cause, whose text follows the message.
func Wrap(kind Kind, cause error, format string, args ...any) *Error {
	return &Error{Kind: kind, Message: fmt.Sprintf(format, args...) + ": " + cause.Error(), Cause: cause}
}

// At names the place of the setting at fault.
func (e *Error) At(where string) *Error { e.Where = where; return e }

// Hint sets the next thing to do.
func (e *Error) Hint(format string, args ...any) *Error {
	e.Next = fmt.Sprintf(format, args...)
	return e
}

func (e *Error) Error() string {
	if e.Where != "" {
		return e.Where + ": " + e.Message
	}
	return e.Message
}

func (e *Error) Unwrap() error { return e.Cause }

// As returns the Error inside err. Any other error becomes one of kind
// Internal, so that no failure is ever without a kind. As(nil) is nil.
func As(err error) *Error {
	if err == nil {
		return nil
	}
	var e *Error
	if errors.As(err, &e) {
		return e
	}
	return &Error{Kind: Internal, Message: err.Error(), Cause: err}
}
