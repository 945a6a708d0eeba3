package records

import (
	"time"

	"mossledger.example/moss/internal/core/proving"
)

// CharterProof is an experiment: which of the rights that a charter gives does a job need?
type CharterProof struct {
	ID          ProofID        `json:"id"`
	Charter     string         `json:"charter"`
	Version     int64          `json:"version" doc:"Of the charter"`
	AccountID   AccountID      `json:"account_id" doc:"The scratch account that it is tried with"`
	Account     string         `json:"account"`
	System      string         `json:"system"`
	SystemID    SystemID       `json:"system_id"`
	Job         []string       `json:"job" nullable:"false" doc:"Its steps"`
	Rights      []string       `json:"rights" nullable:"false" doc:"That are given for it, and taken away in turn"`
	Beside      []string       `json:"beside" nullable:"false" doc:"What the account has beside them: with it a job may work without what others would need"`
	Reason      string         `json:"reason"`
	AmendmentID AmendmentID    `json:"amendment_id" doc:"By which they are given, and taken back at the end"`
	State       string         `json:"state" enum:"waits,running,finished,stopped" doc:"waits: for a second person"`
	Words       string         `json:"words,omitempty" doc:"Why it stopped"`
	Verdict     string         `json:"verdict,omitempty" enum:"minimal,too-much,too-little,unproven"`
	Report      proving.Report `json:"report"`
	Created     time.Time      `json:"created"`
	CreatedBy   string         `json:"created_by"`
	Ended       time.Time      `json:"ended,omitzero"`
}

// ProofID numbers a CharterProof.
type ProofID int64

// States of proofs.
const (
	ProofWaits    = "waits"
	ProofRunning  = "running"
	ProofFinished = "finished"
	ProofStopped  = "stopped"
)

// Judge says what the report comes to.
func (p *CharterProof) Judge() {
	switch {
	case p.State != ProofFinished:
	case p.Report.Minimal:
		p.Verdict = "minimal"
	case !p.Report.Sufficient:
		p.Verdict = "too-little"
		if len(p.Report.Items) > 0 {
			p.Verdict = "unproven"
		}
	default:
		p.Verdict = "unproven"
		for _, item := range p.Report.Items {
			if item.Verdict == proving.Unneeded {
				p.Verdict = "too-much"
			}
		}
	}
}
