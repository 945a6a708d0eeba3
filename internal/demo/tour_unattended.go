package demo

import (
	"context"
	"os"
	"strings"
	"time"
)

// unattendedSteps are about what people decide once and for all, and about values that come
// from elsewhere.
var unattendedSteps = []step{
	{"Two roles of the timetable feed that nothing uses: a rule has them taken into custody in a window. Its preview says which, and of the others why not.", func(ctx context.Context, t *tour) error {
		if _, err := t.run(ctx, 0, "window", "add", "days", "--rule", "FREQ=DAILY", "--begins", "2026-01-01T00:00", "--for", "24h", "--zone", "UTC"); err != nil {
			return err
		}
		const when = `account.name.startsWith("timetable_") || account.name == "svc_reports"`
		if err := t.expect(ctx, 0, []string{"not taken", "systems not read completely"}, "rule", "preview", "feed", "--label", "feed", "--when", when, "--take-in", "days"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"while its window is open: 2; not taken: 1", "it is used, or may be, by"}, "rule", "add", "feed", "--label", "feed", "--when", when, "--take-in", "days", "--take-unread", "--yes"); err != nil {
			return err
		}
		for {
			out, _, err := t.Moss(ctx, "credential", "list", "--filter", "name~timetable_", "--filter", "state=custody")
			if err != nil {
				return err
			}
			if strings.Contains(out, "timetable_a") && strings.Contains(out, "timetable_b") {
				break
			}
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(500 * time.Millisecond):
			}
		}
		return t.expect(ctx, 0, []string{"timetable_a", "rule feed has it taken into custody, in the window days"}, "ledger", "list", "--filter", "act=custody.reset")
	}},
	{"The supplier sets the passwords of the feed: a list that is wrong is refused as a whole, by line and without its values; then it is rehearsed, and rotated.", func(ctx context.Context, t *tour) error {
		for name, text := range map[string]string{"wrong.csv": "timetable_a,Spring-2026\nSalt-Marsh-71-Curlew-Qz,timetable_b\n", "values.csv": "name,value\ntimetable_a,Salt-Marsh-71-Curlew-Qz\ntimetable_b,\"Neap,Ebb-88-Turnstone-Kv\"\n"} {
			if err := os.WriteFile(t.File(name), []byte(text), 0o600); err != nil {
				return err
			}
		}
		if err := t.expect(ctx, 2, []string{"line 1: timetable_a: the value has 11 characters", "line 2: its first field names no credential"}, "rotate", "run", "--values", t.File("wrong.csv"), "--reason", "the supplier sets them"); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"2 done"}, "rotate", "run", "--values", t.File("values.csv"), "--reason", "the supplier sets them")
	}},
	{"The fares feed must never stand still, and its database accepts one password of a role: two roles take turns. The one that rests gets the new password, the feed and a person's password file are moved to it, name and all, and the other one rests.", func(ctx context.Context, t *tour) error {
		for _, name := range []string{"fares_a", "fares_b"} {
			if _, err := t.run(ctx, 0, "custody", "take", "bookings-db/"+name, "--password-file", t.File(name+".pw")); err != nil {
				return err
			}
		}
		if _, err := t.run(ctx, unread, "survey", "run"); err != nil {
			return err
		}
		if err := t.expect(ctx, 1, []string{"fares_a cannot rest", "/etc/fares/feed.env"}, "tandem", "add", "bookings-db/fares_b", "bookings-db/fares_a"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"fares_b takes its place when fares_a is rotated next"}, "tandem", "add", "bookings-db/fares_a", "bookings-db/fares_b", "--reason", "the feed never stands still"); err != nil {
			return err
		}
		for _, turn := range [][2]string{{"fares_a", "fares_b"}, {"fares_b", "fares_a"}} {
			if err := t.expect(ctx, 0, []string{"let " + turn[0] + " on bookings-db rest"}, "rotate", "rehearse", "bookings-db/"+turn[0]); err != nil {
				return err
			}
			if err := t.expect(ctx, 0, []string{turn[0] + " rests"}, "rotate", "run", "bookings-db/"+turn[0], "--reason", "their turn"); err != nil {
				return err
			}
			if err := t.expect(ctx, 1, []string{"it gets a new value when they change places"}, "rotate", "rehearse", "bookings-db/"+turn[0]); err != nil {
				return err
			}
			if _, err := t.run(ctx, unread, "survey", "run"); err != nil {
				return err
			}
		}
		return t.expect(ctx, 0, []string{"fares_a", "rests"}, "tandem", "list")
	}},
	{"What was decided is kept as text under version control. Somebody changed a window by hand: it is told, and put back as a whole.", func(ctx context.Context, t *tour) error {
		for _, words := range [][]string{{"config", "export", "--file", t.File("moss.yaml")}, {"window", "change", "nights", "--for", "8h"}} {
			if _, err := t.run(ctx, 0, words...); err != nil {
				return err
			}
		}
		if err := t.expect(ctx, 3, []string{"nights", "480", "240"}, "config", "diff", t.File("moss.yaml")); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"Done: all of it is applied."}, "config", "apply", t.File("moss.yaml"), "--yes", "--reason", "as it was decided"); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"The service has what the file says."}, "config", "diff", t.File("moss.yaml"))
	}},
}
