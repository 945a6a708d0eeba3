package expiry

import (
	"math/rand/v2"
	"testing"
	"time"
	_ "time/tzdata" // wherever the tests run

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func zone(t testing.TB, name string) *time.Location {
	t.Helper()
	z, err := time.LoadLocation(name)
	require.NoError(t, err)
	return z
}

func TestParse(t *testing.T) {
	now := time.Date(2026, 3, 27, 12, 30, 0, 0, time.UTC)
	utc := func(text string) End {
		at, err := time.Parse(time.RFC3339, text)
		require.NoError(t, err)
		return End{State: Ends, At: at.UTC()}
	}
	never := End{State: Never}
	for _, c := range []struct {
		text, zone string
		want       End
	}{
		{"never", "UTC", never},
		{" NEVER ", "Europe/Oslo", never},
		{"2026-12-24", "UTC", utc("2026-12-25T00:00:00Z")},
		{"2026-12-24", "Europe/Oslo", utc("2026-12-24T23:00:00Z")},
		{"2026-12-24", "Asia/Kathmandu", utc("2026-12-24T18:15:00Z")}, // five hours and three quarters
		{"2026-12-24", "Australia/Lord_Howe", utc("2026-12-24T13:00:00Z")},
		{"2026-12-31", "Pacific/Kiritimati", utc("2026-12-31T10:00:00Z")},
		{"2028-02-29", "UTC", utc("2028-03-01T00:00:00Z")},
		{"2026-03-29", "Europe/Oslo", utc("2026-03-29T22:00:00Z")}, // 23 hours long
		{"2026-12-24T15:00:00+05:30", "Europe/Oslo", utc("2026-12-24T09:30:00Z")},
		{"2026-12-24T15:00:00.999Z", "UTC", utc("2026-12-24T15:00:00Z")},
		{"2026-12-24 15:00", "Asia/Kolkata", utc("2026-12-24T09:30:00Z")},
		{"2026-12-24T15:00:30", "America/St_Johns", utc("2026-12-24T18:30:30Z")},
		{"36h", "Europe/Oslo", utc("2026-03-29T00:30:00Z")},
		{"2d", "UTC", utc("2026-03-29T12:30:00Z")},
		{"2d", "Europe/Oslo", utc("2026-03-29T11:30:00Z")}, // the same time of the day, by clocks that were put forward
		{"1w", "Europe/Oslo", utc("2026-04-03T11:30:00Z")},
		{"9999-12-31", "UTC", never},
		{"9999-12-31T23:59:59Z", "UTC", never},
		{"2200-01-01T00:00:00Z", "UTC", never},
		{"2199-12-30", "UTC", utc("2199-12-31T00:00:00Z")},
		// Midnight itself is left out, or comes after an hour that was there twice.
		{"2026-04-23", "Africa/Cairo", utc("2026-04-23T22:00:00Z")},
		{"2026-09-05", "America/Santiago", utc("2026-09-06T04:00:00Z")},
		{"2027-04-03", "America/Santiago", utc("2027-04-04T04:00:00Z")},
		{"2026-10-29", "Africa/Cairo", utc("2026-10-29T22:00:00Z")},
	} {
		got, err := Parse(c.text, zone(t, c.zone), now)
		require.NoError(t, err, "%s in %s", c.text, c.zone)
		assert.Equal(t, c.want, got, "%s in %s", c.text, c.zone)
	}
	for text, words := range map[string]string{
		"": "write never", "soon": "write never", "2026-02-30": "write never", "2026-13-01": "write never", "24.12.2026": "write never", "-5d": "write never", "1.5d": "write never", "123456d": "write never", "2026-12-24 25:00": "write never",
		"0d": "'expire' ends it now", "2026-03-26": "has passed", "2026-03-27T12:30:00Z": "has passed", "1969-12-31T23:59:59Z": "has passed", "0001-01-01": "has passed",
		"2026-03-29 02:30": "put forward over it", "2026-10-25 02:30": "show that twice",
	} {
		_, err := Parse(text, zone(t, "Europe/Oslo"), now)
		require.ErrorIs(t, err, ErrEnd, text)
		assert.ErrorContains(t, err, words, text)
	}
	_, err := Parse("2026-10-04 02:15", zone(t, "Australia/Lord_Howe"), now)
	require.ErrorContains(t, err, "put forward over it", "by half an hour")
	_, err = Parse("2027-04-04 01:45", zone(t, "Australia/Lord_Howe"), now)
	require.ErrorContains(t, err, "twice")
}

// What clocks show is held against all moments around, one by one; the end of a day is where
// the next one begins.
func TestParseInAllZones(t *testing.T) {
	now := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	r := rand.New(rand.NewPCG(16, 3))
	zones := []string{"Europe/Oslo", "America/New_York", "America/Santiago", "America/Asuncion", "Africa/Cairo", "Africa/Casablanca", "Asia/Beirut", "Asia/Kathmandu", "Asia/Tehran", "Australia/Lord_Howe", "Pacific/Chatham", "Pacific/Apia", "Antarctica/Troll", "America/Scoresbysund", "UTC"}
	for range 1500 {
		z := zone(t, zones[r.IntN(len(zones))])
		shown := now.Add(time.Duration(r.IntN(2*365*24*60)) * time.Minute)
		if r.IntN(2) == 0 { // near a change of clocks, where there is one
			if _, change := shown.In(z).ZoneBounds(); !change.IsZero() && change.Year() < 2030 {
				local := change.In(z).Add(time.Duration(r.IntN(360)-180) * time.Minute)
				shown = time.Date(local.Year(), local.Month(), local.Day(), local.Hour(), local.Minute(), 0, 0, time.UTC)
			}
		}
		const minute = "2006-01-02 15:04"
		text := shown.Format(minute)
		var moments []time.Time
		for at := shown.Add(-27 * time.Hour); at.Before(shown.Add(27 * time.Hour)); at = at.Add(time.Minute) {
			if at.In(z).Format(minute) == text {
				moments = append(moments, at)
			}
		}
		got, err := Parse(text, z, now.AddDate(0, 0, -2))
		if len(moments) == 1 {
			require.NoError(t, err, "%s in %s", text, z)
			assert.True(t, got.At.Equal(moments[0]), "%s in %s: %s", text, z, got)
		} else {
			assert.Error(t, err, "%s in %s is %d moments", text, z, len(moments))
		}
		day := shown.Format(time.DateOnly)
		got, err = Parse(day, z, now.AddDate(0, 0, -2))
		require.NoError(t, err)
		assert.Equal(t, day, got.At.Add(-time.Second).In(z).Format(time.DateOnly), "%s in %s: %s", day, z, got)
		assert.Equal(t, shown.AddDate(0, 0, 1).Format(time.DateOnly), got.At.In(z).Format(time.DateOnly), "%s in %s: %s", day, z, got)
	}
}

func FuzzParse(f *testing.F) {
	for _, text := range []string{"never", "90d", "2026-12-24", "2026-12-24T15:00:00+01:00", "2026-10-25 02:30", "99999w", "9999-12-31"} {
		f.Add(text, int64(1774614600))
	}
	oslo := zone(f, "Europe/Oslo")
	f.Fuzz(func(t *testing.T, text string, seconds int64) {
		now := time.Unix(seconds%(1<<32), 0)
		end, err := Parse(text, oslo, now)
		if err != nil {
			assert.ErrorIs(t, err, ErrEnd)
			return
		}
		assert.False(t, end.Past(now), "%q at %s: %s", text, now, end)
		assert.Contains(t, []State{Ends, Never}, end.State)
		assert.Equal(t, end.State == Ends, !end.At.IsZero())
	})
}
