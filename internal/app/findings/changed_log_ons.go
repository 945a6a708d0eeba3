package findings

import (
	"fmt"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/change"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/records"
)

// swappedFor is how long a log-on that somebody changed is a finding: long enough for
// the people of a week of leave.
const swappedFor = 14 * 24 * time.Hour

// changedLogOns: what runs as another account than before, and nobody here did it. One
// that was put back is none.
func changedLogOns(s *SystemSnapshot) []records.Finding {
	present := make(map[records.DependentID]records.Dependent, len(s.Dependents))
	for _, d := range s.Dependents {
		present[d.ID] = d
	}
	// The latest stands first: the account of before is that of the earliest.
	latest, first := map[records.DependentID]records.SeenChange{}, map[records.DependentID]string{}
	var order []records.DependentID
	for _, v := range s.Swapped {
		if _, known := latest[v.DependentID]; !known {
			latest[v.DependentID] = v
			order = append(order, v.DependentID)
		}
		for _, f := range v.Fields {
			if f.Name == change.FieldRunsAs {
				first[v.DependentID] = f.From
			}
		}
	}
	var out []records.Finding
	for _, id := range order {
		d, there := present[id]
		was := first[id]
		if !there || d.RunsAs == was || naming.IdentityOf(was) != estate.IdentityNamed && naming.IdentityOf(d.RunsAs) != estate.IdentityNamed {
			continue
		}
		out = append(out, s.found(d, records.Finding{
			Kind: "log-on-changed", Severity: "medium",
			What: fmt.Sprintf("it runs as %s; before it ran as %s, and no rotation changed that: seen %s", named(d.RunsAs), named(was), app.Day(latest[id].At)) + afterColon(latest[id].ByWhom),
			Next: fmt.Sprintf("ask whoever keeps the system; 'moss change show %d' has what was seen. It is told for 14 days, or until it is as before", latest[id].ID),
		}))
	}
	return out
}

func named(account string) string {
	if account == "" {
		return "nobody named"
	}
	return account
}

func afterColon(words string) string {
	if words == "" {
		return ""
	}
	return "; " + words
}
