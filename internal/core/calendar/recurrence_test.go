package calendar

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"strings"
	"testing"
	"time"
	_ "time/tzdata" // a machine may have no zones

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func zone(t testing.TB, name string) *time.Location {
	t.Helper()
	z, err := time.LoadLocation(name)
	require.NoError(t, err)
	return z
}

// Ten years in six zones, over all changes of their clocks: what another reader of the
// standard says (testdata/occurrences.py).
func TestOccurrencesAreThoseOfAnotherReader(t *testing.T) {
	raw, err := os.ReadFile("testdata/occurrences.json")
	require.NoError(t, err)
	var cases []struct {
		Zone, Rule, Begins, Digest string
		Count                      int
		NearChanges                []string `json:"near_changes"`
	}
	require.NoError(t, json.Unmarshal(raw, &cases))
	require.Len(t, cases, 6*13)
	from, to := time.Date(2014, 12, 1, 0, 0, 0, 0, time.UTC), time.Date(2024, 12, 31, 0, 0, 0, 0, time.UTC)
	for _, c := range cases {
		r, err := NewRecurrence(c.Rule, c.Begins, zone(t, c.Zone))
		require.NoError(t, err, c.Rule)
		var lines []string
		for _, at := range r.Between(from, to, mostOccurrences) {
			lines = append(lines, at.UTC().Format(time.RFC3339))
		}
		assert.Len(t, lines, c.Count, "%s %s", c.Zone, c.Rule)
		for _, line := range c.NearChanges {
			assert.Contains(t, lines, line, "%s %s", c.Zone, c.Rule)
		}
		sum := sha256.Sum256([]byte(strings.Join(lines, "\n")))
		assert.Equal(t, c.Digest, hex.EncodeToString(sum[:]), "%s %s", c.Zone, c.Rule)

		again, err := NewRecurrence(r.String(), r.Begins(), r.Zone())
		require.NoError(t, err, r.String())
		assert.Equal(t, r.Between(from, to, 100), again.Between(from, to, 100), "as it is written: %s", r)
		// Looked at in parts, it is the same.
		middle := time.Date(2019, 3, 31, 1, 30, 0, 0, time.UTC)
		parts := append(r.Between(from, middle, mostOccurrences), r.Between(middle, to, mostOccurrences)...)
		assert.Len(t, parts, c.Count, "%s %s", c.Zone, c.Rule)
	}
}

func TestRulesThatCannotBeUsed(t *testing.T) {
	oslo := zone(t, "Europe/Oslo")
	for rule, words := range map[string]string{
		"":                                    "write one rule",
		"DAILY":                               "is not a part of a rule",
		"INTERVAL=2":                          "it needs FREQ",
		"FREQ=DAILY;FREQ=WEEKLY":              "says FREQ twice",
		"FREQ=SECONDLY":                       "more often than every hour",
		"FREQ=MINUTELY;INTERVAL=90":           "more often than every hour",
		"FREQ=HOURLY;BYMINUTE=0,30":           "several times in an hour",
		"FREQ=DAILY;BYSECOND=1":               "is not one of",
		"FREQ=DAILY;BYEASTER=0":               "is not one of",
		"FREQ=NEVER":                          "FREQ",
		"FREQ=DAILY;INTERVAL=-1":              "INTERVAL",
		"FREQ=DAILY;INTERVAL=0":               "INTERVAL",
		"FREQ=DAILY;COUNT=0":                  "COUNT",
		"FREQ=DAILY;BYHOUR=25":                "byhour",
		"FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30": "never comes true",
		"FREQ=DAILY;UNTIL=20200101T000000Z":   "never comes true",
		"FREQ=DAILY;UNTIL=20301231T230000":    "UNTIL is a time in UTC",
		"FREQ=DAILY\nDTSTART:20200101":        "write one rule",
	} {
		_, err := NewRecurrence(rule, "2026-01-01T02:30", oslo)
		require.ErrorIs(t, err, ErrRule, rule)
		assert.Contains(t, strings.ToLower(err.Error()), strings.ToLower(words), rule)
	}
	_, err := NewRecurrence("FREQ=DAILY", "tomorrow", oslo)
	require.ErrorContains(t, err, "2026-11-28T22:00")
	_, err = NewRecurrence("FREQ=DAILY", "2026-01-01T02:30", nil)
	require.ErrorIs(t, err, ErrRule)
	assert.Empty(t, Recurrence{}.Between(time.Time{}, time.Now(), 10))
	r, err := NewRecurrence(" rrule:freq=weekly;byday=sa ", "2026-01-01T02:30", oslo)
	require.NoError(t, err)
	assert.Equal(t, "FREQ=WEEKLY;BYDAY=SA", r.String())
}

// Whatever is written as a rule ends in an error or in times that are in order, in the
// span that was asked for.
func FuzzRecurrence(f *testing.F) {
	for _, s := range []string{"FREQ=DAILY", "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=29", "FREQ=MONTHLY;BYDAY=MO,TU;BYSETPOS=-1,2", "FREQ=HOURLY;INTERVAL=7;UNTIL=20270101T000000Z", "FREQ=WEEKLY;BYWEEKNO=53;COUNT=3"} {
		f.Add(s, "2026-03-29T02:30")
	}
	oslo := zone(f, "Europe/Oslo")
	from := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	f.Fuzz(func(t *testing.T, rule, begins string) {
		r, err := NewRecurrence(rule, begins, oslo)
		if err != nil {
			require.ErrorIs(t, err, ErrRule)
			return
		}
		last := from.Add(-time.Nanosecond)
		for _, at := range r.Between(from, from.AddDate(3, 0, 0), 1000) {
			require.True(t, at.After(last) && at.Before(from.AddDate(3, 0, 0)))
			last = at
		}
	})
}
