package wsman

import (
	"errors"
	"fmt"
	"strings"
)

// Fault is a SOAP fault: the server understood enough to refuse.
type Fault struct {
	Code     string // local name: Sender, Receiver, MustUnderstand, VersionMismatch
	Subcode  string // local name: AccessDenied, TimedOut, InvalidSelectors, ...
	Reason   string // in the server's words
	Detail   string // FaultDetail, a URI of DSP0226 section 14.6
	Number   string // of the host's own fault detail, such as 2150858793
	Provider string // the words of the part that failed behind the protocol
	Machine  string
}

func (f *Fault) Error() string {
	words := strings.TrimSpace(f.Reason)
	if f.Provider != "" && !strings.Contains(words, f.Provider) {
		words = strings.TrimSpace(words + " " + f.Provider)
	}
	if words == "" {
		words = "no reason was given"
	}
	name := f.Subcode
	if name == "" {
		name = f.Code
	}
	if f.Number != "" {
		name += ", code " + f.Number
	}
	return "fault " + name + ": " + words
}

// Subcodes that callers decide by (DSP0226, section 14.6, and WS-Enumeration).
const (
	AccessDenied    = "AccessDenied"
	TimedOut        = "TimedOut"
	Unreachable     = "DestinationUnreachable"
	WrongSelectors  = "InvalidSelectors"
	ExpiredContext  = "InvalidEnumerationContext"
	CannotFilter    = "CannotProcessFilter"
	EncodingLimit   = "EncodingLimit"
	QuotaLimit      = "QuotaLimit"
	SchemaViolation = "SchemaValidationError"
)

// Numbers of faults that hosts of the Windows family give.
const (
	NumberAccessDenied = "5"
	NumberNotFound     = "2150858752" // 0x80338000
	NumberObjectGone   = "2147749890" // 0x80041002, not found in the repository of instances
	NumberNoClass      = "2147749904" // 0x80041010, invalid class
	NumberNoNamespace  = "2147749902" // 0x8004100E, invalid namespace
)

// StatusError is an HTTP answer that is no WS-Management answer, or a refusal
// to sign in.
type StatusError struct {
	Status      int
	ContentType string
	Server      string
	Offers      []string // ways to sign in
	Tried       string   // the way that was tried; "" when nobody signed in
	Start       string   // of its text, when it is not a web page
}

func (e *StatusError) Error() string {
	if e.Status == 401 {
		text := "the sign-in was refused (401)"
		if e.Tried != "" {
			text = "the sign-in by " + e.Tried + " was refused (401)"
		}
		if len(e.Offers) > 0 {
			text += "; it offers " + strings.Join(e.Offers, ", ")
		}
		return text
	}
	text := fmt.Sprintf("HTTP status %d with content type %q, not a WS-Management reply", e.Status, e.ContentType)
	if e.Server != "" {
		text += " (server " + e.Server + ")"
	}
	if e.Start != "" {
		text += ": " + e.Start
	}
	return text
}

// SignInError says that the proof of identity could not be made: no ticket,
// a challenge that makes no sense. Nothing was asked of the server then.
type SignInError struct {
	Refused bool // somebody who decides said no (the key distribution center)
	Err     error
}

func (e *SignInError) Error() string { return e.Err.Error() }
func (e *SignInError) Unwrap() error { return e.Err }

// ProtocolError is a reply that is not what the protocol asks for.
type ProtocolError struct{ What string }

func (e *ProtocolError) Error() string { return "not a proper WS-Management reply: " + e.What }

func protocol(format string, args ...any) error {
	return &ProtocolError{fmt.Sprintf(format, args...)}
}

// TransportError is a connection that could not be made or broke.
type TransportError struct {
	Sent bool // the request may have arrived
	Err  error
}

func (e *TransportError) Error() string { return e.Err.Error() }
func (e *TransportError) Unwrap() error { return e.Err }

// MayHaveHappened reports whether the act behind an error may have taken
// effect: the request went out and no proper refusal came back.
func MayHaveHappened(err error) bool {
	var fault *Fault
	var status *StatusError
	var transport *TransportError
	var sign *SignInError
	switch {
	case err == nil:
		return false
	case errors.As(err, &fault):
		return fault.Subcode == TimedOut
	case errors.As(err, &sign):
		return false
	case errors.As(err, &status):
		return status.Status != 401 && status.Status != 403 && status.Status != 404
	case errors.As(err, &transport):
		return transport.Sent
	}
	return true
}

// Is reports whether an error is a fault with that subcode or number.
func Is(err error, name string) bool {
	var fault *Fault
	return errors.As(err, &fault) && (fault.Subcode == name || fault.Number == name)
}
