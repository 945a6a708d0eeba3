package records

import (
	"time"

	"mossledger.example/moss/internal/core/expiry"
)

// EndID numbers an EndRow.
type EndID int64

// EndRow is when one thing ends: a password, an account, a role, a key, a certificate, what is given for a while.
type EndRow struct {
	ID          EndID        `json:"id"`
	What        expiry.What  `json:"what" enum:"password,account,role,token,key,certificate,membership,right"`
	Name        string       `json:"name" doc:"Of the account, or of the key or certificate; of what is given for a while: to whom"`
	System      string       `json:"system"`
	SystemID    SystemID     `json:"system_id"`
	Kind        string       `json:"system_kind"`
	AccountID   AccountID    `json:"account_id,omitempty"`
	DependentID DependentID  `json:"dependent_id,omitempty" doc:"Of a key or certificate: where it stands"`
	Place       string       `json:"place,omitempty" doc:"Of a key or certificate: where it stands; of a membership: the group; of a right: what may be done"`
	State       expiry.State `json:"state" enum:"ends,ended,never,unknown" doc:"ended: it is refused already, whatever the clock says"`
	At          time.Time    `json:"at,omitzero"`
	Left        string       `json:"left" doc:"In words"`
	Why         string       `json:"why,omitempty" doc:"Of unknown; of ended how that is known"`
	Live        bool         `json:"live" doc:"The account is enabled, and none of a computer or of the system itself"`
	Dependents  int          `json:"dependents" doc:"How many use the account"`
	Labels      []string     `json:"labels" nullable:"false"`
}

// EndsPart is how many end in one part of a timeline.
type EndsPart struct {
	Part  expiry.Part `json:"part" enum:"past,7,30,90,later,never,unknown" doc:"past: it has ended; 7, 30, 90: within so many days"`
	What  expiry.What `json:"what" enum:"password,account,role,token,key,certificate,membership,right"`
	Live  bool        `json:"live"`
	Count int         `json:"count"`
}

// EndsDay is how many end on one day.
type EndsDay struct {
	Day   string      `json:"day" doc:"In UTC: 2026-12-24"`
	What  expiry.What `json:"what" enum:"password,account,role,token,key,certificate,membership,right"`
	Live  bool        `json:"live"`
	Count int         `json:"count"`
}
