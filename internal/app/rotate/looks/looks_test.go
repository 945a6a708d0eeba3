package looks

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app/rotate/acts"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

func onLook() *looking {
	return &looking{hands: &acts.Hands{Rotation: records.Rotation{ID: 7, CredentialID: 3, Credential: "svc-berth", AccountID: 9, Authority: "dir"}}}
}

func place(system, subject string) rotation.Step {
	return rotation.Step{Kind: rotation.StepReplace, System: system, Subject: subject}
}

// What is well is counted, what is not stands first, and a great many lines end in a
// number instead of in nothing.
func TestWhatALookTells(t *testing.T) {
	l := onLook()
	assert.Empty(t, l.told())
	assert.Empty(t, l.summary())
	for i := range 3 {
		l.say(place("quay1", fmt.Sprintf("/etc/%d.env", i)), "", connect.CheckOK, "holds the value in force", "", "")
	}
	l.say(place("quay2", "/etc/b.env"), "", connect.CheckUnchecked, "x", "it is away", "")
	l.say(place("quay2", "/etc/a.env"), "put-back", connect.CheckFailed, "x", "put back", "change it there")
	l.say(rotation.Step{Kind: rotation.StepSignIn, System: "dir", Subject: "svc-berth"}, "wrong-passwords", connect.CheckWarning, "no wrong passwords since", "one at two", "find it")
	told := l.told()
	require.Len(t, told, 4)
	assert.Equal(t, []string{connect.CheckFailed, connect.CheckWarning, connect.CheckUnchecked, connect.CheckOK}, []string{told[0].Result, told[1].Result, told[2].Result, told[3].Result})
	assert.Equal(t, "/etc/a.env", told[0].What)
	assert.Equal(t, "no wrong passwords since", told[1].What, "a question is not a place")
	assert.Equal(t, "3 places", told[3].Words)
	assert.Equal(t, 1, l.failed)

	findings := l.findings(records.Look{})
	require.Len(t, findings, 2)
	for _, f := range findings {
		assert.True(t, strings.HasPrefix(f.Key, "look/3/"), f.Key)
		assert.Equal(t, records.AccountID(9), f.AccountID)
		assert.Contains(t, f.What, "rotation 7, looked at again")
		assert.NotEmpty(t, f.Next)
		assert.Equal(t, f.Kind == "put-back", f.Severity == "high")
	}

	for i := range 3 * mostLooked {
		l.say(place("quay9", fmt.Sprintf("/etc/%04d.env", i)), "put-back", connect.CheckFailed, "x", strings.Repeat("w", 40), "")
	}
	told = l.told()
	assert.Len(t, told, mostLooked+2)
	assert.Contains(t, told[mostLooked].Words, "lines more are not kept")
	assert.LessOrEqual(t, len([]rune(l.summary())), longestSummary+3)
}

// A look that could not be finished is a finding once nobody tries again.
func TestALookThatNobodyFinished(t *testing.T) {
	l := onLook()
	l.unfinished = true
	assert.Empty(t, l.findings(records.Look{Due: time.Now()}), "it is tried again")
	findings := l.findings(records.Look{})
	require.Len(t, findings, 1)
	assert.Equal(t, "look-unfinished", findings[0].Kind)
	assert.Contains(t, findings[0].Next, "moss rotate look 7")
}

// Which wrong passwords are told: those after our own, by the system's clock where it was
// noted, and by ours with a margin where it was not.
func TestWhichWrongPasswordsAreTold(t *testing.T) {
	ended := time.Date(2026, 11, 28, 2, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		own  map[string]time.Time
		last time.Time
		told bool
	}{
		"none":                         {nil, time.Time{}, false},
		"ours, noted":                  {map[string]time.Time{"7": ended}, ended, false},
		"another, a tick later":        {map[string]time.Time{"7": ended}, ended.Add(100 * time.Nanosecond), true},
		"none before, one since":       {map[string]time.Time{"7": {}}, ended.Add(-time.Hour), true},
		"not noted, within the margin": {nil, ended.Add(clockMargin - time.Second), false},
		"not noted, beyond it":         {nil, ended.Add(clockMargin + time.Second), true},
		"noted of another system":      {map[string]time.Time{"8": ended}, ended.Add(time.Minute), false},
	} {
		l := onLook()
		l.looks = &Looks{store: noUses{}}
		l.own, l.since = c.own, ended
		l.trials(t.Context(), rotation.Step{Kind: rotation.StepSignIn, SystemID: "7", System: "dir"}, connect.Verdict{Accepted: true, Trials: &connect.Trials{Count: 2, Last: c.last}})
		assert.Equal(t, c.told, len(l.checks) == 1, name)
		if c.told {
			assert.Contains(t, l.checks[0].Words, "2 count towards a lock now", name)
			assert.Contains(t, l.checks[0].Words, "192.0.2.17 (quay2)", name)
			assert.NotContains(t, l.checks[0].Words, "192.0.2.18", "one that was let in")
		}
	}
	l := onLook()
	l.trials(t.Context(), rotation.Step{}, connect.Verdict{})
	assert.Empty(t, l.checks, "where nothing is told, nothing is concluded")
}
