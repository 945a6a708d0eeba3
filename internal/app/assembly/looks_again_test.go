package assembly_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/rotation"
	standindir "mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
)

// A question that is refused is a wrong password. It is asked when the hour is over and
// once, however often a rotation is looked at: whoever may look must not lock an account.
// And it is ours: nothing tells of it as of somebody who was forgotten.
func TestFormerValuesAreAskedForOnce(t *testing.T) {
	var by clock
	f := startBy(t, &by)
	a := f.take("svc-tidefeed")
	f.estate.Directory.SetFormer(time.Hour)
	f.estate.Directory.Update(larkmoor.DN("svc-tidefeed"), func(e *standindir.Entry) { e.Never = true })
	r := f.rotate(a, rotation.UndoOnFailure)
	require.Equal(t, rotation.FinishedDone, r.Result)

	by.pass(5 * time.Minute)
	early, err := f.Looks.LookNow(t.Context(), ines, r.ID)
	require.NoError(t, err)
	assert.Equal(t, map[string]int{connect.CheckOK: 3, connect.CheckUnchecked: 1}, results(early), "%+v", early.Checks)
	assert.Contains(t, early.Checks[0].Words, "it is asked again at")
	assert.Empty(t, f.findings("former-accepted"), "five minutes after it that is as expected")

	// With a host away, what is tried again in half an hour does not come before the hour.
	f.estate.Hosts["tide1"].SetFault(unixhost.Fault{Down: true})
	by.pass(time.Minute)
	early, err = f.Looks.LookNow(t.Context(), ines, r.ID)
	require.NoError(t, err)
	assert.WithinDuration(t, r.Ended.Add(rotation.LookAgainAfter), early.Due, time.Second)

	f.estate.Directory.SetFormer(0)
	f.estate.Directory.Forget(larkmoor.DN("svc-tidefeed"))
	look := f.looked(&by, r.ID)
	assert.False(t, look.Due.IsZero(), "the host is away")
	assert.Equal(t, "current retired", f.states(a.ID))
	asked := f.estate.Directory.Wrong(larkmoor.DN("svc-tidefeed"))
	assert.False(t, asked.IsZero(), "it was asked, and refused")
	f.estate.Hosts["tide1"].SetFault(unixhost.Fault{})
	for range 3 {
		by.pass(time.Hour)
		look, err = f.Looks.LookNow(t.Context(), ines, r.ID)
		require.NoError(t, err)
		assert.Equal(t, 4, results(look)[connect.CheckOK], "%+v", look.Checks)
		assert.Len(t, look.Checks, 4, "%+v", look.Checks)
	}
	assert.Equal(t, asked, f.estate.Directory.Wrong(larkmoor.DN("svc-tidefeed")), "not once more")
	assert.Empty(t, f.findings("wrong-passwords"), "it was ours")
}
