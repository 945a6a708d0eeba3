package looks

import (
	"context"
	"errors"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// lookStore is a store with rotations and looks only.
type lookStore struct {
	Store
	rotation records.Rotation
	newest   records.RotationID
	broken   error
	due      []records.Look
	ended    []records.Look
}

func (s *lookStore) Rotation(context.Context, records.RotationID) (records.Rotation, error) {
	return s.rotation, s.broken
}

func (s *lookStore) State(context.Context, records.RotationID) (records.Rotation, rotation.State, []rotation.Record, error) {
	return s.rotation, rotation.State{}, nil, s.broken
}

func (s *lookStore) Rotations(context.Context, records.Query) (page records.Page[records.Rotation], err error) {
	page.Items = []records.Rotation{{ID: s.newest}}
	return page, nil
}

func (s *lookStore) DueLooks(context.Context, int) ([]records.Look, error) { return s.due, nil }

func (s *lookStore) EndLook(_ context.Context, v records.Look, retired records.SecretID, _ ...ledger.Entry) error {
	s.ended = append(s.ended, v)
	if retired != 0 {
		return errors.New("nothing may be retired here")
	}
	return nil
}

var noon = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)

func over(s *lookStore) *Looks {
	return &Looks{store: s, states: s, base: &app.Base{Now: func() time.Time { return noon }, Log: slog.New(slog.DiscardHandler)}}
}

// What is seen while a rotation is taken up once more, or while another one changes the
// value, is not told as what somebody else did.
func TestWhatOvertakesALook(t *testing.T) {
	was := records.Rotation{ID: 7, Mode: "finished", Result: "done", Ended: noon.Add(-2 * time.Hour), Authority: "dir"}
	undoing, again := was, was
	undoing.Mode = "undoing"
	again.Ended = noon
	for name, c := range map[string]struct {
		now    records.Rotation
		newest records.RotationID
		words  string
	}{
		"nothing":                         {was, 7, ""},
		"another rotation":                {was, 9, "rotation 9 changed it since"},
		"it is undone now":                {undoing, 7, "it was taken up once more"},
		"it was undone and has ended now": {again, 7, "it was taken up once more"},
	} {
		s := &lookStore{rotation: c.now, newest: c.newest}
		look := records.Look{RotationID: 7, Due: noon.Add(-time.Hour), Checks: []connect.Checked{{What: "before"}}}
		gone, err := over(s).overtaken(t.Context(), was, &look, ledger.Entry{})
		require.NoError(t, err, name)
		assert.Equal(t, c.words != "", gone, name)
		if !gone {
			assert.Empty(t, s.ended, name)
			assert.Equal(t, "before", look.Checks[0].What, name)
			continue
		}
		require.Len(t, s.ended, 1, name)
		assert.Contains(t, s.ended[0].Checks[0].Words, c.words, name)
		assert.True(t, s.ended[0].Due.IsZero(), name)
	}
}

// One rotation that cannot be looked at does not keep the others from being looked at: it
// is put off, and says why.
func TestOneLookThatFailsStopsNoOther(t *testing.T) {
	s := &lookStore{broken: errors.New("its journal cannot be read"), due: []records.Look{{RotationID: 7, Due: noon}, {RotationID: 8, Due: noon, Own: map[string]time.Time{"1": noon}, Refused: []int{4}}}}
	words, err := over(s).LookAgain(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "2 looked at, 2 need a person", words)
	require.Len(t, s.ended, 2)
	for _, look := range s.ended {
		assert.Equal(t, noon.Add(lookRetry), look.Due)
		assert.Equal(t, "its journal cannot be read", look.Checks[0].Words)
	}
	assert.Equal(t, []int{4}, s.ended[1].Refused, "what is known stays known")
	assert.NotEmpty(t, s.ended[1].Own)

	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	s.ended = nil
	_, err = over(s).LookAgain(ctx)
	require.ErrorIs(t, err, context.Canceled)
	assert.Empty(t, s.ended, "a service that stops puts nothing off")
}

// What a look told of wrong passwords stays told while it is due again: a question of ours
// may have hidden them.
func TestWrongPasswordsStayTold(t *testing.T) {
	before := []connect.Checked{{System: "dir", What: noWrong, Result: connect.CheckWarning, Words: "at two"}, {System: "dir", What: "else"}, {System: "other", What: noWrong, Result: connect.CheckWarning, Words: "at one"}}
	l := onLook()
	l.checks = []seen{{connect.Checked{System: "other", What: noWrong, Result: connect.CheckWarning, Words: "at three"}, "wrong-passwords"}}
	l.keepTrials(before)
	told := l.told()
	require.Len(t, told, 2)
	assert.Equal(t, "at two", told[0].Words)
	assert.Equal(t, "at three", told[1].Words, "what is newer counts")
	assert.Len(t, l.findings(records.Look{}), 2)
}
