package directory

import (
	"cmp"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/rights"
)

// Prepare implements connect.Preparer. Which schema it has the last check told; both are
// told where none was made.
func (Connector) Prepare(target connect.Target, known connect.Known) []connect.Preparation {
	return rights.Prepare(cmp.Or(target.Steward.Account, "mossmgr"), target.Name, cmp.Or(target.Options[OptionBase], known.BaseDN), known)
}
