package records

import (
	"time"

	"mossledger.example/moss/internal/core/change"
)

// SeenChange is what became of one thing, seen by a survey or made by a rotation.
type SeenChange struct {
	ID          ChangeID       `json:"id"`
	At          time.Time      `json:"at" doc:"When it was seen or made; the change itself lies between this look and the one before"`
	Subject     string         `json:"subject" enum:"account,dependent,system"`
	What        change.What    `json:"what" enum:"new,changed,gone,back"`
	Name        string         `json:"name" doc:"Of the account, the system, or the dependent's place"`
	Kind        string         `json:"kind" doc:"Type of the account, kind of the dependent or of the system"`
	System      string         `json:"system"`
	SystemID    SystemID       `json:"system_id,omitempty" doc:"0 when the system was removed"`
	AccountID   AccountID      `json:"account_id,omitempty"`
	DependentID DependentID    `json:"dependent_id,omitempty"`
	MadeBy      string         `json:"made_by" enum:"moss-ledger,others,people" doc:"moss-ledger: by a rotation, a reset or a rule; people: by somebody here, see the ledger; others: outside of Moss Ledger"`
	RotationID  RotationID     `json:"rotation_id,omitempty"`
	SurveyID    SurveyID       `json:"survey_id,omitempty" doc:"Which survey saw it"`
	Fields      []change.Field `json:"fields" nullable:"false"`
	Custody     bool           `json:"custody" doc:"The account is in custody now"`
	Words       string         `json:"words" doc:"The fields in words"`

	Witnesses *change.Witnesses `json:"witnesses,omitempty" doc:"What the system's own log tells of who was there and who did something to the account; absent where none was read, or Moss Ledger made the change"`
	ByWhom    string            `json:"by_whom,omitempty" doc:"That in words"`
}

// Who changed something.
const (
	ByMossLedger = "moss-ledger"
	ByOthers     = "others"
	ByPeople     = "people"
)

// Subjects of changes.
const (
	SubjectAccount   = "account"
	SubjectDependent = "dependent"
	SubjectSystem    = "system"
)

// Unwitnessed is a change of which nobody has asked yet who made it.
type Unwitnessed struct {
	ID    ChangeID
	Since time.Time // when the look before began
	Names []string  // of the account that changed; none for another thing
}
