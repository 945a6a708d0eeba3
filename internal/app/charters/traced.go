package charters

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/core/least"
	"mossledger.example/moss/internal/records"
)

// mostRead is how many operations of a trace are read for a draft.
const mostRead = 50_000

// fromTraces reads what was sent, and adds what that takes. What was refused takes a right, too:
// the one that is missing.
func (charters *Charters) fromTraces(ctx context.Context, d *charter.Document, traces []records.TraceID, out *records.CharterDraft) error {
	var operations []least.Operation
	var of []string
	for _, id := range traces {
		v, err := charters.store.Trace(ctx, id)
		if err != nil {
			return err
		}
		system, err := charters.store.SystemByID(ctx, v.SystemID)
		if err != nil {
			return err
		}
		of = append(of, fmt.Sprintf("trace %d of %s", v.ID, v.System))
		database := ""
		if system.Kind == "postgresql" {
			database = "postgres"
			if named := system.Options["database"]; named != "" {
				database = named
			}
		}
		q := records.Query{Sort: "id", Limit: page}
		for {
			list, err := charters.store.Operations(ctx, id, q)
			if err != nil {
				return err
			}
			for _, o := range list.Items {
				if o.Outcome == "done" || o.Outcome == "refused" {
					operations = append(operations, least.Operation{Protocol: o.Protocol, Kind: system.Kind, Text: o.Text, Database: database})
				}
			}
			if list.Next == "" {
				break
			}
			if len(operations) >= mostRead {
				out.NotRead = append(out.NotRead, fmt.Sprintf("more than %d operations: those after the first were left out", mostRead))
				break
			}
			q.Cursor = list.Next
		}
		if v.Lost > 0 {
			out.NotRead = append(out.NotRead, fmt.Sprintf("trace %d lost %d operations: there were too many", v.ID, v.Lost))
		}
	}
	items, unread := least.Read(operations)
	out.NotRead = append(out.NotRead, unread...)
	words := strings.Join(of, ", ")
	if len(d.Must) == 0 && len(d.May) == 0 {
		*d = *least.Charter(d.Name, words, items)
		if len(items) == 0 {
			why := "nothing was sent, or only what everyone may"
			if len(out.NotRead) > 0 {
				why = strings.Join(out.NotRead[:min(len(out.NotRead), 3)], "; ")
			}
			return fmt.Errorf("%w: nothing that %s has takes a right that a charter could give: %s", app.ErrRefused, words, why)
		}
		return nil
	}
	d.Description += " And from " + words + "."
	for _, i := range items {
		if !slices.ContainsFunc(d.Must, func(has charter.Item) bool { return has.Words() == i.Words() }) && len(d.Must) < 200 {
			d.Must = append(d.Must, i)
		}
	}
	return nil
}
