package connect

import (
	"context"

	"mossledger.example/moss/internal/core/secret"
)

// Point is where a credential is accepted on a system.
type Point struct {
	Account AccountRef // that it proves
	Path    string     // of a file of entries that let the holder of a key in; "" where the system itself decides
}

// Values are the two values of a credential that a change is between. At a file
// of entries they are public: type and key, as an entry has them.
type Values struct {
	Old, New secret.Value
}

// Accepted says which of two values a point shall accept.
type Accepted string

// What a point shall accept.
const (
	AcceptOld  Accepted = "old"
	AcceptBoth Accepted = "both"
	AcceptNew  Accepted = "new"
)

// Answer is what probing a point found out about one value.
type Answer string

// Answers.
const (
	AnswerYes   Answer = "accepted"
	AnswerNo    Answer = "refused"
	AnswerBlind Answer = "blind" // nobody can tell
)

// Probed is what a point accepts now.
type Probed struct {
	Old, New Answer
	Words    string // the system's own, about what was refused
}

// Accepter decides at points which values of a credential are accepted.
type Accepter interface {
	// Overlaps reports whether the point may accept two values at once, so that a
	// change needs no moment in which both sides must switch, and why not.
	Overlaps(ctx context.Context, target Target, point Point) (bool, string, error)
	// Accept has the point accept exactly what is wanted of two values, with the
	// target's privileged steward. It returns nil only when the system said that it
	// does. What is so already is harmless to ask for again. A password that is
	// replaced needs only the value that shall be accepted.
	Accept(ctx context.Context, target Target, point Point, values Values, want Accepted) error
	// Probe asks which of the two is accepted. It changes nothing.
	Probe(ctx context.Context, target Target, point Point, values Values) (Probed, error)
}

// ProbePassword probes by signing in. While the account is refused whatever is given,
// it finds nothing out (CodeUnproven): "neither is accepted" would say that somebody
// else set another value. Where one of them gets a ticket, the other one gets none.
func ProbePassword(ctx context.Context, v Verifier, target Target, point Point, values Values) (Probed, error) {
	answer := func(value secret.Value) (Verdict, error) {
		verdict, err := v.Verify(ctx, target, point.Account, value)
		if err == nil && verdict.Says() == AnswerBlind {
			err = target.Unproven(verdict)
		}
		return verdict, err
	}
	next, err := answer(values.New)
	if err != nil && CodeOf(err) != CodeUnproven {
		return Probed{}, err
	}
	if err == nil && next.Ticket {
		return Probed{Old: AnswerNo, New: AnswerYes, Words: next.Words}, nil
	}
	old, failed := answer(values.Old)
	switch {
	case failed == nil && old.Ticket:
		return Probed{Old: AnswerYes, New: AnswerNo, Words: old.Words}, nil
	case err != nil:
		return Probed{}, err
	case failed != nil:
		return Probed{}, failed
	}
	return Probed{Old: old.Says(), New: next.Says(), Words: old.Words}, nil
}

// ReplacePassword is Accept for systems that have one password for an account.
func ReplacePassword(target Target, values Values, want Accepted, set func(secret.Value) error) error {
	switch want {
	case AcceptOld:
		return set(values.Old)
	case AcceptNew:
		return set(values.New)
	}
	return target.Fail(StageChange, CodeCannot, "an account has one password here", "", nil)
}

// SetPassword has an account's point accept one value, whatever it accepted before.
func SetPassword(ctx context.Context, a Accepter, target Target, account AccountRef, value secret.Value) error {
	return a.Accept(ctx, target, Point{Account: account}, Values{New: value}, AcceptNew)
}
