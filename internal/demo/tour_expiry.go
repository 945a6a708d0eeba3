package demo

import (
	"context"
	"fmt"
	"strings"
	"time"

	"mossledger.example/moss/internal/standin/larkmoor"
)

// feedSteps add the cloud project of the feeds, and the authority that issues certificates.
func feedSteps(d *Demo) [][]string {
	host, port := larkmoor.Port(d.Estate.Stores["larkmoor-feeds"])
	caHost, caPort := larkmoor.Port(d.Estate.Stores["larkmoor-ca"])
	return [][]string{
		{"steward", "add", "feeds", "--account", larkmoor.FeedsManager, "--key-file", d.File("feeds.key")},
		{"steward", "add", "certificates", "--account", larkmoor.CertifierAccount, "--key-file", d.File("ca.key")},
		{"system", "add", "larkmoor-ca", "--kind", "certificate-authority", "--address", caHost, "--port", fmt.Sprint(caPort), "--steward", "certificates", "--ca-file", d.File("ca.pem"), "--environment", "production", "--owner", "Bookings"},
		{"system", "add", "larkmoor-feeds", "--kind", "cloud-project", "--address", host, "--port", fmt.Sprint(port), "--steward", "feeds", "--ca-file", d.File("ca.pem"), "--environment", "production", "--owner", "Passenger information"},
	}
}

