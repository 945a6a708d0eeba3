package records

import (
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/rotation"
)

// Amendment is a set of changes of rights, or of when something ends: rehearsed, approved by a
// second person where that is needed, and carried out by the engine of rotations.
type Amendment struct {
	ID          AmendmentID       `json:"id"`
	Charter     string            `json:"charter,omitempty" doc:"That proposes it; absent where it is about ends"`
	Subject     string            `json:"subject" doc:"The accounts that it is about"`
	Changes     int               `json:"changes"`
	Plan        rotation.Plan     `json:"plan"`
	Checks      []connect.Checked `json:"checks" nullable:"false"`
	Verdict     string            `json:"verdict" enum:"passed,failed" doc:"Of the rehearsal"`
	LeftOut     []string          `json:"left_out" nullable:"false" doc:"What a person has to do, and why"`
	Rehearsed   time.Time         `json:"rehearsed"`
	RehearsedBy string            `json:"rehearsed_by"`
	Mode        string            `json:"mode" enum:"rehearsed,running,undoing,stopped,finished"`
	Result      string            `json:"result,omitempty" enum:"done,done-with-failures,undone,undo-incomplete"`
	RequestedBy string            `json:"requested_by,omitempty"`
	Reason      string            `json:"reason,omitempty"`
	Consent     string            `json:"consent,omitempty" doc:"By whom it was approved, or why nobody had to"`
	ApprovalID  ApprovalID        `json:"approval_id,omitempty" doc:"That it waits for, or was started by"`
	Started     time.Time         `json:"started,omitzero"`
	Ended       time.Time         `json:"ended,omitzero"`
}

// AmendmentID numbers an Amendment.
type AmendmentID int64

// ModeRehearsed is where an amendment stands that was not started.
const ModeRehearsed = "rehearsed"

// AmendmentStep is one step of an amendment, as it stands.
type AmendmentStep struct {
	Index  int       `json:"index"`
	Kind   string    `json:"kind" enum:"give,take,end,confirm"`
	System string    `json:"system"`
	Title  string    `json:"title"`
	Status string    `json:"status" doc:"As of steps of rotations"`
	Words  string    `json:"words,omitempty" doc:"The system's own"`
	Since  time.Time `json:"away_since,omitzero" doc:"Since when its system is away and waited for"`
}

// AmendmentView is an amendment with its steps and what may be decided of it.
type AmendmentView struct {
	Amendment
	Steps     []AmendmentStep `json:"steps" nullable:"false"`
	Decisions []string        `json:"decisions" nullable:"false" doc:"What it takes now"`
	Halted    string          `json:"halted,omitempty" doc:"Why it does not go on now"`
	Watches   time.Time       `json:"watches_until,omitzero" doc:"Until when nothing happens but watching"`
}
