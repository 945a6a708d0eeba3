package records

import "time"

// Trace records what the service itself sends to a system, for a time.
type Trace struct {
	ID         TraceID   `json:"id"`
	System     string    `json:"system"`
	SystemID   SystemID  `json:"system_id"`
	Account    string    `json:"account,omitempty" doc:"Only what names this account; all without it"`
	Reason     string    `json:"reason"`
	Started    time.Time `json:"started"`
	StartedBy  string    `json:"started_by"`
	Ends       time.Time `json:"ends" doc:"It ends then by itself"`
	Ended      time.Time `json:"ended,omitzero"`
	EndedBy    string    `json:"ended_by,omitempty" doc:"The service where its time was over"`
	Operations int       `json:"operations"`
	Refused    int       `json:"refused" doc:"Operations that the system says it may not do"`
	Failed     int       `json:"failed" doc:"Operations that failed otherwise"`
	Lost       int       `json:"lost" doc:"Operations that were not kept: there were too many"`
}

// TraceID numbers a Trace.
type TraceID int64

// TracedOperation is one command, query or request.
type TracedOperation struct {
	ID       int64     `json:"id"`
	At       time.Time `json:"at"`
	Protocol string    `json:"protocol" enum:"ssh,ldap,sql,redis,ws-management"`
	Text     string    `json:"text" doc:"As it was sent, secrets left out"`
	Micro    int64     `json:"microseconds" doc:"How long it took"`
	Outcome  string    `json:"outcome" enum:"done,refused,failed"`
	Exit     int       `json:"exit,omitempty" doc:"Exit code, or the protocol's own number"`
	Words    string    `json:"words,omitempty" doc:"What the system said"`
}
