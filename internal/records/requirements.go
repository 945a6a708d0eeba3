package records

import "time"

// Requirement says for which rotations a second person is needed. All that it says must
// hold.
type Requirement struct {
	ID          RequirementID `json:"id"`
	Name        string        `json:"name"`
	Label       string        `json:"label" doc:"Of the accounts that it is for; empty for all"`
	Restarts    int           `json:"restarts" doc:"At least so many dependents are restarted; 0 for any number"`
	Kinds       []string      `json:"kinds" nullable:"false" doc:"Kinds of dependents that are counted; all when empty"`
	Unread      bool          `json:"unread" doc:"Systems could not be read completely: something there may use the account"`
	Hours       int           `json:"hours" doc:"For so long a request waits; then it is asked again"`
	Description string        `json:"description,omitempty"`
	Revision    int64         `json:"revision"`
	Changed     time.Time     `json:"changed"`
	ChangedBy   string        `json:"changed_by"`
}
