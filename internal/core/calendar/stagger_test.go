package calendar

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func window(t testing.TB, rule, begins, zoneName string, lasts time.Duration) *Window {
	t.Helper()
	w, err := NewWindow(rule, begins, zone(t, zoneName), lasts)
	require.NoError(t, err)
	return &w
}

// A night in which the clocks change is open as long as any other, by the time that
// passes.
func TestSlotsOverBothChanges(t *testing.T) {
	w := window(t, "FREQ=DAILY", "2026-01-01T23:00", "Europe/Oslo", 4*time.Hour)
	for day, utc := range map[string]string{
		"2026-03-27": "2026-03-27T22:00:00Z 2026-03-28T02:00:00Z", // the usual one
		"2026-03-28": "2026-03-28T22:00:00Z 2026-03-29T02:00:00Z", // the clocks go forward in it
		"2026-03-29": "2026-03-29T21:00:00Z 2026-03-30T01:00:00Z",
		"2026-10-24": "2026-10-24T21:00:00Z 2026-10-25T01:00:00Z", // and back
		"2026-10-25": "2026-10-25T22:00:00Z 2026-10-26T02:00:00Z",
	} {
		noon, err := time.Parse(time.DateOnly, day)
		require.NoError(t, err)
		slots := w.Slots(noon.Add(12*time.Hour), noon.Add(30*time.Hour), 10)
		require.Len(t, slots, 1, day)
		assert.Equal(t, utc, slots[0].From.UTC().Format(time.RFC3339)+" "+slots[0].To.UTC().Format(time.RFC3339), day)
	}
	slots := w.Slots(time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC), time.Date(2026, 6, 1, 0, 1, 0, 0, time.UTC), 10)
	require.Len(t, slots, 1, "one that is open already counts")
	assert.True(t, slots[0].Open(slots[0].From))
	assert.False(t, slots[0].Open(slots[0].To))
	_, found := OpenIn(slots, slots[0].To)
	assert.False(t, found)
	next, found := OpenIn(slots, slots[0].From.Add(-time.Hour))
	assert.True(t, found)
	assert.Equal(t, slots[0], next)
	for _, lasts := range []time.Duration{0, time.Minute, 8 * 24 * time.Hour} {
		_, err := NewWindow("FREQ=DAILY", "2026-01-01T23:00", time.UTC, lasts)
		require.ErrorIs(t, err, ErrRule)
	}
}

// Everybody has a turn as often as asked, never later, always by the same distance; and
// no opening has more than twice the mean.
func TestTurnsComeOftenEnoughAndSpread(t *testing.T) {
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	until := now.AddDate(1, 0, 0)
	const many = 4000
	for name, c := range map[string]struct {
		w     *Window
		days  int
		cycle int
	}{
		"each day":             {nil, 30, 30},
		"every night":          {window(t, "FREQ=DAILY", "2026-01-01T22:00", "Europe/Oslo", 4*time.Hour), 90, 90},
		"on working days":      {window(t, "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR", "2026-01-01T22:00", "Europe/Oslo", 4*time.Hour), 30, 20},
		"on Saturdays":         {window(t, "FREQ=WEEKLY;BYDAY=SA", "2026-01-03T02:30", "America/Santiago", 4*time.Hour), 60, 8},
		"twice a month":        {window(t, "FREQ=MONTHLY;BYDAY=1SU,3SU", "2026-01-01T02:00", "Australia/Lord_Howe", 2*time.Hour), 90, 5},
		"every three hours":    {window(t, "FREQ=HOURLY;INTERVAL=3", "2026-01-01T00:00", "UTC", time.Hour), 30, 240},
		"once, and never then": {window(t, "FREQ=DAILY;COUNT=1", "2026-01-01T00:00", "UTC", time.Hour), 30, 1},
	} {
		every := time.Duration(c.days) * 24 * time.Hour
		s, err := NewStagger(c.w, every, until)
		require.NoError(t, err)
		require.Equal(t, c.cycle, s.Cycle(), name)
		if name == "once, and never then" {
			next, since := s.Due("x", now, now)
			assert.Zero(t, next)
			assert.Zero(t, since)
			continue
		}
		assert.False(t, s.Rarely(), name)
		load := map[time.Time]int{}
		for i := range many {
			who := fmt.Sprint("credential/", i)
			turns := s.Turns(who, now, until)
			require.NotEmpty(t, turns, name)
			last := now
			for _, turn := range turns {
				require.LessOrEqual(t, turn.From.Sub(last), every+clocks, "%s: %s", name, who)
				last = turn.From
				load[turn.From]++
			}
			next, since := s.Due(who, now, now)
			require.Equal(t, turns[0], next)
			require.Zero(t, since)
			_, since = s.Due(who, now, turns[0].From)
			require.Equal(t, turns[0].From, since, "it is due once its turn has come")
			next, since = s.Due(who, turns[0].From.Add(time.Minute), turns[0].From.Add(time.Hour))
			require.Zero(t, since, "it was done in its turn")
			require.Equal(t, turns[1], next)
		}
		// The first cycle and every other: about as many in each.
		mean := float64(many) / float64(c.cycle)
		for at, n := range load {
			assert.Less(t, float64(n), 2*mean+1, "%s: %s", name, at)
		}
	}
}

