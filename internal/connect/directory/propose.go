package directory

import (
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/rights"
	"mossledger.example/moss/internal/core/privilege"
)

// Propose implements connect.Proposer.
func (Connector) Propose(target connect.Target, c privilege.RightChange) (connect.Proposal, string) {
	return rights.Propose(target.Name, c)
}
