// Package calendar says when something that recurs is due.
//
// A recurrence is a rule of RFC 5545 (RRULE, section 3.3.10) with a beginning and a
// time zone. It counts by the clock on the wall: "every night at 22:00" is at 22:00
// before and after the clocks change. A time that does not exist, because the clocks
// go forward over it, is meant with the offset from before; one that exists twice is
// its first (section 3.3.5).
//
// A Window is open for some time from each occurrence on. Stagger spreads many over
// the openings of a window, so that each has its turn often enough and no night has
// them all.
//
// Nothing here reads a clock; zones are given.
package calendar

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/teambition/rrule-go"
)

// WallForm is how the beginning of a recurrence is written: a local time without a zone.
const WallForm = "2006-01-02T15:04"

// Recurrence is when something recurs. The zero one never does.
type Recurrence struct {
	option rrule.ROption // its times are those on the wall, kept as if they were UTC
	zone   *time.Location
}

// ErrRule is wrapped by errors about a rule that cannot be used.
var ErrRule = errors.New("not a recurrence")

// most occurrences that anything asks for at once, and the longest time looked over.
const (
	mostOccurrences = 50_000
	farthest        = 30 * 366 * 24 * time.Hour
)

// NewRecurrence reads a rule such as FREQ=WEEKLY;BYDAY=SA,SU. begins is its DTSTART
// in WallForm.
func NewRecurrence(rule, begins string, zone *time.Location) (Recurrence, error) {
	start, err := time.Parse(WallForm, begins)
	if err != nil {
		return Recurrence{}, fmt.Errorf("%w: its beginning %q is not written like 2026-11-28T22:00", ErrRule, begins)
	}
	if start.Year() < 1990 || start.Year() > 2200 {
		return Recurrence{}, fmt.Errorf("%w: it begins in the year %d", ErrRule, start.Year())
	}
	if zone == nil {
		return Recurrence{}, fmt.Errorf("%w: it has no time zone", ErrRule)
	}
	rule = strings.TrimPrefix(strings.ToUpper(strings.TrimSpace(rule)), "RRULE:")
	if strings.ContainsAny(rule, "\r\n") || rule == "" {
		return Recurrence{}, fmt.Errorf("%w: write one rule, such as FREQ=DAILY", ErrRule)
	}
	if err := checkParts(rule); err != nil {
		return Recurrence{}, err
	}
	option, err := rrule.StrToROption(rule)
	if err != nil {
		return Recurrence{}, fmt.Errorf("%w: %q: %w", ErrRule, rule, err)
	}
	option.Dtstart = start
	if !option.Until.IsZero() { // it is given in UTC
		option.Until = wallOf(option.Until, zone)
	}
	if _, err := rrule.NewRRule(*option); err != nil {
		return Recurrence{}, fmt.Errorf("%w: %q: %w", ErrRule, rule, err)
	}
	r := Recurrence{option: *option, zone: zone}
	first := r.Between(atWall(start, zone), atWall(start, zone).Add(8*366*24*time.Hour), 2)
	if len(first) == 0 {
		return Recurrence{}, fmt.Errorf("%w: %q never comes true within eight years of its beginning", ErrRule, rule)
	}
	return r, nil
}

// parts are what a rule may have, which are all of RFC 5545 but seconds and minutes of
// their own: nothing here is due by the second.
var parts = []string{"FREQ", "UNTIL", "COUNT", "INTERVAL", "BYHOUR", "BYMINUTE", "BYDAY", "BYMONTHDAY", "BYYEARDAY", "BYWEEKNO", "BYMONTH", "BYSETPOS", "WKST"}

