package expiry

import (
	"cmp"
	"fmt"
	"time"
)

// Life is what is known of one thing that proves an account, from its beginning to its end.
// A zero time is not known.
type Life struct {
	Born    time.Time // when it was made: a key begins, a password was set first
	Seen    time.Time // first seen by us
	Used    time.Time // last signed in with, as far as that is told
	Changed time.Time // its value
	End     End
	Enabled bool // its account, and it itself, are accepted as far as is known
}

// Bounds are what a policy says of lives; 0 for nothing.
type Bounds struct {
	MaxAge, Idle time.Duration
}

// usualIdle and usualAge count where no policy says otherwise.
const (
	usualIdle = 90 * Day
	usualAge  = 365 * Day
)

func (b Bounds) orUsual() (idle, age time.Duration) {
	return cmp.Or(b.Idle, usualIdle), cmp.Or(b.MaxAge, usualAge)
}

// changed is since when its value is what it is.
func (l Life) changed() time.Time {
	if l.Changed.IsZero() {
		return l.Born
	}
	return l.Changed
}

// Outlives says why a thing has outlived its purpose, or may have; nil for not. What is not
// known is no reason.
func (l Life) Outlives(now time.Time, b Bounds) (reasons []string) {
	idle, age := b.orUsual()
	days := func(since time.Time) int { return int(now.Sub(since) / Day) }
	if !l.Used.IsZero() && now.Sub(l.Used) > idle {
		reasons = append(reasons, fmt.Sprintf("not used for %d days", days(l.Used)))
	}
	if !l.Enabled {
		reasons = append(reasons, "it is disabled")
	}
	if changed := l.changed(); !changed.IsZero() && now.Sub(changed) > age {
		reasons = append(reasons, fmt.Sprintf("not changed for %d days", days(changed)))
	}
	if l.End.Past(now) {
		reasons = append(reasons, "it has ended")
	}
	return reasons
}
