package expiry

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// ErrEnd is wrapped by errors about a text that is no end that can be set.
var ErrEnd = errors.New("no end that can be set")

// Forms says how an end may be written.
const Forms = "never, 2026-12-24 (the end of that day), 2026-12-24T15:00:00+01:00, '2026-12-24 15:00', or from now: 36h, 90d, 2w"

var fromNow = regexp.MustCompile(`^(\d{1,5})([hdw])$`)

// Parse reads an end as a person writes it. A date alone is its last moment, in the zone; days
// and weeks from now are days of the zone's calendar, so that they are an hour longer or
// shorter over a change of clocks. A time that a change of clocks leaves out or has twice is
// not guessed.
func Parse(text string, zone *time.Location, now time.Time) (End, error) {
	text = strings.TrimSpace(text)
	if strings.EqualFold(text, "never") {
		return End{State: Never}, nil
	}
	if m := fromNow.FindStringSubmatch(text); m != nil {
		n, err := strconv.Atoi(m[1])
		if err != nil || n == 0 {
			return End{}, fmt.Errorf("%w: %q: 'expire' ends it now", ErrEnd, text)
		}
		switch m[2] {
		case "h":
			return coming(text, now.Add(time.Duration(n)*time.Hour), now)
		case "w":
			n *= 7
		}
		return coming(text, now.In(zone).AddDate(0, 0, n), now)
	}
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return coming(text, at, now)
	}
	if day, err := time.Parse(time.DateOnly, text); err == nil {
		return coming(text, nextDay(day, zone), now)
	}
	for _, form := range []string{"2006-01-02 15:04", "2006-01-02T15:04", "2006-01-02 15:04:05", "2006-01-02T15:04:05"} {
		if at, err := time.Parse(form, text); err == nil {
			local, err := inZone(at, zone)
			if err != nil {
				return End{}, fmt.Errorf("%w: %q: %w", ErrEnd, text, err)
			}
			return coming(text, local, now)
		}
	}
	return End{}, fmt.Errorf("%w: %q: write %s", ErrEnd, text, Forms)
}

// nextDay is when the day after one begins: at midnight, or where clocks are put forward over
// that, at the moment when they are.
func nextDay(day time.Time, zone *time.Location) time.Time {
	at := time.Date(day.Year(), day.Month(), day.Day()+1, 0, 0, 0, 0, zone)
	if _, change := at.ZoneBounds(); at.Day() == day.Day() && !change.IsZero() {
		return change
	}
	return at
}

func coming(text string, at, now time.Time) (End, error) {
	if !at.After(now) {
		return End{}, fmt.Errorf("%w: %q is %s, which has passed: 'expire' ends it now", ErrEnd, text, at.UTC().Format(time.RFC3339))
	}
	return At(at), nil
}

// inZone is the moment that clocks of a zone show so. It is an error when they never do, or
// twice.
func inZone(shown time.Time, zone *time.Location) (time.Time, error) {
	clock := func(t time.Time) string { return t.Format("2006-01-02 15:04:05") }
	var found []time.Time
	// Whatever the zone's offset is around then: no zone is changed by more than a day.
	guess := time.Date(shown.Year(), shown.Month(), shown.Day(), shown.Hour(), shown.Minute(), shown.Second(), 0, time.UTC)
	seen := map[int]bool{}
	for hours := -26; hours <= 26; hours++ {
		_, offset := guess.Add(time.Duration(hours) * time.Hour).In(zone).Zone()
		if seen[offset] {
			continue
		}
		seen[offset] = true
		if at := guess.Add(-time.Duration(offset) * time.Second).In(zone); clock(at) == clock(shown) {
			found = append(found, at)
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return time.Time{}, fmt.Errorf("clocks in %s do not show that: they are put forward over it. Give the offset, as in +02:00", zone)
	}
	return time.Time{}, fmt.Errorf("clocks in %s show that twice: they are put back over it. Give the offset, as in +02:00", zone)
}
