package planning

import (
	"fmt"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/policies"
	"mossledger.example/moss/internal/core/calendar"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// Request is what a person asks of a rotation.
type Request struct {
	OnFailure rotation.OnFailure     // when a step fails
	When      rotation.RestartPolicy // now when empty
	NotBefore time.Time              // of the window
	NotAfter  time.Time
	// Assign names dependents that shall log on as the account with its
	// current value; none means that the credential itself changes everywhere.
	Assign []records.DependentID
	// Start also brings up what is down although it starts by itself.
	Start bool
	// Patience is how long a system that is away is waited for before that
	// counts as a failure; 0 for the usual time.
	Patience time.Duration
	// NoAcceptors says why service principal names whose key tab was not found do not
	// matter; "" where that keeps a rehearsal from passing.
	NoAcceptors string
	// StopFirst stops what would go on with the old value before the change, and starts it
	// with the new one: where wrong passwords lock the account.
	StopFirst bool
	// Window is that of the policy which asks: the credential is changed in it, and what has
	// no window of its own is restarted in it. "" for that of a label of the account.
	Window string
	// AnyTime has no window count.
	AnyTime     bool
	AtWindowEnd rotation.WindowEnd // pause when empty
	FirstAlone  bool               // one dependent is changed and proven before all others
	Way         string             // see policies.WayOverlap; any when empty
	// Length is of a new password, 0 for the usual one; Without are characters that it must
	// not have.
	Length  int
	Without string
	// Type is of the new value, where a kind of credential has types; "" for that of
	// the old one.
	Type string
	// Lasts is how long a new key is good that an issuer is given; 0 for as long as the one
	// before it, and below 0 for without end.
	Lasts time.Duration
	// Authority is the system that issues a new certificate, by name or number; "" for the one
	// that issued the one before, or the only one.
	Authority string
	// NoReload restarts also what could read its files again while it runs.
	NoReload bool
	// Given is the fingerprint of a new password that a person gave and that is sealed
	// already, and GivenBy that person; "" when one is made.
	Given   string
	GivenBy string
}

const (
	longestPatience = 30 * 24 * time.Hour
	longestLife     = 20 * 365 * 24 * time.Hour
)

// For is what it asks of one among many credentials of different kinds: what it says of
// passwords is said of no key.
func (w Request) For(kind credential.Kind) Request {
	if kind != credential.Password {
		w.Length, w.Without = 0, ""
	}
	if kind != credential.CloudKey {
		w.Lasts = 0
	}
	if kind != credential.Certificate {
		w.Authority, w.NoReload = "", false
	}
	return w
}

// Check refuses what cannot be asked, and completes what was left out.
func (w *Request) Check(now time.Time) error {
	switch w.OnFailure {
	case rotation.StopOnFailure, rotation.ContinueOnFailure, rotation.UndoOnFailure:
	default:
		return fmt.Errorf("%w: on failure: stop, continue or undo, not %q", app.ErrInput, w.OnFailure)
	}
	if w.Patience < 0 || w.Patience > longestPatience {
		return fmt.Errorf("%w: a system that is away can be waited for up to %s before that counts as a failure, not %s", app.ErrInput, calendar.Spell(longestPatience), calendar.Spell(w.Patience))
	}
	if w.Lasts > 0 && w.Lasts < time.Hour || w.Lasts > longestLife {
		return fmt.Errorf("%w: a new key lasts from an hour to %s, or without end, not %s", app.ErrInput, calendar.Spell(longestLife), calendar.Spell(w.Lasts))
	}
	if w.When == "" {
		w.When = rotation.RestartNow
	}
	if w.Length != 0 && (w.Length < 12 || w.Length > 256) || len(w.Without) > 100 {
		return fmt.Errorf("%w: a password has 12 to 256 characters, and up to 100 are named that it must not have", app.ErrInput)
	}
	if w.Given != "" && (w.Length != 0 || w.Without != "" || w.Type != "" || len(w.Assign) > 0) {
		return fmt.Errorf("%w: a length, characters and a type are those of a value that is made, and a value is given", app.ErrInput)
	}
	switch w.AtWindowEnd {
	case "", rotation.EndPause, rotation.EndUndo:
	default:
		return fmt.Errorf("%w: at the end of its window it waits (pause) or is undone (undo), not %q", app.ErrInput, w.AtWindowEnd)
	}
	switch w.Way {
	case "", policies.WayAny, policies.WayReplace, policies.WayOverlap, policies.WayAlternate:
	default:
		return fmt.Errorf("%w: the way is any, replace, overlap or alternate, not %q", app.ErrInput, w.Way)
	}
	if w.StopFirst && (w.OnFailure != rotation.UndoOnFailure || w.When != rotation.RestartNow || len(w.Assign) > 0) {
		return fmt.Errorf("%w: what is stopped first must run again whatever happens: that needs undo on failure, restarts that are now, and a change of the credential itself", app.ErrInput)
	}
	return w.checkWhen(now)
}

// checkWhen refuses a time for restarts that cannot be.
func (w *Request) checkWhen(now time.Time) error {
	switch w.When {
	case rotation.RestartNow, rotation.RestartLeave:
		w.NotBefore, w.NotAfter = time.Time{}, time.Time{}
	case rotation.RestartWindow:
		if w.NotBefore.IsZero() || !w.NotAfter.After(w.NotBefore) {
			return fmt.Errorf("%w: a window needs a beginning and an end after it", app.ErrInput)
		}
		// In the form in which it comes back from the store.
		w.NotBefore, w.NotAfter = w.NotBefore.UTC().Truncate(time.Second), w.NotAfter.UTC().Truncate(time.Second)
		if now.After(w.NotAfter) {
			return fmt.Errorf("%w: the window ended at %s", app.ErrInput, w.NotAfter.UTC().Format(time.RFC3339))
		}
	default:
		return fmt.Errorf("%w: unknown time for restarts %q (now, window or leave)", app.ErrInput, w.When)
	}
	return nil
}
