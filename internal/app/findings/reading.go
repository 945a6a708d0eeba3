package findings

import (
	"context"
	"fmt"

	"mossledger.example/moss/internal/records"
)

func readSystems(ctx context.Context, from Store, s *EstateSnapshot) (err error) {
	s.Systems, err = from.AllSystems(ctx)
	return err
}

// unreadSystems: systems that were not read, or not completely.
func unreadSystems(s *EstateSnapshot) []records.Finding {
	var out []records.Finding
	for _, v := range s.Systems {
		if v.State != "failed" && v.State != "incomplete" {
			continue
		}
		f := records.Finding{Key: fmt.Sprintf("reach/%d", v.ID), Kind: "unread-system", Severity: "medium", Subject: v.Name, System: v.Name, What: v.StateWords, Next: "run 'moss system check " + v.Name + "'"}
		if v.State == "incomplete" {
			f.Severity, f.What = "low", "not read completely: "+v.StateWords
		}
		out = append(out, f)
	}
	return out
}

func readHeld(ctx context.Context, from Store, s *EstateSnapshot) (err error) {
	s.Held, err = from.HeldScopes(ctx)
	return err
}

// absences: many vanished at once, which is a question for a person (law 4).
func absences(s *EstateSnapshot) []records.Finding {
	var out []records.Finding
	for _, h := range s.Held {
		out = append(out, records.Finding{
			Key: fmt.Sprintf("absence/%d/%s", h.SystemID, h.Scope), Kind: "absence", Severity: "high", Subject: h.Scope, System: h.System, What: h.Why,
			Next: "look at the rights of the steward there; if they are really gone: 'moss system confirm-absence " + h.System + "'",
		})
	}
	return out
}
