package store

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// ended begins a rotation of the first credential and ends it.
func ended(t *testing.T, s *Store, c records.CredentialID, result string) records.Rotation {
	t.Helper()
	ctx := context.Background()
	r := records.Rotation{CredentialID: c, Credential: "a", OnFailure: "undo"}
	var err error
	r.ID, err = s.BeginRotation(ctx, r)
	require.NoError(t, err)
	require.NoError(t, s.AppendJournal(ctx, r, rotation.Record{Seq: 1, Event: rotation.EventFinished, Step: -1, Result: result}, "finished", result, records.Effects{}))
	return r
}

// When a rotation is looked at again follows from how it ended; what is seen is kept, and a
// crash before that leaves it due.
func TestWhenARotationIsLookedAtAgain(t *testing.T) {
	folder := t.TempDir()
	s := open(t, folder)
	ctx := context.Background()
	id, err := s.AddSystem(ctx, records.System{Name: "dir", Kind: "directory"})
	require.NoError(t, err)
	require.NoError(t, s.PutAccounts(ctx, id, staff(1), NewSeen(), &records.Tally{}))
	c, err := s.NotePassword(ctx, 1)
	require.NoError(t, err)
	require.NoError(t, s.TakeCustody(ctx, records.Secret{CredentialID: c.ID, Sealed: []byte("a"), Fingerprint: "fa"}, "ines", ""))
	for result, looked := range map[string]bool{rotation.FinishedDone: true, rotation.FinishedWithFailures: true, rotation.FinishedUndone: true, rotation.FinishedUndoFailed: false} {
		r := ended(t, s, c.ID, result)
		look, err := s.Look(ctx, r.ID)
		if !looked {
			require.ErrorIs(t, err, records.ErrNotFound, result)
			continue
		}
		require.NoError(t, err, result)
		assert.WithinDuration(t, s.Now().Add(rotation.LookAgainAfter), look.Due, time.Minute)
		assert.True(t, look.Looked.IsZero())
	}
	r := ended(t, s, c.ID, rotation.FinishedDone)
	due, err := s.DueLooks(ctx, 10)
	require.NoError(t, err)
	assert.Empty(t, due, "none is due yet")

	// One that is taken up once more is not looked at until it has ended again.
	require.NoError(t, s.AppendJournal(ctx, r, rotation.Record{Seq: 2, Event: rotation.EventDecision, Step: -1, Result: rotation.DecideUndo}, "undoing", "", records.Effects{}))
	_, err = s.Look(ctx, r.ID)
	require.ErrorIs(t, err, records.ErrNotFound)
	require.NoError(t, s.AppendJournal(ctx, r, rotation.Record{Seq: 3, Event: rotation.EventFinished, Step: -1, Result: rotation.FinishedUndone}, "finished", rotation.FinishedUndone, records.Effects{}))

	own := time.Date(2026, 11, 28, 2, 0, 0, 0, time.UTC)
	require.NoError(t, s.NoteOwnTrials(ctx, r.ID, map[string]time.Time{"7": own}))
	// A later look that is put off, then one that ends.
	look, err := s.Look(ctx, r.ID)
	require.NoError(t, err)
	assert.True(t, own.Equal(look.Own["7"]))
	look.Refused = []int{3, 5}
	look.Due, look.Checks = s.Now().Add(-time.Hour), []connect.Checked{{System: "dir", What: "away", Result: connect.CheckUnchecked}}
	// What was noted since this look began stays noted, and nothing goes back.
	require.NoError(t, s.NoteOwnTrials(ctx, r.ID, map[string]time.Time{"8": own, "7": own.Add(-time.Minute)}))
	require.NoError(t, s.EndLook(ctx, look, 0))
	due, err = s.DueLooks(ctx, 10)
	require.NoError(t, err)
	require.Len(t, due, 1)
	assert.Equal(t, r.ID, due[0].RotationID)
	assert.Equal(t, look.Checks, due[0].Checks)
	require.NoError(t, s.Close())

	s = open(t, folder) // and also after the service was away
	due, err = s.DueLooks(ctx, 10)
	require.NoError(t, err)
	require.Len(t, due, 1)
	assert.True(t, own.Equal(due[0].Own["7"]), "our own trials are remembered")
	assert.True(t, own.Equal(due[0].Own["8"]), "also those of another system")
	assert.Equal(t, []int{3, 5}, due[0].Refused, "and what is not asked again")
	look = due[0]
	look.Due, look.Checks = time.Time{}, []connect.Checked{}
	require.NoError(t, s.EndLook(ctx, look, 0))
	due, err = s.DueLooks(ctx, 10)
	require.NoError(t, err)
	assert.Empty(t, due)
}

// A former value is retired by a look only where it was kept as previous: never the one in
// force, whatever is said.
func TestALookRetiresOnlyFormerValues(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := context.Background()
	id, err := s.AddSystem(ctx, records.System{Name: "dir", Kind: "directory"})
	require.NoError(t, err)
	require.NoError(t, s.PutAccounts(ctx, id, staff(1), NewSeen(), &records.Tally{}))
	c, err := s.NotePassword(ctx, 1)
	require.NoError(t, err)
	require.NoError(t, s.TakeCustody(ctx, records.Secret{CredentialID: c.ID, Sealed: []byte("a"), Fingerprint: "fa"}, "ines", ""))
	r := records.Rotation{CredentialID: c.ID, Credential: "a", OnFailure: "undo"}
	r.ID, err = s.BeginRotation(ctx, r)
	require.NoError(t, err)
	require.NoError(t, s.AddCandidate(ctx, records.Secret{CredentialID: c.ID, RotationID: r.ID, Sealed: []byte("b"), Fingerprint: "fb"}))
	require.NoError(t, s.AppendJournal(ctx, r, rotation.Record{Seq: 1, Event: rotation.EventFinished, Step: -1, Result: rotation.FinishedDone}, "finished", "done", records.Effects{Settlement: &records.Settlement{Winner: 2, Loser: 1}}))
	states := func() map[records.SecretID]string {
		all, err := s.Secrets(ctx, c.ID)
		require.NoError(t, err)
		out := map[records.SecretID]string{}
		for _, v := range all {
			out[v.ID] = v.State
		}
		return out
	}
	require.Equal(t, map[records.SecretID]string{1: records.SecretPrevious, 2: records.SecretCurrent}, states())
	look, err := s.Look(ctx, r.ID)
	require.NoError(t, err)
	require.NoError(t, s.EndLook(ctx, look, 2))
	assert.Equal(t, records.SecretCurrent, states()[2], "what is in force stays so")
	require.NoError(t, s.EndLook(ctx, look, 1))
	assert.Equal(t, records.SecretRetired, states()[1])
}
