package records

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/rotation"
)

// KeyIs says that a file now holds another key, or that a door lets another one
// in.
type KeyIs struct {
	SystemID SystemID
	Path     string
	Door     bool // a file of entries
	From, To credential.Public
	// Begins and Ends are those of the certificate that is there now; zero where none is known.
	Begins, Ends time.Time
}

// Rehearsal is what could be checked before a rotation.
type Rehearsal struct {
	ID           RehearsalID       `json:"id"`
	CredentialID CredentialID      `json:"credential_id"`
	Created      time.Time         `json:"created"`
	CreatedBy    string            `json:"created_by"`
	Plan         rotation.Plan     `json:"plan"`
	Checks       []connect.Checked `json:"checks" nullable:"false"`
	Verdict      string            `json:"verdict" enum:"passed,failed"`
	// Second says why one person is not enough to begin it, and Digest is the mark of what it
	// came to, which is what a second person approves.
	Second []string `json:"-"`
	Digest string   `json:"-"`
}

// Failures are the first lines that kept it from passing, in words.
func (r Rehearsal) Failures() string {
	var out []string
	for _, c := range r.Checks {
		if c.Result == connect.CheckFailed {
			out = append(out, strings.TrimSpace(c.System+": "+c.What+": "+c.Words))
		}
	}
	if len(out) > 3 {
		out = append(out[:3], fmt.Sprintf("and %d more", len(out)-3))
	}
	return strings.Join(out, "; ")
}

// Rotation is one rotation.
type Rotation struct {
	ID             RotationID      `json:"id"`
	CredentialID   CredentialID    `json:"credential_id"`
	CredentialKind credential.Kind `json:"credential_kind" enum:"password,ssh-key,cloud-key,token,api-key,certificate,key-tab"`
	Credential     string          `json:"credential" doc:"Its name"`
	AccountID      AccountID       `json:"account_id,omitempty" doc:"Whose it is; absent for a key that opens several"`
	Authority      string          `json:"authority" doc:"The systems that decide"`
	Plan           rotation.Plan   `json:"plan"`
	Kind           string          `json:"kind" enum:"rotate,assign" doc:"rotate: the credential changes; assign: chosen log-ons get the account"`
	OnFailure      string          `json:"on_failure" enum:"stop,continue,undo"`
	Mode           string          `json:"mode" enum:"running,stopped,undoing,finished"`
	Result         string          `json:"result" enum:"done,done-with-failures,undone,undo-incomplete,"`
	RequestedBy    string          `json:"requested_by"`
	Reason         string          `json:"reason"`
	Override       string          `json:"override" doc:"Why it was started without a rehearsal that passed"`
	Consent        string          `json:"consent,omitempty" doc:"How it came to begin although it needs a second person: who approved it, that nobody else could, or the emergency"`
	RehearsalID    RehearsalID     `json:"rehearsal_id"`
	OldSecret      SecretID        `json:"-"` // the value that was current when it began; 0 when that is not known
	Started        time.Time       `json:"started"`
	Ended          time.Time       `json:"ended,omitzero"`
}

// Next is the credential that gets the new value where two accounts take turns; 0 where it
// is the rotation's own.
func (r Rotation) Next() CredentialID {
	if r.Plan.Turn == nil {
		return 0
	}
	n, _ := strconv.ParseInt(r.Plan.Turn.CredentialID, 10, 64)
	return CredentialID(n)
}

// Look is a later look at a rotation that has ended.
type Look struct {
	RotationID RotationID           `json:"rotation_id"`
	Due        time.Time            `json:"due,omitzero" doc:"When it is looked at again; absent when that is over"`
	Looked     time.Time            `json:"looked,omitzero" doc:"When it was looked at last"`
	Checks     []connect.Checked    `json:"checks" nullable:"false" doc:"What was seen then"`
	Own        map[string]time.Time `json:"-"` // by system: our own latest wrong password there, by its clock
	Refused    []int                `json:"-"` // steps whose former value was found refused
}

// Effects are what a journal record means for the rest of the store.
type Effects struct {
	Settlement *Settlement // of its end
	Copies     []CopyIs    // of a replaced file
	LogOns     []LogOnIs   // of a log-on that was given
	Keys       []KeyIs     // of a key that was replaced, or an entry
}

// LogOnIs says what log-on a dependent was given.
type LogOnIs struct {
	SystemID    SystemID
	Place       estate.Place
	AccountID   AccountID
	Account     string // as it is written there now
	Fingerprint string
}

// CopyIs says what a copy holds now, so that the picture is right without
// reading it again.
type CopyIs struct {
	SystemID    SystemID
	Place       string
	Fingerprint string
}
