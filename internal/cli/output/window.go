package output

import (
	"fmt"
	"strings"
	"time"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/core/expiry"
)

// Window reads one time in which something may happen: BEGIN/END or BEGIN/DURATION.
func Window(text string) (from, to time.Time, err error) {
	begin, end, found := strings.Cut(text, "/")
	from, err = time.Parse(time.RFC3339, begin)
	if err != nil || !found {
		return from, to, api.Exit(api.ExitUsage, fmt.Errorf("window %q: write BEGIN/END with times as in 2026-11-24T02:00:00Z, or BEGIN/2h", text))
	}
	if to, err = time.Parse(time.RFC3339, end); err == nil {
		return from, to, nil
	}
	long, err := time.ParseDuration(end)
	if err != nil || long <= 0 {
		return from, to, api.Exit(api.ExitUsage, fmt.Errorf("window %q: %q is neither a time nor a duration", text, end))
	}
	return from, from.Add(long), nil
}

// Span reads how much longer something shall last.
func Span(text string) (time.Duration, error) {
	now := time.Now().UTC()
	end, err := expiry.Parse(text, time.UTC, now)
	if err != nil || end.State != expiry.Ends || strings.ContainsAny(text, "-:") {
		return 0, fmt.Errorf("%q is no span: write one such as 36h, 30d or 8w", text)
	}
	return end.At.Sub(now).Round(time.Second), nil
}
