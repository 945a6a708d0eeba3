package assembly_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
)

// A survey that began before a value was taken into custody, and ends after it,
// has not searched for it: neither does it count, nor does it take away what
// the search found.
func TestASlowSurveyThatBeganBeforeCustody(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	f.survey()
	for _, host := range quays {
		f.estate.Hosts[host].SetFault(unixhost.Fault{Latency: 1500 * time.Millisecond})
	}
	id, err := f.Surveys.Start(ctx, ines, quays)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		visits, err := f.Store.VisitsAfter(ctx, id, 0)
		return err == nil && len(visits) == len(quays)
	}, 10*time.Second, time.Millisecond, "both are being read")
	a := f.account("dir/svc-berth")
	_, err = f.Custody.Take(ctx, ines, cred(f, a), secret.New(larkmoor.Passwords["svc-berth"]))
	require.NoError(t, err)
	// The search is quick: alone it would end first.
	for _, host := range quays {
		f.estate.Hosts[host].SetFault(unixhost.Fault{})
	}
	f.Rotations.Settled(ctx)
	require.Eventually(t, func() bool {
		v, err := f.Store.Survey(ctx, id)
		return err == nil && v.State == "done"
	}, 30*time.Second, 20*time.Millisecond)
	v, err := f.Rotations.Rehearse(ctx, ines, cred(f, a), undo)
	require.NoError(t, err)
	assert.Equal(t, "passed", v.Verdict, "%+v", bad(v.Checks))
	copies := 0
	for _, s := range v.Plan.Steps {
		if s.Kind == "replace" {
			copies++
		}
	}
	assert.Equal(t, 4, copies, "every copy is known")
}
