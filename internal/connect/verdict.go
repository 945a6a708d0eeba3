package connect

import (
	"time"
)

// Verdict of a verification.
type Verdict struct {
	Accepted bool   `json:"accepted"`
	Code     string `json:"code,omitempty"` // why not: wrong, locked, disabled, expired, must-change, account-expired, not-known
	Words    string `json:"words"`          // the system's own words

	// Lingers is how long a value that was replaced may still be accepted there; 0
	// where it is refused at once.
	Lingers time.Duration `json:"lingers,omitempty"`
	// Ticket: it was accepted by giving a ticket, where a sign-in is refused whatever is
	// given. Tickets are given for the present value only, never for one of before.
	Ticket bool `json:"ticket,omitempty"`
	// Elsewhere is what the further servers of the same system say.
	Elsewhere []ServerVerdict `json:"elsewhere,omitempty"`
	// Shut says that the account itself is kept from signing in until somebody lets it, with
	// the code of what the system answered.
	Shut bool `json:"shut,omitempty"`
	// SetAt is when the present value was set, by the system's own clock; zero where it is not
	// told.
	SetAt time.Time `json:"set_at,omitzero"`
	// KeyVersion is the number of the account's present keys; 0 where none is told.
	KeyVersion int `json:"key_version,omitempty"`
	// Trials are the wrong passwords that were counted for the account before this
	// sign-in; nil where nothing is told of them.
	Trials *Trials `json:"trials,omitempty"`
}

// ServerVerdict is what one further server of a system says of a value. One that learns
// of changes later than the others has its say only when it has come as far: to be asked
// before would be a wrong password there.
type ServerVerdict struct {
	Server  string  `json:"server"`
	State   string  `json:"state"` // asked, behind or away
	Verdict Verdict `json:"verdict,omitzero"`
	Words   string  `json:"words,omitempty"` // of one that was not asked
}

// States of a further server.
const (
	ServerAsked  = "asked"
	ServerBehind = "behind" // it has an earlier password of the account
	ServerAway   = "away"
)

// Trials are wrong passwords that a system has counted for an account.
type Trials struct {
	Count int       `json:"count"`         // that count towards a lock now
	Last  time.Time `json:"last,omitzero"` // of the latest, by the system's own clock
}

// Says is what a verdict says of the value itself: directories tell only who gave the
// right one that it is expired or must be changed, and an account that is locked,
// disabled or ended is refused whatever was given. Some systems do not say why.
func (v Verdict) Says() Answer {
	switch {
	case v.Accepted || v.Code == VerdictExpired || v.Code == VerdictMustChange:
		return AnswerYes
	case v.Code == VerdictWrong || v.Code == "":
		return AnswerNo
	}
	return AnswerBlind
}

// Rests: the account may not sign in, whatever is given.
func (v Verdict) Rests() bool { return !v.Accepted && (v.Code == VerdictDisabled || v.Shut) }

// Codes of verdicts.
const (
	VerdictWrong      = "wrong"
	VerdictLocked     = "locked"
	VerdictDisabled   = "disabled"
	VerdictExpired    = "expired"
	VerdictMustChange = "must-change"
	VerdictEnded      = "account-expired" // the account itself
	VerdictRests      = "rests"           // of one whose turn it is not; said by us
	VerdictNotKnown   = "not-known"       // the system does not say whether it is the value or something else
)

// AsError keeps a nil Failure from becoming an error that is not nil.
func AsError(f *Failure) error {
	if f == nil {
		return nil
	}
	return f
}
