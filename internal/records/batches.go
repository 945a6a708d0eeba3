package records

import (
	"encoding/json"
	"time"
)

// States of a batch.
const (
	BatchRehearsing = "rehearsing"
	BatchRehearsed  = "rehearsed" // it waits to be started
	BatchRunning    = "running"
	BatchStopped    = "stopped" // by a person: what had not begun does not
	BatchDone       = "done"
)

// Batch is rotations that were asked for together.
type Batch struct {
	ID          BatchID         `json:"id"`
	RequestedBy string          `json:"requested_by"`
	Reason      string          `json:"reason"`
	Chosen      string          `json:"chosen" doc:"How they were chosen, in words"`
	Wish        json.RawMessage `json:"-"`
	AtOnce      int             `json:"at_once" doc:"So many rotations run at the same time"`
	State       string          `json:"state" enum:"rehearsing,rehearsed,running,stopped,done"`
	Despite     bool            `json:"despite_failures" doc:"It was started although some rehearsals did not pass"`
	Created     time.Time       `json:"created"`
	Ended       time.Time       `json:"ended,omitzero"`
	Total       int             `json:"total"`
	Waiting     int             `json:"waiting" doc:"Not rehearsed yet"`
	Ready       int             `json:"ready" doc:"Whose rehearsal passed"`
	Blocked     int             `json:"blocked" doc:"Whose rehearsal did not pass"`
	Rotating    int             `json:"rotating"`
	Done        int             `json:"done"`
	Second      int             `json:"second" doc:"For which one person is not enough, as their rehearsals say"`
	Given       int             `json:"given" doc:"Whose new value a person gave"`
	Consent     string          `json:"consent,omitempty" doc:"Who approved it as a whole, where one person is not enough"`
	Failed      int             `json:"failed" doc:"Rotated otherwise than asked: undone, stopped, or with failures"`
}

// States of an item of a batch.
const (
	ItemWaiting  = "waiting"
	ItemReady    = "ready"
	ItemBlocked  = "blocked"
	ItemRotating = "rotating"
	ItemDone     = "done"
	ItemFailed   = "failed"
)

// BatchItem is one of its rotations.
type BatchItem struct {
	BatchID      BatchID      `json:"-"`
	Position     int          `json:"position"`
	CredentialID CredentialID `json:"credential_id"`
	Credential   string       `json:"credential"`
	AccountID    AccountID    `json:"account_id,omitempty"`
	System       string       `json:"system,omitempty"`
	State        string       `json:"state" enum:"waiting,ready,blocked,rotating,done,failed"`
	Words        string       `json:"words,omitempty"`
	Restarts     int          `json:"restarts" doc:"Dependents that it restarts"`
	Behind       []string     `json:"behind" nullable:"false" doc:"Credentials of the batch that restart or write the same: one comes after the other"`
	RotationID   RotationID   `json:"rotation_id,omitempty"`
	Second       []string     `json:"second" nullable:"false" doc:"Why one person is not enough to begin it"`
	Given        string       `json:"-"` // fingerprint of the value that a person gave for it; "" when one is made
	Digest       string       `json:"-"` // of what its rehearsal came to
}
