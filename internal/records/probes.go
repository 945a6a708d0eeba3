package records

import (
	"time"

	"mossledger.example/moss/internal/core/reach"
)

// Probe is what a port answered.
type Probe struct {
	ID       ProbeID       `json:"id"`
	At       time.Time     `json:"at"`
	AskedBy  string        `json:"asked_by"`
	From     string        `json:"from" doc:"The system that it was asked from; empty for the service itself"`
	SystemID SystemID      `json:"system_id,omitempty"`
	Target   string        `json:"target"`
	Outcome  reach.Outcome `json:"outcome" enum:"open,refused,filtered,no-address,no-route,hangs,wrong-answer,certificate,proxy,not-probed"`
	Was      reach.Outcome `json:"was,omitempty" doc:"What it was the time before, where it was otherwise"`
	Words    string        `json:"words"`
	ProbeDetail
}

// ProbeID numbers a Probe.
type ProbeID int64

// ProbeDetail is what explains it.
type ProbeDetail struct {
	Next     string            `json:"next,omitempty" doc:"What to look at next"`
	Between  string            `json:"between,omitempty" doc:"What stands in between, where that shows"`
	Status   int               `json:"status,omitempty" doc:"That was expected"`
	Contains string            `json:"contains,omitempty" doc:"What was expected in the answer"`
	Proxy    string            `json:"proxy,omitempty" doc:"That was asked through"`
	Steps    []reach.ProbeStep `json:"steps" nullable:"false"`
}
