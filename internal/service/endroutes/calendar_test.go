package endroutes

import (
	"strings"
	"testing"
	"time"

	other "github.com/emersion/go-ical"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/records"
)

// A parser that is not the writer's reads what the calendar says, whatever systems call things.
func TestAnotherParserReadsTheCalendar(t *testing.T) {
	now := time.Date(2026, 3, 29, 0, 30, 0, 0, time.UTC)
	at := now.Add(7*time.Hour + 30*time.Minute)
	row := func(id records.EndID, name string) records.EndRow {
		return records.EndRow{ID: id, What: expiry.Password, Name: name, System: "tide1", State: expiry.Ends, At: at, Dependents: int(id), Labels: []string{"ship:tern"}}
	}
	rows := []records.EndRow{
		row(1, "svc-berth"), row(2, `a;b,c\d "e"`), row(3, "æøå 船 "+strings.Repeat("long", 40)),
		row(4, "svc\r\nEND:VEVENT\r\nBEGIN:VEVENT\r\nUID:forged"), row(5, "svc\nATTACH:https://stranger.example/"), row(6, "bell\a and \x00 null"),
		{ID: -7, What: expiry.Key, Name: "timetable", System: "quay1", State: expiry.Ends, At: at, Place: "/home/t/.ssh/authorized_keys#1"},
		{ID: 1 << 51, What: expiry.Membership, Name: "svc-tide", System: "dir", State: expiry.Ends, At: at, Place: "Night, crew"},
		{ID: 1 << 50, What: expiry.Right, Name: "svc-tide", System: "tide1", State: expiry.Ends, At: at, Place: "run /usr/bin/id"},
		{ID: 8, What: expiry.Account, Name: "svc-never", State: expiry.Never},
		{ID: 9, What: expiry.Password, Name: "svc-must", State: expiry.Ended},
	}
	text := calendarOf(rows, now)
	for line := range strings.SplitSeq(text, "\r\n") {
		assert.LessOrEqual(t, len(line), 75, "RFC 5545, section 3.1: %q", line)
		assert.NotContains(t, line, "\n", "%q", line)
		assert.NotContains(t, line, "\r", "%q", line)
	}
	calendar, err := other.NewDecoder(strings.NewReader(text)).Decode()
	require.NoError(t, err)
	events := calendar.Events()
	require.Len(t, events, 9, "what has no moment is none, and no name makes one")
	seen := map[string]bool{}
	for i, e := range events {
		start, err := e.DateTimeStart(time.UTC)
		require.NoError(t, err)
		assert.True(t, start.Equal(at))
		assert.Nil(t, e.Props.Get("DTEND"), "one that has the moment of its beginning is not allowed")
		assert.Empty(t, e.Props.Values("ATTACH"))
		id, err := e.Props.Text("UID")
		require.NoError(t, err)
		assert.False(t, seen[id], "each has its own: %s", id)
		seen[id] = true
		summary, err := e.Props.Text("SUMMARY")
		require.NoError(t, err)
		if i < 3 {
			assert.Equal(t, "Password of "+rows[i].Name+" on tide1 ends", summary)
		}
	}
	place, err := events[6].Props.Text("DESCRIPTION")
	require.NoError(t, err)
	assert.Equal(t, "It stands in /home/t/.ssh/authorized_keys#1.", place)
	for i, want := range map[int]string{7: "It lies in the group Night, crew until then.", 8: "It may until then: run /usr/bin/id"} {
		said, err := events[i].Props.Text("DESCRIPTION")
		require.NoError(t, err)
		assert.Equal(t, want, said)
	}
	assert.NotContains(t, text, "\x00")
	assert.NotContains(t, text, "\a")
}
