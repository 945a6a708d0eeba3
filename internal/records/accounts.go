package records

import (
	"time"

	"mossledger.example/moss/internal/core/estate"
)

// Account is an account with what the program knows beyond the survey.
type Account struct {
	ID       AccountID `json:"id"`
	SystemID SystemID  `json:"system_id"`
	System   string    `json:"system"`
	Kind     string    `json:"system_kind"`
	estate.Account
	FirstSeen  time.Time `json:"first_seen"`
	Seen       time.Time `json:"seen" doc:"When a survey last saw it"`
	Changed    time.Time `json:"changed" doc:"When a survey last saw it differ"`
	Gone       time.Time `json:"gone,omitzero" doc:"Since when a complete reading no longer shows it"`
	Custody    bool      `json:"custody"`
	Verdict    string    `json:"verdict" doc:"Of the latest verification in custody: accepted, refused, unclear, rests"`
	BuiltIn    bool      `json:"built_in" doc:"A computer, or an account that a system comes with and that nothing is known to use"`
	Dependents int       `json:"dependents"`
	Labels     []string  `json:"labels" nullable:"false" doc:"That are on it, by rules and by hand"`
}

// Managed: its directory makes its password by itself, and nobody needs to know it.
func (a Account) Managed() bool { return a.Type == "managed" }

// ReplacedAccount is an account that took the name of one that vanished.
type ReplacedAccount struct {
	NewID, OldID AccountID
	Name, System string
	Gone, First  time.Time
	Custody      bool // the former one is in custody
}
