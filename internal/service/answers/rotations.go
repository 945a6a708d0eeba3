package answers

import (
	"time"

	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// JournalRecord is a journal record with the title of its step.
type JournalRecord struct {
	rotation.Record
	Title string `json:"title"`
}

// Titled are records with the titles of their steps.
func Titled(plan rotation.Plan, records []rotation.Record) []JournalRecord {
	out := make([]JournalRecord, len(records))
	for i, r := range records {
		out[i] = JournalRecord{Record: r}
		if r.Step >= 0 && r.Step < len(plan.Steps) {
			out[i].Title = plan.Steps[r.Step].Title()
			if r.Event == rotation.EventReached {
				out[i].Title = "reach " + plan.Steps[r.Step].System
			}
			if r.Undo {
				out[i].Title = plan.Steps[r.Step].UndoTitle()
			}
		}
	}
	return out
}

// RotationWaits is what a rotation waits for that is no system.
type RotationWaits struct {
	Window string    `json:"window,omitempty" doc:"Everything that is left waits for this window"`
	Until  time.Time `json:"until,omitzero" doc:"When that opens"`
	Frozen string    `json:"frozen,omitempty" doc:"By whom and why everything is frozen, where it waits for that"`
}

// Waits says what a rotation waits for.
func Waits(state rotation.State, freeze records.Freeze, now time.Time) (out RotationWaits) {
	out.Window, out.Until = state.WaitsFor(now)
	if freeze.Frozen && state.Mode == rotation.ModeForward && state.Safe() {
		out.Frozen = "everything is frozen by " + freeze.By + ": " + freeze.Reason
	}
	return out
}
