package connect

import (
	"context"

	"mossledger.example/moss/internal/core/expiry"
)

// Ending is how something that can end stands on its system, and what a change of its end
// would do: all of it is read and computed, nothing is changed.
type Ending struct {
	// Standing's There says that it is as the change wants it, InForce that the system
	// refuses it now.
	Standing
	Now  expiry.End `json:"now"`  // as its system has it
	Will expiry.End `json:"will"` // as the system would keep what is asked for: some keep days only
	// Sights are what holders see once it has ended, or is disabled or gone, by the way in
	// which they use it; when Will is to come, at that moment.
	Sights []expiry.Sight `json:"sights,omitempty"`
	Final  string         `json:"final,omitempty"` // why it cannot be undone; "" when it can
	Also   []string       `json:"also,omitempty"`  // what a person should know besides
}

// Ender decides when what a system accepts ends. Which acts it has about what, its
// description says (Ends).
//
// Ending reads, and changes nothing. End makes one change, and only that; with back it puts
// back what stood before, which the change's Former says. What is so already is no failure,
// and what somebody else wrote since is not overwritten.
type Ender interface {
	Ending(ctx context.Context, target Target, change expiry.EndChange) (Ending, error)
	End(ctx context.Context, target Target, change expiry.EndChange, back bool) error
}

// Endable refuses a change that systems of a kind do not offer.
func Endable(c Connector, target Target, change expiry.EndChange) *Failure {
	if _, err := expiry.Choose(c.Describe().Ends, change.Act, change.Of); err != nil {
		return target.Fail(StageChange, CodeCannot, change.Words()+": "+err.Error(), "'moss system kinds "+string(target.Kind)+"' says what it offers", err)
	}
	return nil
}

// Since is what a connector says that did not find what it changed as it left it.
func (t Target) Since(change expiry.EndChange, words string) *Failure {
	return t.Fail(StageChange, CodeFailed, change.Thing()+" is not as it was left: "+words, "somebody else changed it since: look at it, and decide by hand", nil)
}

// Due says whether a change, or with back its taking back, has to be made, given how things
// stand. What is so is left; what somebody else changed since is not taken back.
func (t Target) Due(change expiry.EndChange, is Ending, back bool) (bool, error) {
	switch {
	case !back:
		return !is.There, nil
	case is.Final != "":
		return false, t.Fail(StageChange, CodeCannot, is.Final, "", nil)
	case is.There:
		return true, nil
	case is.Former == change.Former:
		return false, nil
	}
	return false, t.Since(change, is.Words)
}
