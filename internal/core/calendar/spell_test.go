package calendar_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/core/calendar"
)

func TestSpell(t *testing.T) {
	for d, want := range map[time.Duration]string{
		30 * time.Minute: "30 minutes", time.Second: "1 second", 72 * time.Hour: "3 days", 25*time.Hour + time.Minute + 2*time.Second: "1 day 1 hour 1 minute 2 seconds",
		1500 * time.Millisecond: "1 second", 20 * time.Millisecond: "20ms", -time.Minute: "-1m0s", 0: "0s",
	} {
		assert.Equal(t, want, calendar.Spell(d))
	}
}
