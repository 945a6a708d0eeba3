package assembly_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app/batches"
	"mossledger.example/moss/internal/app/rotate"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// batch waits until one is in a state.
func (f *ferry) batch(id records.BatchID, state string) (v records.Batch) {
	f.t.Helper()
	require.Eventually(f.t, func() bool {
		var err error
		v, err = f.Store.Batch(f.t.Context(), id)
		require.NoError(f.t, err)
		return v.State == state
	}, time.Minute, 10*time.Millisecond)
	return v
}

func (f *ferry) given(list string) records.Batch {
	f.t.Helper()
	ask := batches.Ask{Values: secret.New(list), Reason: "the move"}
	ask.Wish.OnFailure = rotation.UndoOnFailure
	v, err := f.Batches.Create(f.t.Context(), ines, ask)
	require.NoError(f.t, err)
	return f.batch(v.ID, records.BatchRehearsed)
}

// Values that a person gave are what the directory accepts and the files hold afterwards,
// once a second person approved it.
func TestGivenValuesReachTheirPlaces(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	f.take("svc-manifest")
	tide := f.take("svc-tidefeed")
	f.person("ines", "operator", "approver", "administrator")
	f.person("ola", "approver")

	v := f.given("svc-manifest,Kelp7-Wrack-3qZ7!vTn\nsvc-tidefeed,Bladder-Wrack-99qZ!vT\n")
	require.Equal(t, 2, v.Ready, "%+v", v)
	_, err := f.Batches.Start(ctx, ines, v.ID, false)
	var waits *rotate.WaitsError
	require.ErrorAs(t, err, &waits)
	asked, err := f.Store.Approval(ctx, waits.Approval)
	require.NoError(t, err)
	assert.NotContains(t, asked.What+string(asked.Detail), "Wrack")
	_, err = f.Approvals.Approve(ctx, ola, asked.ID, asked.Digest, "go on")
	require.NoError(t, err)
	require.Equal(t, 2, f.batch(v.ID, records.BatchDone).Done)

	values, err := f.Sealed.Values(ctx, cred(f, tide).ID)
	require.NoError(t, err)
	assert.Equal(t, "Bladder-Wrack-99qZ!vT", values.Current.RevealString())
	verdict, err := f.Custody.Verify(ctx, ines, cred(f, tide))
	require.NoError(t, err)
	assert.True(t, verdict.Accepted, "the directory takes it")
	r, err := f.Store.Rotation(ctx, 1)
	require.NoError(t, err)
	assert.Equal(t, "ines", r.Plan.GivenBy())
	assert.Contains(t, r.Plan.Steps[0].Title(), "seal the value that ines gave for svc-")
	require.NoError(t, f.Batches.Forget(ctx))
	_, err = f.Store.GivenValue(ctx, cred(f, tide).ID, r.Plan.Given)
	require.Error(t, err)

	// The next one is made, and needs nobody.
	assert.Equal(t, "done", f.rotate(tide, rotation.UndoOnFailure).Result)
	values, err = f.Sealed.Values(ctx, cred(f, tide).ID)
	require.NoError(t, err)
	assert.Len(t, values.Current.RevealString(), 32)
}
