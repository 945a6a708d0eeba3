package demo

import (
	"context"
	"maps"
	"os"
	"slices"

	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
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
	{"A host of the domain gives an account of the directory more than anybody meant: it may debug programs there since somebody looked for a fault, and change another service than its own. Who may is told both ways, and what it could do there counts in the ranking.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 0, []string{`On skerry1, as LARKMOOR\svc-terminal:`, "debug programs", "service QuayLineFares", `LARKMOOR\Terminal Services (as its directory tells)`}, "right", "show", "svc-terminal"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{`LARKMOOR\svc-terminal`, "the service's security descriptor"}, "right", "who", "change", "service:QuayLineFares", "--on", "skerry1"); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"comes to administrator"}, "risk", "list", "--filter", "account=svc-terminal")
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
	{"Which of its rights does the job at the pump need? All are given to a scratch account, the job is done, and each right is taken away in turn: only one of them is missed.", func(ctx context.Context, t *tour) error {
		steps, err := t.scratch()
		if err != nil {
			return err
		}
		for _, args := range append(steps[:0:0], append([][]string{{"survey", "run", "bookings1"}}, steps...)...) {
			if _, err := t.run(ctx, 0, args...); err != nil {
				return err
			}
		}
		if err := t.expect(ctx, 3, []string{"unneeded", "needed", "sudo -n /usr/bin/systemctl restart fuelcard.service", "a password is required"}, proof(t.Demo)...); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"undone"}, "amend", "show", "2")
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

// scratchPassword is that of the account with which rights are tried.
const scratchPassword = "Kelp-Scratch-4471-x"

// scratch adds an account that nothing uses to a host, and says how it is made ready.
func (d *Demo) scratch() ([][]string, error) {
	d.Estate.Hosts["bookings1"].AddUser(unixhost.User{Name: "scratch", UID: 1900, Gecos: "Nothing uses it", Home: "/home/scratch", Shell: "/bin/sh", Password: scratchPassword})
	files := map[string]string{"scratch.pw": scratchPassword, "pump.job": "# as the pump does\nsudo -n /usr/bin/systemctl restart fuelcard.service\n"}
	for name, content := range files {
		if err := os.WriteFile(d.File(name), []byte(content), 0o600); err != nil {
			return nil, err
		}
	}
	return [][]string{{"custody", "take", "bookings1/scratch", "--password-file", d.File("scratch.pw")}, {"label", "put", "bookings1/scratch", "scratch", "--reason", "nothing uses it"}}, nil
}

// proof tries which rights of the fuel card reader's charter the job at the pump needs.
func proof(d *Demo) []string {
	return []string{"charter", "prove", "fuelcard-reader", "--account", "bookings1/scratch", "--job", d.File("pump.job"), "--reason", "the audit asks"}
}
