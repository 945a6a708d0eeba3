package service

import "mossledger.example/moss/internal/records"

// Waiting is the answer of an act that somebody else has to approve first.
type Waiting struct {
	Approval records.ApprovalID `json:"waits_for_approval,omitempty" doc:"Number of the approval that it waits for; absent when it was done at once"`
}
