package cli

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

func TestHowFarASurveyIs(t *testing.T) {
	at := time.Date(2027, 3, 1, 2, 0, 0, 0, time.UTC)
	f := newFollowing(output.Row{"total": 10}, func() time.Time { return at })
	assert.Equal(t, "0 of 10 systems", f.words(), "no guess from nothing")
	seen := func(i int, state string, spent time.Duration) string {
		at = at.Add(spent)
		f.visit(output.Row{"system": fmt.Sprintf("quay%d", i), "state": state})
		return f.words()
	}
	assert.Equal(t, "0 of 10 systems", seen(1, "running", time.Second))
	assert.Equal(t, "1 of 10 systems", seen(1, "done", 9*time.Second))
	assert.Equal(t, "1 of 10 systems", seen(1, "done", 0), "told twice after a break, and counted once")
	seen(2, "incomplete", 10*time.Second)
	assert.Equal(t, "3 of 10 systems, about 70 seconds left", seen(3, "failed", 10*time.Second))
	assert.Equal(t, "4 of 10 systems, about 4 minutes left", seen(4, "cancelled", 130*time.Second))
	for i := 5; i < 10; i++ {
		assert.NotEmpty(t, seen(i, "failed", time.Millisecond))
	}
	assert.Equal(t, "9 of 10 systems, about 20 seconds left", f.words())
	assert.Empty(t, seen(10, "failed", time.Second), "nothing is left")

	var exit *api.ExitError
	err := f.verdict("7")
	require.ErrorAs(t, err, &exit)
	assert.Equal(t, api.ExitNegative, exit.Code)
	assert.Equal(t, "quay3, quay5, quay6, quay7, quay8 and 2 more could not be read: 'moss survey show 7' says why", err.Error())
	require.NoError(t, newFollowing(nil, time.Now).verdict("7"))
	assert.Equal(t, []string{"a few seconds", "10 seconds", "90 seconds", "2 minutes", "119 minutes", "3 hours"}, []string{
		roundly(9 * time.Second), roundly(11 * time.Second), roundly(89 * time.Second), roundly(95 * time.Second), roundly(119 * time.Minute), roundly(170 * time.Minute),
	})
}