func checkParts(rule string) error {
	seen := map[string]bool{}
	for part := range strings.SplitSeq(rule, ";") {
		name, value, found := strings.Cut(part, "=")
		switch {
		case !found || value == "":
			return fmt.Errorf("%w: %q is not a part of a rule: write NAME=VALUE, with ; between", ErrRule, part)
		case seen[name]:
			return fmt.Errorf("%w: it says %s twice", ErrRule, name)
		case !slices.Contains(parts, name):
			return fmt.Errorf("%w: %q is not one of %s", ErrRule, name, strings.Join(parts, ", "))
		case (name == "INTERVAL" || name == "COUNT") && strings.Trim(value, "0") == "":
			return fmt.Errorf("%w: %s is 1 or more", ErrRule, name)
		case name == "FREQ" && (value == "SECONDLY" || value == "MINUTELY"):
			return fmt.Errorf("%w: it is due more often than every hour", ErrRule)
		case name == "BYMINUTE" && strings.Contains(value, ","):
			return fmt.Errorf("%w: it is due several times in an hour", ErrRule)
		case name == "UNTIL" && !strings.HasSuffix(value, "Z") && strings.Contains(value, "T"):
			return fmt.Errorf("%w: UNTIL is a time in UTC where the rule has a time zone, like 20301231T230000Z (RFC 5545 section 3.3.10)", ErrRule)
		}
		seen[name] = true
	}
	if !seen["FREQ"] {
		return fmt.Errorf("%w: it needs FREQ=HOURLY, DAILY, WEEKLY, MONTHLY or YEARLY", ErrRule)
	}
	return nil
}

// String is the rule in RFC 5545's form.
func (r Recurrence) String() string {
	option := r.option
	if !option.Until.IsZero() {
		option.Until = atWall(option.Until, r.zone).UTC()
	}
	return option.RRuleString()
}

// Begins is the beginning in WallForm, Zone the name of the time zone.
func (r Recurrence) Begins() string { return r.option.Dtstart.Format(WallForm) }

// Zone is the time zone by which it counts.
func (r Recurrence) Zone() *time.Location { return r.zone }

// Between lists the occurrences from one time until before another, at most some.
// They are in order, and none comes twice.
func (r Recurrence) Between(from, to time.Time, most int) []time.Time {
	if r.zone == nil || !to.After(from) || most <= 0 {
		return nil
	}
	option := r.option
	// Searching ends there, whatever the rule says: some never come true again. A day
	// more, for a wall may be ahead or behind.
	last := wallOf(to, r.zone).Add(24 * time.Hour)
	if limit := wallOf(from, r.zone).Add(farthest); last.After(limit) {
		last = limit
	}
	if option.Until.IsZero() || option.Until.After(last) {
		option.Until = last
	}
	rule, err := rrule.NewRRule(option)
	if err != nil {
		return nil // it was made before: it can be
	}
	var out []time.Time
	next := rule.Iterator()
	for {
		wall, more := next()
		if !more || len(out) == most {
			return out
		}
		at := atWall(wall, r.zone)
		switch {
		case at.Before(from):
		case !at.Before(to):
			return out
		case len(out) > 0 && !at.After(out[len(out)-1]): // two walls, one instant: the hour that does not exist
		default:
			out = append(out, at)
		}
	}
}

// wallOf is the clock on the wall at an instant, as if it were UTC.
func wallOf(at time.Time, zone *time.Location) time.Time {
	t := at.In(zone)
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), 0, time.UTC)
}

// atWall is the instant at which the clock on the wall shows a time: of two the first,
// and of none the one that the offset from before gives.
func atWall(wall time.Time, zone *time.Location) time.Time {
	offsetAt := func(at time.Time) time.Duration {
		_, seconds := at.In(zone).Zone()
		return time.Duration(seconds) * time.Second
	}
	// Zones are less than a day from UTC and change less than once in a day: the offsets
	// of the day before and after are those before and after a change in between.
	before, after := offsetAt(wall.Add(-24*time.Hour)), offsetAt(wall.Add(24*time.Hour))
	first, second := wall.Add(-before), wall.Add(-after)
	if offsetAt(first) == before {
		return first
	}
	if offsetAt(second) == after {
		return second
	}
	return first // it does not exist
}