// endingSteps are about what ends, and when.
var endingSteps = []step{
	{"What ends when, of all kinds: of the timetable feeds' cloud project one key never ends, and one ends tomorrow. The files that hold them on hosts are known by the number of the key.", func(ctx context.Context, t *tour) error {
		for _, words := range feedSteps(t.Demo) {
			if _, err := t.run(ctx, 0, words...); err != nil {
				return err
			}
		}
		if _, err := t.run(ctx, unread, "survey", "run"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"within 7 days", "never", "not known"}, "expiry", "timeline"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"ends in 2", "kiosktimes", "never ends"}, "expiry", "list", "--filter", "system=larkmoor-feeds", "--filter", "what=key"); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"/etc/kiosktimes/feed-key.json", "kiosktimes.service", "held: opens"}, "account", "show", "larkmoor-feeds/kiosktimes")
	}},
	{"One is shut, as it would be tomorrow by itself. The rehearsal says who stops and in which words; then its program does not start, with just these; and it is mended by the way back.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 0, []string{"1 of 1 that use it", "/etc/kiosktimes/feed-key.json", "invalid_grant", "the rehearsal passed"}, "credential", "disable", "larkmoor-feeds/kiosktimes"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"one person is enough", "it is disabled"}, "credential", "disable", "larkmoor-feeds/kiosktimes", "--reason", "what will tomorrow be like"); err != nil {
			return err
		}
		host := t.Estate.Hosts["quay1"]
		if host.Restart("kiosktimes.service") {
			return fmt.Errorf("kiosktimes.service starts with a key of an identity that is disabled")
		}
		fmt.Fprintln(t.out, "    seen from outside: kiosktimes.service on quay1 does not start any more")
		out, err := t.run(ctx, 0, "amend", "list", "--limit", "1", "--columns", "id", "-o", "csv")
		if err != nil {
			return err
		}
		id, err := lastLine(out)
		if err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"undone"}, "amend", "undo", id, "--reason", "it is not tomorrow yet"); err != nil {
			return err
		}
		if !host.Restart("kiosktimes.service") {
			return fmt.Errorf("kiosktimes.service does not start with a key that is accepted again")
		}
		fmt.Fprintln(t.out, "    proven from outside: kiosktimes.service on quay1 reads the timetable again")
		return nil
	}},
	{"The booking site's certificate ends in twelve days: clients see that behind its port. Somebody puts a new one into its file and goes home; the site goes on showing the old one, and that is told, until it has read the file.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 0, []string{"CN=" + larkmoor.SiteName, "0.0.0.0:8443", "ends in 11 days"}, "expiry", "list", "--filter", "what=certificate"); err != nil {
			return err
		}
		now := time.Now()
		if err := t.Estate.SiteFiles(now.Add(-time.Minute), now.AddDate(0, 0, 90)); err != nil {
			return err
		}
		fmt.Fprintln(t.out, "    outside: somebody puts a new certificate and its key into the files of the booking site")
		if _, err := t.run(ctx, 0, "survey", "run", "bookings1"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"certificate-not-loaded", "still see the one that ends"}, "finding", "list", "--filter", "kind=certificate-not-loaded"); err != nil {
			return err
		}
		if !t.Estate.Hosts["bookings1"].Restart("bookings-web.service") {
			return fmt.Errorf("bookings-web.service does not start with its new certificate")
		}
		if _, err := t.run(ctx, 0, "survey", "run", "bookings1"); err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"Nothing matches"}, "finding", "list", "--filter", "kind~certificate")
	}},
	{"Next time nobody goes home: certificate and key are one credential, renewed together. The company's own authority asks the site who answers for its names, and is told; both files are replaced, the site restarted, and what clients see behind its port is the proof.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 0, []string{"1 of 1 ports show it"}, "custody", "take", larkmoor.SiteName); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"larkmoor-ca issue a certificate", "replace the certificate in " + larkmoor.SiteCertificate, "replace the key in " + larkmoor.SiteKey, "prove that port 0.0.0.0:8443 on bookings1 shows the new certificate", "The rehearsal passed"}, "rotate", "rehearse", larkmoor.SiteName); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{": done"}, "rotate", "run", larkmoor.SiteName, "--reason", "it ends"); err != nil {
			return err
		}
		issued, _, asked := t.Estate.Certifier.Counts()
		if issued != 1 || asked != 2 {
			return fmt.Errorf("%d certificates were issued and %d names asked about", issued, asked)
		}
		fmt.Fprintln(t.out, "    proven from outside: the authority asked the site about both names, and issued one certificate")
		return t.expect(ctx, 0, []string{"CN=" + larkmoor.SiteName, "ends in 89 days"}, "expiry", "list", "--filter", "what=certificate")
	}},
	{"Nobody said what is not needed any more, and it is known all the same: what was not used for longest, and has nothing that depends on it, comes first, with what ends it safely.", func(ctx context.Context, t *tour) error {
		return t.expect(ctx, 0, []string{"fares-trial", "not used for 210 days", "nothing is known that depends on it", "credential delete id:", "--watch 30d"}, "credential", "outlived", "--filter", "system=larkmoor-feeds", "--wide")
	}},
	{"The trial of last spring is over: its identity is disabled, watched for a month, and deleted then by itself, unless something asks for it. Until then one person lets it in again.", func(ctx context.Context, t *tour) error {
		if err := t.expect(ctx, 0, []string{"watch for 30 days", "undoing lets it in again", "Watches    20", "nothing happens but watching"}, "credential", "delete", "larkmoor-feeds/fares-trial", "--watch", "30d", "--reason", "the trial is over"); err != nil {
			return err
		}
		out, err := t.run(ctx, 0, "amend", "list", "--limit", "1", "--columns", "id", "-o", "csv")
		if err != nil {
			return err
		}
		id, err := lastLine(out)
		if err != nil {
			return err
		}
		return t.expect(ctx, 0, []string{"undone"}, "amend", "undo", id, "--reason", "there will be another trial")
	}},
	{"And tomorrow does not come: the key is rotated by overlap. A new one is accepted beside it, key and number are replaced in the file together, the program proves it, and only then the old one is disabled.", func(ctx context.Context, t *tour) error {
		const kiosk = "larkmoor-feeds/kiosktimes"
		if err := t.expect(ctx, 0, []string{"was proven just now"}, "custody", "take", kiosk); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"beside the old one", "replace the key in /etc/kiosktimes/feed-key.json", "disable the old key", "the new key is good for 90 days", "The rehearsal passed"}, "rotate", "rehearse", kiosk, "--lasts", "90d"); err != nil {
			return err
		}
		if err := t.expect(ctx, 0, []string{"invalid_grant", ": done"}, "rotate", "run", kiosk, "--lasts", "90d", "--reason", "it ends tomorrow"); err != nil {
			return err
		}
		if !t.Estate.Hosts["quay1"].Restart("kiosktimes.service") {
			return fmt.Errorf("kiosktimes.service does not start with its new key")
		}
		fmt.Fprintln(t.out, "    proven from outside: kiosktimes.service on quay1 starts with its new key")
		return nil
	}},
}

// lastLine is the last line of a short answer.
func lastLine(out string) (string, error) {
	lines := strings.Fields(out)
	if len(lines) < 2 {
		return "", fmt.Errorf("nothing is listed: %q", out)
	}
	return lines[len(lines)-1], nil
}
