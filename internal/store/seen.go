package store

import (
	"time"

	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/changes"
)

// NewSeen makes an empty one.
func NewSeen() *Seen { return &Seen{bits: map[int64]uint64{}} }

// Seen remembers which rows of a scope a visit saw, one bit a row, and what it is that
// looks.
type Seen struct {
	changes.Look

	bits  map[int64]uint64
	asked bool
	fresh bool // there was nothing before this visit
}

func (s *Seen) add(id int64) { s.bits[id>>6] |= 1 << (id & 63) }

func (s *Seen) has(id int64) bool { return s.bits[id>>6]>>(id&63)&1 == 1 }

// By says which survey looks, and by what sight.
func (s *Seen) By(survey records.SurveyID, sight string) *Seen {
	s.Look = changes.Look{Survey: survey, Sight: sight}
	return s
}

// ScopeEnd says how the reading of a scope ended, and which rows belong to it.
type ScopeEnd struct {
	Scope, Table, Condition string
	Complete                bool
	Why                     string // when it is not complete
	Seen                    *Seen
	// Sight is what the reading depended on beside the system: log-on, base,
	// options. Another one sees other things.
	Sight string
	// Begun is when it was settled what the reading looks for.
	Begun time.Time
	// Fleeting things come and go: many at once are no question.
	Fleeting bool
	// Stays are rows that were not seen, and were found to be there all the same.
	Stays map[int64]bool
}
