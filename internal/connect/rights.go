package connect

import (
	"context"

	"mossledger.example/moss/internal/core/privilege"
)

// ScopeRights is the scope of what was read of rights. It is no part of a visit's other
// scopes: a system whose rights may not be read is known all the same.
const ScopeRights = "rights"

// OptionRights says whether a survey reads rights.
const OptionRights = "rights"

// RightsOption is the option of kinds that tell rights.
var RightsOption = Option{Name: OptionRights, Type: OptionChoice, Choices: []string{"on", "off"}, Default: "on", Help: "off: surveys do not read who may do what", Reading: true}

// Rights are a part of what a system shows of who may do what.
type Rights struct {
	Principals  []privilege.Principal
	Memberships []privilege.Membership
	Lists       []privilege.List // each of them whole
}

// RightsCoverage says how much of the rights was read.
type RightsCoverage struct {
	Complete bool `json:"complete"`
	// Whole: all that is shown was looked at, though it is not all there is. What is not seen
	// any more is gone, as where it is complete.
	Whole bool `json:"whole,omitempty"`
	// Kept are the beginnings of keys of lists that were not looked at this time: what was
	// known of them stays.
	Kept    []string `json:"kept,omitempty"`
	Why     string   `json:"why,omitempty"` // what was not read, and how it would be
	Lists   int      `json:"lists"`
	Entries int      `json:"entries"`
}

// RightsRequest says how to read rights.
type RightsRequest struct {
	// Whole asks also for what takes a question for each thing, and is not asked each time.
	Whole bool `json:"whole"`
}

// RightsReader reads who may do what on a system. emit is called with batches as they are
// read, never concurrently; an error from it ends the reading. What may not be read is a
// problem in a batch and makes the reading incomplete; a Failure is returned when nothing
// could be read.
type RightsReader interface {
	Rights(ctx context.Context, target Target, request RightsRequest, emit func(Batch) error) (RightsCoverage, error)
}

// RightsTaker counts what it hands on.
type RightsTaker struct {
	Emit     func(Batch) error
	Coverage RightsCoverage
}

// Missing notes what was not read; the first reason is that of the coverage.
func (t *RightsTaker) Missing(problems *[]Unread, u Unread) {
	*problems = append(*problems, u)
	if t.Coverage.Why == "" {
		t.Coverage.Why = u.Place + ": " + u.What
	}
}

// Take hands a batch on.
func (t *RightsTaker) Take(r Rights, problems []Unread) error {
	for i := range r.Lists {
		r.Lists[i].Lower()
		t.Coverage.Entries += len(r.Lists[i].Entries)
	}
	t.Coverage.Lists += len(r.Lists)
	t.Coverage.Complete = t.Coverage.Why == ""
	return t.Emit(Batch{Rights: &r, Problems: problems})
}
