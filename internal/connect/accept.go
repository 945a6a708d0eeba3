package connect

import (
	"context"

	"mossledger.example/moss/internal/core/secret"
)

// Point is where a credential is accepted on a system.
type Point struct {
	Account AccountRef // that it proves
	Path    string     // of a file of entries that let the holder of a key in; "" where the system itself decides
	// Next is the account that takes the place of Account, where two take turns; its StableID
	// is empty otherwise. The old value is then Account's and the new one Next's, and that a
	// value is accepted means that its account may sign in with it.
	Next AccountRef
}

// Turns: two accounts take turns at it.
func (p Point) Turns() bool { return p.Next.StableID != "" }

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
	// Alternates reports whether two accounts may take turns at the point, so that the one
	// whose turn begins can do all that the other one can, and what is in the way.
	Alternates(ctx context.Context, target Target, point Point) (bool, string, error)
	// Accept has the point accept exactly what is wanted of two values, with the
	// target's privileged steward. It returns nil only when the system said that it
	// does. What is so already is harmless to ask for again. A password that is
	// replaced needs only the value that shall be accepted. Where two accounts take turns,
	// AcceptBoth brings Next into step with Account, gives it the new value and lets both
	// sign in; AcceptNew has Account rest, and AcceptOld Next, whose value is the new one
	// then all the same.
	Accept(ctx context.Context, target Target, point Point, values Values, want Accepted) error
	// Probe asks which of the two is accepted. It changes nothing.
	Probe(ctx context.Context, target Target, point Point, values Values) (Probed, error)
}

// ProbePassword probes by signing in. While the account is refused whatever is given,
// it finds nothing out (CodeUnproven): "neither is accepted" would say that somebody
// else set another value. Where one of them gets a ticket, the other one gets none.
func ProbePassword(ctx context.Context, v Verifier, target Target, point Point, values Values) (Probed, error) {
	if point.Turns() {
		return probeTurn(ctx, v, target, point, values)
	}
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

// probeTurn asks which of two accounts may sign in with its value. One that rests may not,
// whatever is given.
func probeTurn(ctx context.Context, v Verifier, target Target, point Point, values Values) (Probed, error) {
	answer := func(account AccountRef, value secret.Value) (Answer, string, error) {
		verdict, err := v.Verify(ctx, target, account, value)
		switch {
		case err != nil:
			return "", "", err
		case verdict.Rests():
			return AnswerNo, verdict.Words, nil
		case verdict.Says() == AnswerBlind:
			return "", "", target.Unproven(verdict)
		}
		return verdict.Says(), verdict.Words, nil
	}
	next, _, err := answer(point.Next, values.New)
	if err != nil {
		return Probed{}, err
	}
	old, words, err := answer(point.Account, values.Old)
	return Probed{Old: old, New: next, Words: words}, err
}
