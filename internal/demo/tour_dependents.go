package demo

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/standin/larkmoor"
)

// allSteps are the steps of the tour in order: what the data stores show comes
// before the drift at its end, and what takes two people after that.
func allSteps() []step {
	at := slices.IndexFunc(tourSteps, func(s step) bool { return strings.HasPrefix(s.title, "Drift:") })
	return slices.Concat(slices.Insert(slices.Clone(tourSteps), at, dependentSteps...), unattendedSteps, rightSteps, endingSteps, managedSteps, peopleSteps)
}

var dependentSteps = []step{
	{"Two data stores: the bookings database and the tide database, each with a narrow steward. Who has an account there, and who is signed in now?", func(ctx context.Context, t *tour) error {
		for _, s := range [][3]string{{"bookings-db", "postgresql", "PostgreSQL"}, {"tide-db", "redis", "Redis"}} {
			host, port := larkmoor.Port(t.Estate.Stores[s[0]])
			if _, err := t.run(ctx, 0, "system", "add", s[0], "--kind", s[1], "--address", host, "--port", fmt.Sprint(port), "--steward", "hosts", "--ca-file", t.File("ca.pem")); err != nil {
				return err
			}
			if err := t.expect(ctx, 0, []string{s[2], "TLS with a verified certificate"}, "system", "check", s[0]); err != nil {
				return err
			}
		}
		if _, err := t.run(ctx, unread, "survey", "run"); err != nil {
			return err
		}
		for _, name := range []string{"bookings-db/svc_bookings", "tide-db/svc_tides"} {
			_, account, _ := strings.Cut(name, "/")
			if _, err := t.run(ctx, 0, "custody", "take", name, "--password-file", t.File(account+".pw")); err != nil {
				return err
			}
		}
		return t.expect(ctx, 0, []string{"bookings.service", "till.service", "quay2"}, "use", "list", "svc_bookings")
	}},
	{"What breaks if svc_bookings changes? A settings file that nothing names, the unit that was seen signed in, what needs it, who is connected to it; and a till on the quay that no configuration explains.", func(ctx context.Context, t *tour) error {
		if _, err := t.run(ctx, unread, "survey", "run"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"database.yml#/production/password", "[held, matches]", "[held, differs]", "bookings-web.service  [needs]", "gangway.service on quay2  [connects]", "till.service on quay2  [observed, signs in]", "systems not read completely"}, "radius", "svc_bookings"); err != nil {
			return err
		}
		for kind, text := range map[string]string{"unexplained-client": "nothing that is configured there explains it", "reused-password": "svc_bookings, svc_reports", "unused-account": "svc_fares_old"} {
			if err := t.expect(ctx, 0, []string{text}, "finding", "list", "--filter", "kind="+kind, "-o", "csv", "--columns", "kind,subject,system,what"); err != nil {
				return err
			}
		}
		return t.expect(ctx, 0, []string{"declared as"}, "use", "declare", "svc_bookings", "paper form at the ferry desk", "--system", "quay1", "--reason", "Ines saw it", "--until", "2099-01-01")
	}},
	{"Rotate both. PostgreSQL takes one password at a time; Redis accepts two, so the old one stays valid until everything is proven.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 0, []string{"till.service", "was seen signed in as the account", "The rehearsal passed"}, "rotate", "rehearse", "svc_bookings"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"done"}, "rotate", "run", "svc_bookings", "--reason", "tour"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"beside the old one", "retire the old value"}, "rotate", "rehearse", "svc_tides"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"both values are accepted", "only the new value is accepted"}, "rotate", "run", "svc_tides", "--reason", "tour"); err != nil {
			return err
		}
		if t.Estate.Bookings.Accepts("svc_bookings", larkmoor.Passwords["svc_bookings"]) || t.Estate.Tides.Accepts("svc_tides", larkmoor.Passwords["svc_tides"]) {
			return errors.New("an old password is still accepted")
		}
		fmt.Fprintln(t.out, "    proven from outside: both data stores refuse the old passwords")
		return t.expect(ctx, 0, []string{"tide-db", "tidecache.service", "svc_tides"}, "search", "tide")
	}},
	{"One key opens three accounts, one of them only from some addresses. Take the pair, and rotate it: every door accepts both keys until the holder has the new one.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 0, []string{"berth", "odile", "192.0.2.0/24", "id_ed25519"}, "credential", "show", "backup@tide1"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"3 of 3 doors opened"}, "custody", "take", "key:backup@tide1"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"beside the old one", "from tide1", "The rehearsal passed"}, "rotate", "rehearse", "key:backup@tide1"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"both keys are accepted", "only the new key is accepted", "done"}, "rotate", "run", "key:backup@tide1", "--reason", "tour"); err != nil {
			return err
		}
		door, _ := t.Estate.Hosts["quay2"].Read("/var/lib/berth/.ssh/authorized_keys")
		held, _ := t.Estate.Hosts["tide1"].Read("/var/lib/tide/.ssh/id_ed25519")
		pair, err := keys.PairOf(secret.FromBytes(held.Content))
		if err != nil {
			return err
		}
		if !keys.Lets(door.Content, pair.Line) || strings.Count(string(door.Content), "ssh-ed25519") != 1 {
			return errors.New("the door does not let in the key that is held, or lets in another one too")
		}
		fmt.Fprintln(t.out, "    proven from outside: the entry has the new key alone, with its restrictions")
		return nil
	}},
}
