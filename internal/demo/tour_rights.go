package demo

import (
	"context"
	"maps"
	"slices"

	"mossledger.example/moss/internal/standin/larkmoor"
)

// charterSteps say what accounts of some roles need: labels, and the charters for them.
func charterSteps(d *Demo) (out [][]string) {
	for _, label := range slices.Sorted(maps.Keys(larkmoor.Labelled)) {
		for _, account := range larkmoor.Labelled[label] {
			out = append(out, []string{"label", "put", account, label, "--reason", "its role"})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(larkmoor.Charters)) {
		out = append(out, []string{"charter", "add", d.File(name)})
	}
	return out
}

// rightSteps are about what accounts may do, and what they need.
var rightSteps = []step{
	{"What accounts of a role need is written down: charters. One account has what it must never have, by a line that somebody added one night; the text to take it back is told with the way there again.", func(ctx context.Context, t *tour) error {
		for _, words := range charterSteps(t.Demo) {
			if _, err := t.run(ctx, 0, words...); err != nil {
				return err
			}
		}
		if err := t.expect(ctx, 3, []string{"1 forbidden, 0 missing", "run ALL"}, "charter", "check", "manifest-import"); err != nil {
			return err
		}
		if err := t.expect(ctx, 3, []string{"REVOKE INSERT ON TABLE public.payments FROM svc_reports;", "To take it back", "GRANT INSERT"}, "charter", "check", "monthly-reports", "--texts"); err != nil {
			return err
		}
		return t.expect(ctx, 3, []string{"reset password", "Terminal Services > Operations"}, "charter", "check", "terminal-service")
	}},
	{"The groups of the hosts are made anew, and one is forgotten: the fuel card reader runs, and will not start again. The next survey says so, before the reboot does.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 0, []string{"All of it holds"}, "charter", "check", "fuelcard-reader"); err != nil {
			return err
		}
		t.Estate.Reorganise()
		defer t.Estate.Hosts["bookings1"].SetGroups("svc-fuelcard", "cardreaders")
		if _, err := t.run(ctx, unread, "survey", "run"); err != nil {
			return err
		}
		if err := t.expect(ctx, 3, []string{"missing", "member of cardreaders", "at its next start"}, "charter", "check", "fuelcard-reader"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"it lost what it needs by the charter fuelcard-reader"}, "finding", "list", "--filter", "kind=charter-missing"); err != nil {
			return err
		}
		if err := t.expect(ctx, 3, []string{"usermod -aG cardreaders svc-fuelcard", "gpasswd -d svc-fuelcard cardreaders"}, "charter", "check", "fuelcard-reader", "--texts"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"give svc-fuelcard on bookings1 the membership of cardreaders", "the rehearsal passed"}, "amend", "rehearse", "fuelcard-reader"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"prove that svc-fuelcard on bookings1 has the membership of cardreaders", "done"}, "amend", "start", "1", "--reason", "the reorganisation took it"); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"undone"}, "amend", "undo", "1", "--reason", "Monday is soon enough")
	}},
	{"What does the service itself send to a host, and is all of it allowed? It is recorded for a while, ends by itself, and has no secret in it. And can the host reach the database?", func(ctx context.Context, t *tour) error {
		if _, err := t.run(ctx, 0, "trace", "start", "bookings1", "--for", "10m", "--reason", "the security team asks"); err != nil {
			return err
		}
		if _, err := t.run(ctx, 0, "survey", "run", "bookings1"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"sudo -n", "refused", "Permission denied"}, "trace", "show", "1"); err != nil {
			return err
		}
		if _, err := t.run(ctx, 0, "trace", "stop", "1"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"open", "bookings1"}, "probe", t.Estate.Stores["bookings-db"], "--from", "bookings1"); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"may reset password"}, "risk", "list", "--limit", "5")
	}},
}
