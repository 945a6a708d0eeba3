package expiry

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestWhatOutlivesItsPurpose(t *testing.T) {
	now := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	ago := func(days int) time.Time { return now.AddDate(0, 0, -days) }
	for name, c := range map[string]struct {
		life   Life
		bounds Bounds
		want   []string
	}{
		"nothing is known":              {Life{Enabled: true}, Bounds{}, nil},
		"used and changed":              {Life{Enabled: true, Used: ago(1), Changed: ago(30), End: End{State: Never}}, Bounds{}, nil},
		"not used":                      {Life{Enabled: true, Used: ago(91), Changed: ago(30)}, Bounds{}, []string{"not used for 91 days"}},
		"not used, and may be":          {Life{Enabled: true, Used: ago(91), Changed: ago(30)}, Bounds{Idle: 120 * Day}, nil},
		"not used for what it may be":   {Life{Enabled: true, Used: ago(31)}, Bounds{Idle: 30 * Day}, []string{"not used for 31 days"}},
		"never changed since its birth": {Life{Enabled: true, Born: ago(400), Used: ago(1)}, Bounds{}, []string{"not changed for 400 days"}},
		"born long ago, and changed":    {Life{Enabled: true, Born: ago(4000), Changed: ago(10)}, Bounds{}, nil},
		"older than it may be":          {Life{Enabled: true, Changed: ago(91)}, Bounds{MaxAge: 90 * Day}, []string{"not changed for 91 days"}},
		"disabled and ended":            {Life{Used: ago(1), End: At(ago(1))}, Bounds{}, []string{"it is disabled", "it has ended"}},
		"exactly at its bound":          {Life{Enabled: true, Used: now.Add(-90 * Day)}, Bounds{}, nil},
		"used in the future":            {Life{Enabled: true, Used: now.Add(Day)}, Bounds{}, nil},
	} {
		assert.Equal(t, c.want, c.life.Outlives(now, c.bounds), name)
	}
}
