package planning

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// What may be asked of a rotation together, and what may not.
func TestRequests(t *testing.T) {
	now := time.Date(2026, 11, 28, 2, 0, 0, 0, time.UTC)
	undo := rotation.UndoOnFailure
	for name, c := range map[string]struct {
		wish Request
		told string
	}{
		"the least":                  {Request{OnFailure: undo}, ""},
		"stopped first":              {Request{OnFailure: undo, StopFirst: true}, ""},
		"stopped, and then asked":    {Request{OnFailure: rotation.StopOnFailure, StopFirst: true}, "needs undo on failure"},
		"stopped, and then left":     {Request{OnFailure: rotation.ContinueOnFailure, StopFirst: true}, "needs undo on failure"},
		"stopped, and never started": {Request{OnFailure: undo, When: rotation.RestartLeave, StopFirst: true}, "restarts that are now"},
		"stopped before its window":  {Request{OnFailure: undo, When: rotation.RestartWindow, NotBefore: now, NotAfter: now.Add(time.Hour), StopFirst: true}, "restarts that are now"},
		"stopped for an assignment":  {Request{OnFailure: undo, Assign: []records.DependentID{1}, StopFirst: true}, "a change of the credential itself"},
		"no policy":                  {Request{}, `on failure: stop, continue or undo, not ""`},
		"no such time":               {Request{OnFailure: undo, When: "soon"}, `unknown time for restarts "soon"`},
		"a window":                   {Request{OnFailure: undo, When: rotation.RestartWindow, NotBefore: now, NotAfter: now.Add(time.Hour)}, ""},
		"a window without an end":    {Request{OnFailure: undo, When: rotation.RestartWindow, NotBefore: now}, "an end after it"},
		"a window that is over":      {Request{OnFailure: undo, When: rotation.RestartWindow, NotBefore: now.Add(-2 * time.Hour), NotAfter: now.Add(-time.Hour)}, "the window ended at 2026-11-28T01:00:00Z"},
		"a long password":            {Request{OnFailure: undo, Length: 256, Without: "@"}, ""},
		"too short a password":       {Request{OnFailure: undo, Length: 11}, "12 to 256 characters"},
		"too long a password":        {Request{OnFailure: undo, Length: 257}, "12 to 256 characters"},
		"less than no password":      {Request{OnFailure: undo, Length: -1}, "12 to 256 characters"},
		"all that it must not have":  {Request{OnFailure: undo, Without: strings.Repeat("x", 101)}, "up to 100"},
		"patience of a month":        {Request{OnFailure: undo, Patience: 30 * 24 * time.Hour}, ""},
		"patience of more":           {Request{OnFailure: undo, Patience: 31 * 24 * time.Hour}, "can be waited for up to"},
		"patience of less than none": {Request{OnFailure: undo, Patience: -time.Second}, "can be waited for up to"},
	} {
		err := c.wish.Check(now)
		if c.told == "" {
			assert.NoError(t, err, name)
			continue
		}
		require.ErrorIs(t, err, app.ErrInput, name)
		assert.ErrorContains(t, err, c.told, name)
	}
	// In the form in which it comes back from the store; what has no window has no times.
	wish := Request{OnFailure: undo, When: rotation.RestartWindow, NotBefore: now.In(time.FixedZone("", 7200)).Add(time.Millisecond), NotAfter: now.Add(time.Hour)}
	require.NoError(t, wish.Check(now))
	assert.Equal(t, now, wish.NotBefore)
	wish.When = rotation.RestartNow
	require.NoError(t, wish.Check(now))
	assert.True(t, wish.NotBefore.IsZero())
}
