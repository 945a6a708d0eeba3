package picture

import (
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/records"
)

// strongest is the tie of a dependent to an account that decides: what is
// configured or held counts before what was seen or said.
func strongest(d records.Dependent, account records.AccountID) records.Tie {
	var out records.Tie
	for _, t := range d.Ties {
		if t.AccountID == account && (out.Strength == "" || rank[estate.Evidence(t.Evidence)] < rank[estate.Evidence(out.Evidence)]) {
			out = t
		}
	}
	return out
}

var rank = map[estate.Evidence]int{estate.Configured: 0, estate.Held: 1, estate.Observed: 2, estate.Declared: 3}

// DetailFor is the detail of the tie that decides.
func DetailFor(d records.Dependent, account records.AccountID) string {
	return strongest(d, account).Detail
}

// StrengthFor is the strength of the tie that decides; "" without one.
func StrengthFor(d records.Dependent, account records.AccountID) string {
	return strongest(d, account).Strength
}

// LocatorOf says where in its file a copy stands.
func LocatorOf(d records.Dependent) held.Locator {
	return held.Locator{Layout: layout.Layout(d.Copy.Format), Key: d.Copy.Key, Nth: d.Copy.Nth, Part: d.Copy.Part}
}
