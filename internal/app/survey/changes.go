package survey

import (
	"context"
	"fmt"
	"slices"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/change"
	"mossledger.example/moss/internal/records"
)

// mostFolded is how many changes are put together at once.
const mostFolded = 20_000

// changesKept is how long changes are kept: a year, and the weeks of its review.
const changesKept = 400 * 24 * time.Hour

// Between puts together what became of each thing between two moments: once for each,
// from what it was to what it is. What came and went, or was put back, is left out.
func (surveys *Surveys) Between(ctx context.Context, since, until time.Time, q records.Query) ([]records.SeenChange, error) {
	q.Sort, q.Cursor, q.Limit = "id", "", 1000
	at, out, read := map[string]int{}, []records.SeenChange{}, 0
	for {
		page, err := surveys.store.Changes(ctx, since, until, q)
		if err != nil {
			return nil, err
		}
		if read += len(page.Items); read > mostFolded {
			return nil, fmt.Errorf("%w: more than %d changes between these moments: choose a system, a subject or a shorter time", app.ErrInput, mostFolded)
		}
		for _, v := range page.Items {
			out = fold(out, at, v)
		}
		if q.Cursor = page.Next; q.Cursor == "" {
			break
		}
	}
	out = slices.DeleteFunc(out, func(v records.SeenChange) bool { return v.ID == 0 })
	slices.Reverse(out)
	slices.SortStableFunc(out, func(a, b records.SeenChange) int { return b.At.Compare(a.At) })
	return out, nil
}

// fold adds a change to those of earlier ones; one without a number came to nothing.
func fold(out []records.SeenChange, at map[string]int, v records.SeenChange) []records.SeenChange {
	key := fmt.Sprintf("%s/%d/%d/%s", v.Subject, v.AccountID, v.DependentID, v.System)
	i, known := at[key]
	if !known || out[i].ID == 0 {
		at[key] = len(out)
		return append(out, v)
	}
	what, fields, none := change.Fold(out[i].What, out[i].Fields, v.What, v.Fields)
	if none {
		out[i].ID = 0
		return out
	}
	if out[i].MadeBy != v.MadeBy { // of several hands: not all of it is ours
		v.MadeBy, v.RotationID = records.ByOthers, 0
	}
	v.What, v.Fields, v.Words = what, fields, change.Words(fields)
	if v.Fields == nil {
		v.Fields = []change.Field{}
	}
	out[i] = v
	return out
}
