package demo

import (
	"context"
	"os"
)

// peopleSteps come last: from the second approver on, much takes two.
var peopleSteps = []step{
	{"For the tide database one person is not enough: a rotation asks, who asks cannot approve, and lifting that takes two as well. In an emergency it begins at once, and everybody is told.", func(ctx context.Context, t *tour) error {
		if err := os.WriteFile(t.File("ola.pw"), []byte("tide-and-fog-over-quay-9\n"), 0o600); err != nil {
			return err
		}
		for _, words := range [][]string{
			{"user", "add", "ola", "--role", "approver", "--password-file", t.File("ola.pw")},
			{"label", "put", "svc_tides", "tides", "--reason", "the boats sail by it"},
			{"requirement", "add", "tides", "--label", "tides"},
		} {
			if _, err := t.run(ctx, 0, words...); err != nil {
				return err
			}
		}
		if err := t.expect(ctx, 0, []string{"a second person is needed, for tides (label tides)", "The rehearsal passed"}, "rotate", "rehearse", "svc_tides"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"moss approval grant 1"}, "rotate", "run", "svc_tides", "--reason", "asked for"); err != nil {
			return err
		}
		if err := t.expect(ctx, 1, []string{"somebody else approves it"}, "approval", "grant", "1", "--yes"); err != nil {
			return err
		}
		if err := t.expect(ctx, 1, []string{"would go round that"}, "custody", "take", "svc_tides", "--reset", "--reason", "past it"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"moss approval grant 2"}, "requirement", "remove", "tides", "--yes"); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"done"}, "rotate", "run", "svc_tides", "--reason", "leaked", "--emergency", "it stands on a public page")
	}},
}
