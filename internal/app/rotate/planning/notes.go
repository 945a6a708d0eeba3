package planning

import (
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/rotation"
)

// judgedNotes are more than worth knowing: a rehearsal judges them.
var judgedNotes = []struct {
	kind               rotation.NoteKind
	what, result, next string
}{
	{rotation.NoteIrreplaceable, "every copy can be replaced", connect.CheckFailed, "change it by hand before, or decide to leave it: 'moss dependent decide ID --leave --reason ...'; its number is in 'moss dependent list --account'"},
	{rotation.NoteDoubtful, "every copy is known to be one", connect.CheckFailed, "decide whether it is: 'moss dependent decide ID --replace', or '--leave', with a reason"},
	{rotation.NoteLeft, "every copy is replaced", connect.CheckWarning, "what still reads it is refused afterwards"},
	{rotation.NoteLatent, "everything runs with the new value afterwards", connect.CheckWarning, "this is a latent breakage from then on: it is listed under findings until the restart"},
	{rotation.NoteByHand, "every program is started by its system", connect.CheckWarning, "find who started it; better, make it a unit"},
	{rotation.NoteExposed, "only its owner reads the new key", connect.CheckWarning, "chmod 600 it first: a rotation leaves modes as they are"},
	{rotation.NoteUnexplained, "where every program gets the value is known", connect.CheckWarning, "find that place before you rotate: it keeps the old value"},
	{rotation.NoteOutOfReach, "every holder gets the new key", connect.CheckFailed, "it would be locked out when the old key is removed: replace it there by hand first, or remove it"},
	{rotation.NoteAcceptor, "every program that accepts tickets gets the new key", connect.CheckFailed, "survey the host where it runs; or make its key tab anew right afterwards, and say so: 'moss dependent decide ID --leave --reason ...' of a key tab, --no-acceptors REASON where none was found"},
	{rotation.NoteAmbiguous, "every copy belongs to one account", connect.CheckFailed, "write the account's name beside it, or give the other account a password of its own first"},
	{rotation.NoteWay, "it can be changed in the way that is asked for", connect.CheckFailed, "ask for another way, or for any: 'moss policy change --way any', '--way any'"},
	{rotation.NoteWindow, "every window that it waits for opens", connect.CheckFailed, "change the window: 'moss window change'; or say that no window counts: '--any-time'"},
	{rotation.NoteAlone, "every copy that names the account is the current value", connect.CheckWarning, "if something still reads it, it is refused already, or the picture is old: survey that system"},
}

// Fails reports whether a note of a kind keeps a rehearsal from passing.
func Fails(kind rotation.NoteKind) bool {
	for _, judged := range judgedNotes {
		if judged.kind == kind {
			return judged.result == connect.CheckFailed
		}
	}
	return false
}

// NoteChecks are the lines of a rehearsal that follow from a plan's notes.
func NoteChecks(system string, notes []rotation.Note) []connect.Checked {
	var out []connect.Checked
	for _, judged := range judgedNotes {
		for _, note := range notes {
			if note.Kind == judged.kind {
				out = append(out, connect.Checked{System: system, What: judged.what, Result: judged.result, Words: note.Text, Next: judged.next})
			}
		}
	}
	return out
}
