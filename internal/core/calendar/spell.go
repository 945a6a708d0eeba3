package calendar

import (
	"fmt"
	"strings"
	"time"
)

// Spell says a time span in words, exact to the second.
func Spell(d time.Duration) string {
	if d < time.Second {
		return d.String()
	}
	var words []string
	for _, unit := range []struct {
		size time.Duration
		name string
	}{{24 * time.Hour, "day"}, {time.Hour, "hour"}, {time.Minute, "minute"}, {time.Second, "second"}} {
		n := d / unit.size
		d -= n * unit.size
		switch {
		case n == 1:
			words = append(words, "1 "+unit.name)
		case n > 1:
			words = append(words, fmt.Sprintf("%d %ss", n, unit.name))
		}
	}
	return strings.Join(words, " ")
}
