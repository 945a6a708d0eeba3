package rotate

import (
	"fmt"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/store"
)

// Notes of a plan that begin with one of these words are more than worth
// knowing: a rehearsal judges them.
var judgedNotes = []struct{ word, what, result, next string }{
	{"irreplaceable: ", "every copy can be replaced", connect.CheckFailed, "change it by hand before, or decide to leave it: 'moss dependent decide ID --leave --reason ...'; its number is in 'moss dependent list --account'"},
	{"doubtful: ", "every copy is known to be one", connect.CheckFailed, "decide whether it is: 'moss dependent decide ID --replace', or '--leave', with a reason"},
	{"left: ", "every copy is replaced", connect.CheckWarning, "what still reads it is refused afterwards"},
	{"latent: ", "everything runs with the new value afterwards", connect.CheckWarning, "this is a latent breakage from then on: it is listed under findings until the restart"},
	{"by hand: ", "every program is started by its system", connect.CheckWarning, "find who started it; better, make it a unit"},
	{"exposed: ", "only its owner reads the new key", connect.CheckWarning, "chmod 600 it first: a rotation leaves modes as they are"},
	{"unexplained: ", "where every program gets the value is known", connect.CheckWarning, "find that place before you rotate: it keeps the old value"},
	{"out of reach: ", "every holder gets the new key", connect.CheckFailed, "it would be locked out when the old key is removed: replace it there by hand first, or remove it"},
	{"ambiguous: ", "every copy belongs to one account", connect.CheckFailed, "write the account's name beside it, or give the other account a password of its own first"},
}

// noteChecks are the lines of a rehearsal that follow from a plan's notes.
func noteChecks(system string, notes []string) []connect.Checked {
	var out []connect.Checked
	for _, judged := range judgedNotes {
		for _, note := range notes {
			if text, found := strings.CutPrefix(note, judged.word); found {
				out = append(out, connect.Checked{System: system, What: judged.what, Result: judged.result, Words: text, Next: judged.next})
			}
		}
	}
	for _, note := range notes {
		if strings.Contains(note, " is left alone: ") {
			out = append(out, connect.Checked{System: system, What: "every copy that names the account is the current value", Result: connect.CheckWarning, Words: note, Next: "if something still reads it, it is refused already, or the picture is old: survey that system"})
		}
	}
	return out
}

// ambiguousNote begins with a word that checks look for.
func ambiguousNote(d store.Dependent) string {
	return fmt.Sprintf("ambiguous: %s on %s holds the current value, but does not say whose it is", d.Place, d.System)
}
