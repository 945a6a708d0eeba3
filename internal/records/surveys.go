package records

import (
	"time"

	"mossledger.example/moss/internal/connect"
)

// Held says why a scope was not ended although it was read to its end: what
// vanished is a question for a person (law 4).
type Held struct {
	Scope string
	Count int
	Why   string
}

// HeldScope is a scope whose absences wait for a person.
type HeldScope struct {
	SystemID           SystemID
	System, Scope, Why string
	Count              int
}

// Survey is one reading of systems.
type Survey struct {
	ID          SurveyID  `json:"id"`
	State       string    `json:"state" enum:"running,done,cancelled,interrupted"`
	RequestedBy string    `json:"requested_by"`
	Started     time.Time `json:"started"`
	Ended       time.Time `json:"ended,omitzero"`
	Total       int       `json:"total"`
	Done        int       `json:"done"`
	Failed      int       `json:"failed"`
	Added       int       `json:"added"`
	Altered     int       `json:"altered"`
	Vanished    int       `json:"vanished"`
}

// Visit is a system's part of a survey.
type Visit struct {
	ID       VisitID               `json:"id"`
	SurveyID SurveyID              `json:"survey_id"`
	SystemID SystemID              `json:"system_id"`
	System   string                `json:"system"`
	State    string                `json:"state" enum:"waiting,running,done,incomplete,failed,cancelled,interrupted"`
	Stage    string                `json:"stage" doc:"Where it failed"`
	Words    string                `json:"words" doc:"The system's own words"`
	Next     string                `json:"next_step" doc:"What to do next"`
	Stages   []connect.StageResult `json:"stages" nullable:"false"`
	Counts   map[string]int        `json:"counts"`
	Why      map[string]string     `json:"why" doc:"Scopes that were not read completely, and why"`
	Problems []connect.Unread      `json:"problems" nullable:"false"`
	Added    int                   `json:"added"`
	Altered  int                   `json:"altered"`
	Vanished int                   `json:"vanished"`
	Started  time.Time             `json:"started,omitzero"`
	Ended    time.Time             `json:"ended,omitzero"`
	Step     int64                 `json:"step" doc:"Grows with every change of any visit of the survey"`
}
