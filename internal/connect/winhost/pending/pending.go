// Package pending says how long a service of a windows host is waited for that is on its way from
// one state to another.
package pending

import (
	"time"

	"mossledger.example/moss/internal/connect/wsman"
)

// SettleTime is how long a service is waited for that tells nothing.
const SettleTime = 45 * time.Second

const longest = 10 * time.Minute // that a hint is believed

// Patience is how long a state that is pending is waited for: as long as the service
// says that it gets on, by a checkpoint that rises within the time that it gave as its
// hint (MS-SCMR, section 2.2.47), and never less than SettleTime.
type Patience struct {
	point int64
	moved time.Time
	hint  time.Duration
}

// Over reports whether it has been waited for long enough.
func (p *Patience) Over(i *wsman.Node, now time.Time) bool {
	if point := i.Int("CheckPoint"); p.moved.IsZero() || point > p.point {
		p.point, p.moved = point, now
	}
	if hint := i.Int("WaitHint"); hint > 0 {
		p.hint = min(time.Duration(hint)*time.Millisecond, longest)
	}
	return now.Sub(p.moved) > p.Time()
}

// Time is for how long it is waited without any progress.
func (p *Patience) Time() time.Duration { return max(SettleTime, p.hint) }
