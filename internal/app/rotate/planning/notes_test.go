package planning

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/rotation"
)

// Every kind of note that is more than worth knowing is judged, once, with what to
// do about it.
func TestNotesAreJudged(t *testing.T) {
	kinds := []rotation.NoteKind{rotation.NoteLatent, rotation.NoteIrreplaceable, rotation.NoteDoubtful, rotation.NoteLeft, rotation.NoteByHand, rotation.NoteExposed, rotation.NoteUnexplained, rotation.NoteOutOfReach, rotation.NoteAmbiguous, rotation.NoteAcceptor, rotation.NoteAlone, rotation.NoteWay, rotation.NoteWindow}
	fails := map[rotation.NoteKind]bool{rotation.NoteIrreplaceable: true, rotation.NoteDoubtful: true, rotation.NoteOutOfReach: true, rotation.NoteAmbiguous: true, rotation.NoteAcceptor: true, rotation.NoteWay: true, rotation.NoteWindow: true}
	for _, kind := range kinds {
		lines := NoteChecks("dir", []rotation.Note{{Kind: rotation.NoteInfo, Text: "nothing"}, {Kind: kind, Text: "words"}, {Kind: rotation.NoteOverlap, Text: "both"}})
		require.Len(t, lines, 1, kind)
		assert.Equal(t, map[bool]string{true: connect.CheckFailed, false: connect.CheckWarning}[fails[kind]], lines[0].Result, kind)
		assert.Equal(t, "words", lines[0].Words)
		assert.NotEmpty(t, lines[0].What)
		assert.NotEmpty(t, lines[0].Next, kind)
		assert.Equal(t, fails[kind], Fails(kind), kind)
	}
	assert.Len(t, judgedNotes, len(kinds))
}

// Plans that were kept before notes had a kind are read.
func TestNotesOfEarlierPlans(t *testing.T) {
	var plan rotation.Plan
	require.NoError(t, json.Unmarshal([]byte(`{"notes":["latent: x on y", {"kind":"left","text":"z"}]}`), &plan))
	assert.Equal(t, []rotation.Note{{Kind: rotation.NoteInfo, Text: "latent: x on y"}, {Kind: rotation.NoteLeft, Text: "z"}}, plan.Notes)
	assert.Equal(t, "left: z", plan.Notes[1].String())
}
