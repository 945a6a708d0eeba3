package expiry

import (
	"fmt"
	"time"
)

// Remedy is how something that has outlived its purpose is ended safely.
type Remedy string

// Remedies, the one that ends most first.
const (
	RemedyDelete  Remedy = "delete"  // disabled, watched for a time, then deleted
	RemedyDisable Remedy = "disable" // its system does not delete it, or not from here
	RemedyRotate  Remedy = "rotate"  // it is needed, and its value is old
	RemedyLook    Remedy = "look"    // something depends on it: a person looks first
)

// Remedies lists them.
func Remedies() []string {
	return []string{string(RemedyDelete), string(RemedyDisable), string(RemedyRotate), string(RemedyLook)}
}

// Around is what surrounds a thing that proves an account.
type Around struct {
	Dependents int    // that use it, as far as is known
	OwnerGone  string // who answers for it and is not there any more, or disabled; "" for nobody
	Delete     bool   // its system deletes such things from here
	Disable    bool
}

// Outlived is how much something has outlived its purpose.
type Outlived struct {
	Points  int // 0 to 100
	Reasons []string
	Remedy  Remedy
}

// Points of the reasons. What nobody can use any more comes first: ending it for good breaks
// nothing. Then what nobody uses, the longer the more; what is merely old comes last.
const (
	pointsEnded    = 40
	pointsDisabled = 35
	pointsIdle     = 20 // and as many more for each time over again, up to pointsLong
	pointsLong     = 40
	pointsOwner    = 20
	pointsOld      = 10
	pointsAlone    = 15 // nothing depends on it
)

// Judge says how much something has outlived its purpose; no points for not at all. That
// nothing depends on it is no reason by itself: not everything is seen.
func (l Life) Judge(now time.Time, b Bounds, a Around) Outlived {
	out := Outlived{Reasons: l.Outlives(now, b)}
	if a.OwnerGone != "" {
		out.Points += pointsOwner
		out.Reasons = append(out.Reasons, "its owner "+a.OwnerGone+" is gone or disabled")
	}
	if len(out.Reasons) == 0 {
		return Outlived{}
	}
	idle, age := b.orUsual()
	old := false
	if l.End.Past(now) {
		out.Points += pointsEnded
	}
	if !l.Enabled {
		out.Points += pointsDisabled
	}
	if unused := now.Sub(l.Used); !l.Used.IsZero() && unused > idle {
		out.Points += min(pointsIdle*int(unused/idle), pointsLong)
	}
	if changed := l.changed(); !changed.IsZero() && now.Sub(changed) > age {
		out.Points += pointsOld
		old = true
	}
	only := old && out.Points == pointsOld
	switch {
	case only:
		out.Remedy = RemedyRotate
	case a.Dependents > 0:
		out.Remedy = RemedyLook
		out.Reasons = append(out.Reasons, fmt.Sprintf("%d depend on it still", a.Dependents))
	case a.Delete:
		out.Remedy = RemedyDelete
	case a.Disable && l.Enabled:
		out.Remedy = RemedyDisable
	default:
		out.Remedy = RemedyLook
	}
	if a.Dependents == 0 && !only {
		out.Points += pointsAlone
		out.Reasons = append(out.Reasons, "nothing is known that depends on it")
	}
	out.Points = min(out.Points, 100)
	return out
}
