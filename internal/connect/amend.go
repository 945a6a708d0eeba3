package connect

import (
	"context"

	"mossledger.example/moss/internal/core/privilege"
)

// Standing is what a system itself says of one right or membership.
type Standing struct {
	There   bool   `json:"there"`    // the entry is there by itself: of a membership, a direct one
	InForce bool   `json:"in_force"` // by the system's own verdict the account has it, whatever gives it
	Words   string `json:"words"`    // how it stands, in the system's own words
	// Former is how an entry stands that has more to it than the change says, such as the
	// right to give it on. Taken back with it as the change's Text, it is as it was.
	Former string `json:"former,omitempty"`
}

// Amender changes rights one by one. Which it can, Propose says (ByHand).
//
// Standing reads, and changes nothing. Amend makes one change, and only that, or with back
// takes back what it made: what stands there already is no failure, and what somebody else
// wrote since is not overwritten.
type Amender interface {
	Standing(ctx context.Context, target Target, change privilege.RightChange) (Standing, error)
	Amend(ctx context.Context, target Target, change privilege.RightChange, back bool) error
}

// Amendable is the proposal of a change that can be carried out from here, or why it cannot.
func Amendable(c Connector, target Target, change privilege.RightChange) (Proposal, *Failure) {
	p, why := c.Propose(target, change)
	switch {
	case !c.Describe().Can(ActAmend):
		why = "rights on systems of this kind are not changed from here"
	case why == "" && p.ByHand != "":
		why = p.ByHand
	}
	if why != "" {
		return p, target.Fail(StageChange, CodeCannot, change.Words()+": "+why, "its owner changes it, and a survey sees it", nil)
	}
	return p, nil
}
