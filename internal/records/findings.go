package records

import "time"

// Finding is something that needs a person.
type Finding struct {
	ID           FindingID    `json:"id"`
	Key          string       `json:"key" doc:"What makes it the same finding the next time"`
	Kind         string       `json:"kind"`
	Severity     string       `json:"severity" enum:"high,medium,low"`
	Subject      string       `json:"subject"`
	System       string       `json:"system"`
	AccountID    AccountID    `json:"account_id,omitempty"`
	DependentID  DependentID  `json:"dependent_id,omitempty"`
	CredentialID CredentialID `json:"credential_id,omitempty"`
	What         string       `json:"what"`
	Next         string       `json:"next_step"`
	Raised       time.Time    `json:"raised" doc:"Since when it has been open"`
	First        time.Time    `json:"first_raised" doc:"When it was raised for the first time, however often it cleared since"`
	Seen         time.Time    `json:"seen"`
	Cleared      time.Time    `json:"cleared,omitzero"`
}
