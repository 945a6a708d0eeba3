package records

import (
	"time"

	"mossledger.example/moss/internal/core/risk"
)

// Risk is how much an account matters.
type Risk struct {
	AccountID AccountID `json:"account_id"`
	Account   string    `json:"account"`
	System    string    `json:"system"`
	SystemID  SystemID  `json:"system_id"`
	Kind      string    `json:"system_kind"`
	Custody   bool      `json:"custody"`
	risk.Score
	Words string    `json:"words" doc:"What the score is made of, in one line: power | weakness"`
	Since time.Time `json:"since" doc:"When the score was first seen to be this"`
}

// RiskFacts are what is known of one account beside its rights.
type RiskFacts struct {
	Account
	Hosts    int      // systems of what depends on it
	Findings []string // kinds of findings about it, or about what it is tied to
}
