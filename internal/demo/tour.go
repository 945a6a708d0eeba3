package demo

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"syscall"

	_ "modernc.org/sqlite" // to alter a byte of the ledger

	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
)

// step is one step of the tour.
type step struct {
	title string
	do    func(ctx context.Context, t *tour) error
}

type tour struct {
	*Demo
	out io.Writer
}

// run runs a command, shows it and its answer, and holds the exit code.
func (t *tour) run(ctx context.Context, exit int, args ...string) (string, error) {
	shown := make([]string, len(args))
	for i, a := range args {
		shown[i] = strings.ReplaceAll(a, t.Folder+"/", "")
		if strings.ContainsAny(shown[i], " =,") {
			shown[i] = "'" + shown[i] + "'"
		}
	}
	fmt.Fprintf(t.out, "    $ moss %s\n", strings.Join(shown, " "))
	out, code, err := t.Moss(ctx, args...)
	indent(t.out, out)
	if err != nil {
		return out, err
	}
	if code != exit {
		return out, fmt.Errorf("it ended with %d, expected %d", code, exit)
	}
	return out, nil
}

// expect runs a command whose output must contain the given texts.
func (t *tour) expect(ctx context.Context, exit int, texts []string, args ...string) error {
	out, err := t.run(ctx, exit, args...)
	if err != nil {
		return err
	}
	for _, text := range texts {
		if !strings.Contains(out, text) {
			return fmt.Errorf("the answer does not contain %q", text)
		}
	}
	return nil
}

// proven fails unless all units of the quays run on an accepted credential.
func (t *tour) proven(units ...string) error {
	for _, u := range units {
		host, unit, _ := strings.Cut(u, "/")
		if !t.Estate.Ready(host, unit) {
			state, _ := t.Estate.Hosts[host].UnitState(unit)
			return fmt.Errorf("%s on %s is %s or runs on a refused credential", unit, host, state)
		}
	}
	fmt.Fprintf(t.out, "    proven from outside: %s run on a credential that the directory accepts now\n", strings.Join(units, ", "))
	return nil
}

var quays = []string{"quay1/berth.service", "quay2/berth.service", "quay1/gangway.service", "quay2/gangway.service"}

// Tour goes through the whole story. It fails unless every step was proven.
func (d *Demo) Tour(ctx context.Context) error {
	t := &tour{Demo: d, out: d.Out}
	steps := allSteps()
	for i, s := range steps {
		fmt.Fprintf(d.Out, "\n%2d. %s\n", i+1, s.title)
		if err := s.do(ctx, t); err != nil {
			return fmt.Errorf("step %d (%s): %w", i+1, s.title, err)
		}
	}
	fmt.Fprintf(d.Out, "\nAll %d steps were proven.\n", len(steps))
	return nil
}

