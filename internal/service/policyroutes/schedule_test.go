package policyroutes

import (
	"fmt"
	"strings"
	"testing"
	"time"

	other "github.com/emersion/go-ical"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app/policies"
	"mossledger.example/moss/internal/core/calendar"
)

// The schedule as a calendar is read by a parser that we did not write, whatever accounts
// and policies are called; lines are no longer than 75 octets (RFC 5545 section 3.1).
func TestCalendarIsReadByOthers(t *testing.T) {
	now := time.Date(2026, 11, 28, 21, 0, 0, 0, time.UTC)
	nasty := []string{`LARKMOOR\svc-berth`, "svc;x,y:z", "svc \"quoted\"", "süd-fähre-" + strings.Repeat("ø", 60), "two\nlines", "END:VEVENT", "tab\there", "\r\nBEGIN:VALARM\r\n"}
	var nights []policies.Night
	for i := range 50 {
		from := now.AddDate(0, 0, i).In(time.FixedZone("", 7200))
		nights = append(nights, policies.Night{Slot: calendar.Slot{From: from, To: from.Add(4 * time.Hour)}, Policy: "nightly", Count: len(nasty) + i, Credentials: nasty})
	}
	text := calendarOf(nights, now)
	for line := range strings.SplitSeq(text, "\r\n") {
		assert.LessOrEqual(t, len(line), 75, line)
		assert.NotContains(t, line, "\n")
		assert.NotContains(t, line, "\r", "some readers end a line there")
	}
	c, err := other.NewDecoder(strings.NewReader(text)).Decode()
	require.NoError(t, err)
	events := c.Events()
	require.Len(t, events, 50)
	seen := map[string]bool{}
	for i, e := range events {
		begins, err := e.DateTimeStart(time.UTC)
		require.NoError(t, err)
		ends, err := e.DateTimeEnd(time.UTC)
		require.NoError(t, err)
		assert.True(t, begins.Equal(nights[i].From) && ends.Equal(nights[i].To))
		uid, err := e.Props.Text(other.PropUID)
		require.NoError(t, err)
		assert.False(t, seen[uid], "each event is another one")
		seen[uid] = true
		words, err := e.Props.Text(other.PropDescription)
		require.NoError(t, err)
		for _, name := range []string{nasty[0], nasty[1], nasty[2], nasty[3], "tab here"} {
			assert.Contains(t, words, name)
		}
		if i > 0 {
			assert.Contains(t, words, fmt.Sprintf("and %d more", i))
		}
		assert.Empty(t, e.Children, "nothing was smuggled in")
	}
	// The same opening has the same number the next day: calendars change it, and add none.
	assert.Contains(t, calendarOf(nights[1:], now.AddDate(0, 0, 1)), firstUID(t, calendarOf(nights[1:2], now)))
	assert.Contains(t, calendarOf(nil, now), "END:VCALENDAR")
}

func firstUID(t *testing.T, text string) string {
	t.Helper()
	for line := range strings.SplitSeq(text, "\r\n") {
		if strings.HasPrefix(line, "UID:") {
			return line
		}
	}
	t.Fatal("no event")
	return ""
}

func TestSpanOfNights(t *testing.T) {
	now := time.Date(2026, 11, 28, 21, 0, 0, 0, time.UTC)
	from, until, err := nightsInput{}.span(now)
	require.NoError(t, err)
	assert.Equal(t, now, from)
	assert.Equal(t, now.AddDate(0, 0, 90), until)
	for _, in := range []nightsInput{{From: now, Until: now}, {From: now, Until: now.Add(-time.Hour)}, {Until: now.AddDate(2, 0, 0)}} {
		_, _, err := in.span(now)
		require.Error(t, err)
	}
}
