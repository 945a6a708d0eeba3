package amend

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/connect"
)

// A host works out from its clock since when it is up: that the clock was set a little is no restart,
// and a restart right after another one is.
func TestRestartsOfHostsAreToldApart(t *testing.T) {
	at := time.Date(2026, 11, 30, 23, 0, 0, 0, time.UTC)
	since := func(before time.Duration) string {
		return connect.UpSince + at.Add(-before).Format(time.RFC3339)
	}
	for name, c := range map[string]struct {
		was, is string
		anew    bool
	}{
		"the same":                  {since(48 * time.Hour), since(48 * time.Hour), false},
		"its clock was set ahead":   {since(48 * time.Hour), since(48*time.Hour - 2*time.Second), false},
		"its clock was set back":    {since(48 * time.Hour), since(48*time.Hour + time.Minute), false},
		"restarted":                 {since(48 * time.Hour), since(-time.Minute), true},
		"restarted, its clock late": {since(48 * time.Hour), since(4 * time.Minute), true},
		"twice in seconds":          {since(3 * time.Second), since(0), true},
		"no time is told":           {"up", "up", false},
		"another word":              {"up", "up again", true},
	} {
		assert.Equal(t, c.anew, asking{c.was, at}.anew(c.is), name)
	}
}
