package connect

import (
	"context"
	"time"

	"mossledger.example/moss/internal/core/diagnosis"
	"mossledger.example/moss/internal/core/estate"
)

// Record is a line of a system's own log.
type Record struct {
	Time    time.Time      `json:"time"`
	Source  string         `json:"source"`
	Code    int            `json:"code,omitempty"`
	Words   string         `json:"words"`
	Strings []string       `json:"strings,omitempty"`
	By      string         `json:"by,omitempty"`    // who caused it, where the record says so
	Hint    diagnosis.Code `json:"hint,omitempty"`  // the cause that it speaks for
	Of      string         `json:"of,omitempty"`    // of a dependency: its name
	Start   bool           `json:"start,omitempty"` // it says that the dependent was up
}

// Needed is something that a dependent needs before it can start.
type Needed struct {
	Place  estate.Place `json:"place"`
	State  string       `json:"state"`
	RunsAs string       `json:"runs_as,omitempty"`
	Result string       `json:"result,omitempty"`
	Direct bool         `json:"direct"`
}

// Diagnosis is what a system itself says about why a dependent is down.
type Diagnosis struct {
	Dependent estate.Dependent `json:"dependent"`
	Needs     []Needed         `json:"needs,omitempty"` // in start order
	Records   []Record         `json:"records,omitempty"`
	Booted    time.Time        `json:"booted,omitzero"`
	ClockOff  time.Duration    `json:"clock_off,omitempty"` // the system's clock minus ours
}

// Diagnoser reads what a system says about a dependent, without changing
// anything.
type Diagnoser interface {
	Diagnose(ctx context.Context, target Target, place estate.Place) (Diagnosis, error)
}