var tourSteps = []step{
	{"Set the service up with its one-time code, and store the stewards it will use, sealed.", func(ctx context.Context, t *tour) error {
		host, port := larkmoor.Port(t.Estate.Address)
		for _, args := range [][]string{
			{"login", "--server", t.URL, "--set-up", "--code-file", t.File("setup.code"), "--name", UserName, "--password-file", t.File("user.pw")},
			{"steward", "add", "directory", "--account", larkmoor.ManagerDN, "--password-file", t.File("manager.pw")},
			{"steward", "add", "terminals", "--account", `LARKMOOR\` + larkmoor.Manager, "--password-file", t.File("manager.pw")},
			{"steward", "add", "hosts", "--account", larkmoor.Manager, "--password-file", t.File("manager.pw")},
			{"system", "add", "larkmoor-directory", "--kind", "directory", "--address", host, "--port", fmt.Sprint(port), "--steward", "directory", "--ca-file", t.File("ca.pem")},
		} {
			if _, err := t.run(ctx, 0, args...); err != nil {
				return err
			}
		}
		return nil
	}},
	{"Take the systems from the list an administrator has: one is down, one is misspelt, two rows are wrong. Then from the directory.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 0, []string{"9 added", "did you mean bookings1", "stands on line 2", "not a port"}, "system", "import", t.File("hosts.csv"), "--steward", "hosts", "--windows-steward", "terminals", "--windows-signin", "ntlm", "--windows-ca-file", t.File("ca.pem")); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"4 already there", "kiosk4"}, "system", "import", "--directory", "larkmoor-directory", "--base", "OU=Hosts,"+larkmoor.Base, "--steward", "hosts", "--windows-steward", "terminals", "--windows-signin", "ntlm", "--windows-ca-file", t.File("ca.pem"))
	}},
	{"Check them, stage by stage. A host's key is seen for the first time: nothing is trusted until a person approves it.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 3, []string{"first sight", t.Estate.Hosts["quay1"].Fingerprint(), "does the"}[:2], "system", "check", "quay1"); err != nil {
			return err
		}
		for _, name := range []string{"quay1", "quay2", "bookings1", "tide1"} {
			if _, err := t.run(ctx, 0, "system", "check", name, "--approve", t.Estate.Hosts[name].Fingerprint()); err != nil {
				return err
			}
		}
		if err := t.expect(ctx, 0, []string{"sign in", "permitted"}, "system", "check", "north1"); err != nil {
			return err
		}
		if err := t.expect(ctx, 3, []string{"connect", "refused"}, "system", "check", "gannet1"); err != nil {
			return err
		}
		return t.expect(ctx, 3, []string{"resolve", "or give an address"}, "system", "check", "bokings1")
	}},
	{"Survey everything at once, with live progress. The dead host costs the others nothing.", func(ctx context.Context, t *tour) error {
		return t.expect(ctx, unread, []string{"11 systems read, 4 not completely"}, "survey", "run")
	}},
	{"The accounts, and one of them in every spelling.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 0, []string{"svc-berth", "svc-tidefeed"}, "account", "list", "--filter", "name~svc-", "--sort", "-dependents"); err != nil {
			return err
		}
		return t.expect(ctx, 3, []string{"ambiguous", "unknown"}, "account", "resolve", "svc-berth", `LARKMOOR\svc-berth`, "svc-berth@larkmoor.example", larkmoor.DN("svc-berth"), `.\svc-fuelcard`, "1003", "svc-fuelcard", "svc-sync")
	}},
	{"What runs as a departed administrator? And what depends on svc-berth, with the evidence?", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 0, []string{"nightly-export.service", "/etc/cron.d/fares"}, "dependent", "list", "--account", "bookings1/odile"); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"held: beside", "bokings1 was not read"}, "account", "show", "svc-berth")
	}},
	{"Take svc-berth into custody. A wrong password is refused by the directory at once; the right one is sealed, and the copies are now known by value.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 1, []string{"wrong password"}, "custody", "take", "svc-berth", "--password-file", t.File("svc-gangway.pw")); err != nil {
			return err
		}
		for _, account := range []string{"svc-berth", "svc-tidefeed", "svc-manifest"} {
			if _, err := t.run(ctx, 0, "custody", "take", account, "--password-file", t.File(account+".pw")); err != nil {
				return err
			}
		}
		if err := t.expect(ctx, 0, []string{"accepted"}, "custody", "verify", "svc-berth"); err != nil {
			return err
		}
		if _, err := t.run(ctx, 0, "survey", "run", "tide1"); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"held: matches"}, "account", "show", "svc-berth")
	}},
	{"Rehearse: what will happen, in which order, what was checked, what could not be. A rotation without it is refused.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 1, []string{"no rehearsal"}, "rotate", "run", "svc-berth", "--reason", "tour"); err != nil {
			return err
		}
		if err := t.setChecks(ctx); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"The rehearsal passed", "restart berth.service on quay1", "unchecked"}, "rotate", "rehearse", "svc-berth")
	}},
	{"Rotate, and watch: sealed, changed, replaced, restarted in start order, proven, the old value refused.", func(ctx context.Context, t *tour) error {
		before, _ := t.Estate.Hosts["quay1"].Read("/etc/berth/berth.env")
		if err := t.expect(ctx, 0, []string{"answers as expected", "finished done"}, "rotate", "run", "svc-berth", "--reason", "never changed since 2019"); err != nil {
			return err
		}
		after, _ := t.Estate.Hosts["quay1"].Read("/etc/berth/berth.env")
		if t.Estate.Directory.Accepts(larkmoor.DN("svc-berth"), larkmoor.Passwords["svc-berth"]) {
			return errors.New("the directory still accepts the old password")
		}
		if after.Mode != before.Mode || after.ACL != before.ACL || after.Group != before.Group || !strings.HasPrefix(string(after.Content), "# Berth board. Changed by hand since 2019, mind the quotes.\r\n") || strings.HasSuffix(string(after.Content), "\n") {
			return errors.New("the env file was changed beyond the password")
		}
		fmt.Fprintln(t.out, "    proven from outside: the old password is refused; the env file kept its owner, mode, access list, line ends and comment")
		return t.proven(quays...)
	}},
	{"A host fails in the middle, policy undo: everything goes back, and that is proven too.", func(ctx context.Context, t *tour) error {
		t.failRestarts("quay2", "berth.service")
		defer t.heal("quay2")
		if _, err := t.run(ctx, 0, "rotate", "rehearse", "svc-berth"); err != nil {
			return err
		}
		// The restarts of undoing succeed again: the fault lets three pass by.
		// It worked, and the answer is no: the password is the old one.
		if err := t.expect(ctx, 3, []string{"decided  undo (policy)", "finished undone"}, "rotate", "run", "svc-berth", "--reason", "second rotation", "--on-failure", "undo"); err != nil {
			return err
		}
		return t.proven(quays...)
	}},
	{"The same with policy stop: it waits for a person; the host is mended; it is resumed and ends well.", func(ctx context.Context, t *tour) error {
		t.failRestarts("quay2", "berth.service")
		if _, err := t.run(ctx, 0, "rotate", "rehearse", "svc-berth", "--on-failure", "stop"); err != nil {
			return err
		}
		if err := t.expect(ctx, 3, []string{"decided  stop (policy)"}, "rotate", "run", "svc-berth", "--reason", "third rotation", "--on-failure", "stop"); err != nil {
			return err
		}
		t.heal("quay2")
		if err := t.expect(ctx, 0, []string{"finished done"}, "rotate", "resume", "3", "--reason", "quay2 is mended"); err != nil {
			return err
		}
		return t.proven(quays...)
	}},
	{"kill -9 of the service in the middle of a rotation. It starts again, finds out what is true, and finishes by itself.", func(ctx context.Context, t *tour) error {
		if err := t.StopService(syscall.SIGTERM); err != nil {
			return err
		}
		if err := t.StartService(ctx, 9); err != nil { // kills itself after its ninth journal record
			return err
		}
		if _, err := t.run(ctx, 0, "rotate", "rehearse", "svc-berth"); err != nil {
			return err
		}
		if _, err := t.run(ctx, 0, "rotate", "run", "svc-berth", "--reason", "fourth rotation", "--detach"); err != nil {
			return err
		}
		if err := t.WaitServiceEnd(ctx); err != nil {
			return err
		}
		fmt.Fprintln(t.out, "    the service is dead (SIGKILL). Starting it again.")
		if err := t.StartService(ctx, 0); err != nil {
			return err
		}
		if err := t.watchEnd(ctx, "4"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"probed"}, "rotate", "show", "4", "--journal"); err != nil {
			return err
		}
		return t.proven(quays...)
	}},
	{"So that nobody has to watch: a rule gives a label, after its preview; a window; and a policy for the label, whose turns are spread over a month.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 0, []string{"gains"}, "rule", "preview", "by-name", "--label", "rotate-30", "--when", `account.name.startsWith("svc-") && account.custody`); err != nil {
			return err
		}
		for _, words := range [][]string{
			{"rule", "add", "by-name", "--label", "rotate-30", "--when", `account.name.startsWith("svc-") && account.custody`, "--yes"},
			{"window", "add", "nights", "--at", "22:00", "--for", "4h", "--zone", "Europe/Oslo"},
		} {
			if _, err := t.run(ctx, 0, words...); err != nil {
				return err
			}
		}
		if err := t.expect(ctx, 0, []string{"over 30 openings", "svc-berth"}, "policy", "add", "monthly", "--label", "rotate-30", "--every", "30d", "--window", "nights", "--first-alone", "--yes"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"the policy monthly rotates it every 30 days", "it has the label rotate-30"}, "policy", "why", "svc-berth"); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"monthly", "svc-berth"}, "schedule", "nights", "--days", "40")
	}},
	{"The ticket system moves tonight: everything is frozen, and a rotation that somebody starts all the same is refused.", func(ctx context.Context, t *tour) error {
		if _, err := t.run(ctx, 0, "freeze", "--reason", "the ticket system moves tonight"); err != nil {
			return err
		}
		if _, err := t.run(ctx, 0, "rotate", "rehearse", "svc-tidefeed"); err != nil {
			return err
		}
		if err := t.expect(ctx, 1, []string{"everything is frozen by ines"}, "rotate", "run", "svc-tidefeed", "--reason", "all the same"); err != nil {
			return err
		}
		_, err := t.run(ctx, 0, "thaw", "--reason", "it has moved")
		return err
	}},
	{"Odile has left: what she knew is rotated together. One of them fails and is undone; the others are done; only that one is tried again.", func(ctx context.Context, t *tour) error {
		t.failRestarts("bookings1", "manifest.service")
		defer t.heal("bookings1")
		if err := t.expect(ctx, 3, []string{"undone", "2 done", "1 of 3 were not rotated as asked"}, "rotate", "run", "--label", "rotate-30", "--reason", "Odile has left"); err != nil {
			return err
		}
		t.heal("bookings1")
		if err := t.expect(ctx, 0, []string{"3 done"}, "batch", "retry", "1"); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"3 of 3 credentials were rotated as asked", "each with its proof to the checkpoint"}, "report", "batch", "1")
	}},
	{"The windows hosts at the terminals: search the whole estate by executable, with a pattern, and group by system.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 0, []string{"north1 (6)", "skerry1 (6)"}, "dependent", "list", "--filter", "kind=service", "--filter", `executable*=*\quayline\*.exe*`, "--group-by", "system", "--columns", "place,state,start_mode,runs_as"); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"built-in", "virtual", "managed"}, "dependent", "list", "--filter", "system=north1", "--group-by", "identity", "--columns", "kind,place,runs_as")
	}},
	{"Custody of svc-terminal: a service, a task and a pool, each in another spelling. Rotate it and leave the services running: told plainly that this is a latent breakage.", func(ctx context.Context, t *tour) error {
		if _, err := t.run(ctx, 0, "custody", "take", "svc-terminal", "--password-file", t.File("svc-terminal.pw")); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"latent breakage", "Worth knowing"}, "rotate", "rehearse", "svc-terminal", "--restart", "leave"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"Change returned 0: success", "the scheduler has checked", "read back", "finished done"}, "rotate", "run", "svc-terminal", "--restart", "leave", "--reason", "busy season"); err != nil {
			return err
		}
		if err := t.surveyed(ctx, "north1", "skerry1"); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"KioskAgent", "on the password from before the change"}, "finding", "list", "--filter", "kind=runs-on-old")
	}},
	{"Repair is one action: rehearsed, restarted, proven.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 0, []string{"StartService returned 0: success", "finished done"}, "rotate", "repair", "svc-terminal", "--reason", "the boats are out"); err != nil {
			return err
		}
		return t.ready("KioskAgent")
	}},
	{"Odile left: everything on windows hosts that logs on as her gets another account, in one rotation that can be undone.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 0, []string{"FerryCam", "Copy timetables"}, "dependent", "list", "--filter", "runs_as~odile.kern"); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"give the task", "is not in custody: its password could not be given back", "finished done"}, "rotate", "assign", "svc-terminal", "--filter", "runs_as~odile.kern", "--reason", "Odile left in spring")
	}},
	{"Monday: over the weekend a password expired and the hosts restarted for their updates. Six services do not come up. Why?", func(ctx context.Context, t *tour) error {
		if _, err := t.run(ctx, 0, "custody", "take", "svc-quayline", "--password-file", t.File("svc-quayline.pw")); err != nil {
			return err
		}
		if err := t.expectStack(ctx); err != nil {
			return err
		}
		t.Estate.WeekendPasses()
		fmt.Fprintf(t.out, "    seen from outside: %s\n", t.Estate.Stack("north1"))
		if err := t.surveyed(ctx, "larkmoor-directory", "north1", "skerry1"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"QuayLineBoarding", "it starts by itself and is stopped"}, "finding", "list", "--filter", "kind=down"); err != nil {
			return err
		}
		return t.expect(ctx, 3, []string{"the password has expired", "The one that failed first: QuayLineStore", "record 7038", "record 7001"}, "explain", "north1/QuayLineBoarding")
	}},
	{"Repair it in start order, on both hosts, until the application's own check passes.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 0, []string{"finished done", "answers as expected"}, "explain", "north1/QuayLineBoarding", "--repair", "--reason", "Monday morning"); err != nil {
			return err
		}
		return t.ready(larkmoor.QuayLine...)
	}},
	{"Drift: somebody changes the password of svc-tidefeed behind our back. Regular verification notices.", func(ctx context.Context, t *tour) error {
		t.Estate.SetPassword("svc-tidefeed", "Changed-By-Hand-2026")
		if err := t.expect(ctx, 3, []string{"7 accepted, 1 refused"}, "custody", "verify", "--all"); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"drift", "stale-copy", "unread-system", "never-expires", "svc-sync"}, "finding", "list")
	}},
	{"What changed, and who did it: our own rotations, people here, and somebody behind our back.", func(ctx context.Context, t *tour) error {
		if err := t.surveyed(ctx, "larkmoor-directory"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"password changed", "others"}, "change", "list", "--filter", "name=svc-tidefeed", "--filter", "made_by=others"); err != nil {
			return err
		}
		t.Estate.Hosts["bookings1"].UserAdd("odile", "192.0.2.40", unixhost.User{Name: "svc-gulls", UID: 1300, Gecos: "Gull counter", Home: "/home/svc-gulls", Shell: "/bin/sh"})
		if err := t.surveyed(ctx, "bookings1"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"odile changed it at", "signed in meanwhile: odile from 192.0.2.40"}, "change", "list", "--filter", "name=svc-gulls"); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"svc-berth", "moss-ledger", "one value → another value"}, "change", "list", "--since", "1", "--net", "--filter", "made_by=moss-ledger")
	}},
	{"The ledger shows all of it, and proves that nothing was altered.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 0, []string{"rotation.restart.undo", "intent"}, "ledger", "list", "--filter", "ref=rotation/2", "--sort", "index"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"moss-ledger"}, "ledger", "checkpoint"); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"The ledger holds"}, "ledger", "verify")
	}},
	{"Alter one byte of one entry in the database file. Verification fails and names the entry.", func(ctx context.Context, t *tour) error {
		if err := t.StopService(syscall.SIGTERM); err != nil {
			return err
		}
		if err := alterByte(ctx, filepath.Join(t.File("data"), "moss.db"), 12); err != nil {
			return err
		}
		if err := t.StartService(ctx, 0); err != nil {
			return err
		}
		return t.expect(ctx, 3, []string{"entry 12:", "does not hold"}, "ledger", "verify")
	}},
}

// surveyed reads systems again.
func (t *tour) surveyed(ctx context.Context, systems ...string) error {
	_, err := t.run(ctx, 0, append([]string{"survey", "run"}, systems...)...)
	return err
}

// ready fails unless services run on both terminals on an accepted credential.
func (t *tour) ready(services ...string) error {
	for _, host := range []string{"north1", "skerry1"} {
		for _, service := range services {
			if !t.Estate.Ready(host, service) {
				return fmt.Errorf("%s on %s is %s or runs on a refused credential", service, host, t.Estate.Windows[host].State(service))
			}
		}
	}
	fmt.Fprintf(t.out, "    proven from outside: %s run on both hosts on a credential that the directory accepts now\n", strings.Join(services, ", "))
	return nil
}

// setChecks gives the berth boards their own check.
func (t *tour) setChecks(ctx context.Context) error {
	out, code, err := t.Moss(ctx, "dependent", "list", "--filter", "name=berth.service", "-o", "csv", "--columns", "id,system")
	if err != nil || code != 0 {
		return fmt.Errorf("list the berth boards: %w %s", err, out)
	}
	for _, line := range strings.Split(strings.TrimSpace(out), "\n")[1:] {
		id, system, _ := strings.Cut(line, ",")
		if _, err := t.run(ctx, 0, "dependent", "expect", id, "--http", t.Estate.Board+"/"+system+"/berth.service", "--contains", "ready"); err != nil {
			return err
		}
	}
	return nil
}

// failRestarts lets the next restarts of a unit fail, as often as a forward
// step is tried, and lets the restarts of an undoing through.
func (t *tour) failRestarts(host, unit string) {
	failures := 1
	t.Estate.Hosts[host].SetFault(unixhost.Fault{Command: func(_ string, argv []string) (int, string, bool) {
		if failures > 0 && strings.HasSuffix(strings.Join(argv, " "), "systemctl restart "+unit) && argv[1] != "-n" {
			return 0, "", false
		}
		if failures > 0 && strings.HasSuffix(strings.Join(argv, " "), "-- /usr/bin/systemctl restart "+unit) && !strings.Contains(strings.Join(argv, " "), " -l ") {
			failures--
			return 1, "Job for " + unit + " failed because a configured resource limit was exceeded.", true
		}
		return 0, "", false
	}})
}

func (t *tour) heal(host string) { t.Estate.Hosts[host].SetFault(unixhost.Fault{}) }

// watchEnd waits for the end of a rotation by watching it.
func (t *tour) watchEnd(ctx context.Context, id string) error {
	for {
		out, code, err := t.Moss(ctx, "rotate", "show", id, "-o", "json")
		if err != nil {
			return err
		}
		if code == 0 && strings.Contains(out, `"result": "done"`) && strings.Contains(out, `"mode": "finished"`) {
			fmt.Fprintf(t.out, "    rotation %s finished by itself: done\n", id)
			return nil
		}
		if code == 0 && strings.Contains(out, `"mode": "finished"`) {
			return fmt.Errorf("rotation %s did not end well:\n%s", id, out)
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
}

// alterByte flips one letter in the text of a ledger entry.
func alterByte(ctx context.Context, file string, index int) error {
	db, err := sql.Open("sqlite", "file:"+file)
	if err != nil {
		return err
	}
	defer db.Close()
	var leaf []byte
	if err := db.QueryRowContext(ctx, "SELECT leaf FROM ledger WHERE idx = ?", index).Scan(&leaf); err != nil {
		return err
	}
	at := strings.Index(string(leaf), `"actor":"`) + len(`"actor":"`)
	leaf[at] ^= 1
	_, err = db.ExecContext(ctx, "UPDATE ledger SET leaf = ? WHERE idx = ?", leaf, index)
	return err
}