// Turns stay where they are as time passes: what is looked at from another day on shows
// the same ones.
func TestTurnsDoNotMove(t *testing.T) {
	w := window(t, "FREQ=WEEKLY;BYDAY=MO,WE,FR", "2024-01-01T22:00", "America/New_York", 4*time.Hour)
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	early, err := NewStagger(w, 45*24*time.Hour, now.AddDate(1, 0, 0))
	require.NoError(t, err)
	later, err := NewStagger(w, 45*24*time.Hour, now.AddDate(3, 0, 0))
	require.NoError(t, err)
	for i := range 300 {
		who := fmt.Sprint(i)
		require.Equal(t, early.Turns(who, now, now.AddDate(1, 0, 0)), later.Turns(who, now, now.AddDate(1, 0, 0)))
	}
}

func TestRarelyOpen(t *testing.T) {
	w := window(t, "FREQ=MONTHLY;BYMONTHDAY=1", "2026-01-01T22:00", "UTC", 4*time.Hour)
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	s, err := NewStagger(w, 20*24*time.Hour, now.AddDate(1, 0, 0))
	require.NoError(t, err)
	assert.True(t, s.Rarely())
	assert.Len(t, s.Turns("a", now, now.AddDate(1, 0, 0)), 12, "each time that it opens")
	_, err = NewStagger(window(t, "FREQ=HOURLY", "2016-01-01T22:00", "UTC", time.Hour), 20*24*time.Hour, now)
	require.ErrorContains(t, err, "let it begin later")
}

// A recurrence says when; the next openings share those whose turn it is.
func TestTurnsAfterARecurrence(t *testing.T) {
	nights := window(t, "FREQ=DAILY", "2026-01-01T22:00", "Europe/Oslo", 4*time.Hour)
	first, err := NewRecurrence("FREQ=MONTHLY;BYDAY=1SU", "2026-01-01T00:00", zone(t, "Europe/Oslo"))
	require.NoError(t, err)
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	until := now.AddDate(0, 2, 0)
	s, err := NewRecurringStagger(nights, first, 1, until)
	require.NoError(t, err)
	turns := s.Turns("any", now, until)
	require.Len(t, turns, 2)
	assert.Equal(t, "2026-12-05T21:00:00Z", turns[0].From.UTC().Format(time.RFC3339), "open at the stroke of Sunday")
	spread, err := NewRecurringStagger(nights, first, 7, until)
	require.NoError(t, err)
	nightsOf := map[time.Time]int{}
	for i := range 700 {
		turn := spread.Turns(fmt.Sprint(i), now, now.AddDate(0, 0, 30))
		require.Len(t, turn, 1)
		nightsOf[turn[0].From]++
	}
	assert.Len(t, nightsOf, 7)
	for at, n := range nightsOf {
		assert.InDelta(t, 100, n, 40, at)
	}
	none, err := NewRecurringStagger(window(t, "FREQ=DAILY;COUNT=1", "2026-01-01T22:00", "UTC", time.Hour), first, 3, until)
	require.NoError(t, err)
	assert.Empty(t, none.Turns("any", now, until))
}
