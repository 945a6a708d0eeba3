package rotation

import (
	"encoding/json"
	"strings"
)

// NoteKind says what a note of a plan is about, so that a rehearsal can judge it.
type NoteKind string

// Kinds of note. NoteInfo is only worth knowing.
const (
	NoteInfo          NoteKind = "info"
	NoteOverlap       NoteKind = "overlap"       // both values are accepted for a time
	NoteLatent        NoteKind = "latent"        // something runs on with the old value
	NoteIrreplaceable NoteKind = "irreplaceable" // a copy that cannot be changed where it stands
	NoteDoubtful      NoteKind = "doubtful"      // it may be no copy
	NoteLeft          NoteKind = "left"          // a person decided that a copy stays
	NoteByHand        NoteKind = "by-hand"       // nothing would start a program anew
	NoteExposed       NoteKind = "exposed"       // others may read what is written
	NoteUnexplained   NoteKind = "unexplained"   // where a program gets the value is not known
	NoteOutOfReach    NoteKind = "out-of-reach"  // a holder cannot be given the new value
	NoteAmbiguous     NoteKind = "ambiguous"     // whose copy it is cannot be told
	NoteAcceptor      NoteKind = "acceptor"      // a program accepts tickets with a key that will not be made anew
	NoteWay           NoteKind = "way"           // the way that is asked for cannot be gone
	NoteWindow        NoteKind = "window"        // a window that it waits for does not open any more
	NoteAlone         NoteKind = "left-alone"    // it names the account, and is not the value in custody
)

// Note is what a person should know of a plan before saying yes.
type Note struct {
	Kind NoteKind `json:"kind" enum:"info,overlap,latent,irreplaceable,doubtful,left,by-hand,exposed,unexplained,out-of-reach,ambiguous,acceptor,way,window,left-alone"`
	Text string   `json:"text"`
}

// String is the note in words.
func (n Note) String() string {
	if n.Kind == NoteInfo || n.Kind == NoteAlone {
		return n.Text
	}
	return strings.ReplaceAll(string(n.Kind), "-", " ") + ": " + n.Text
}

// UnmarshalJSON also takes the plain text of plans that were kept before notes had
// a kind.
func (n *Note) UnmarshalJSON(raw []byte) error {
	var text string
	if json.Unmarshal(raw, &text) == nil {
		n.Kind, n.Text = NoteInfo, text
		return nil
	}
	type plain Note
	return json.Unmarshal(raw, (*plain)(n))
}
