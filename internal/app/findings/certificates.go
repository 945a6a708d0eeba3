package findings

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/records"
)

// endsSoon is how long before its end a certificate becomes a finding.
const endsSoon = 30 * 24 * time.Hour

// leaf: the certificate comes first in its file: a server shows it as its own.
func leaf(d records.Dependent) bool {
	return d.Kind == estate.DependentCertificate && d.Key != nil && d.Place == d.Path+"#certificate 1"
}

// sameCertificate: the same key, and the same time.
func sameCertificate(a, b *estate.Key) bool {
	return a.Public == b.Public && a.Ends.Equal(b.Ends) && a.Begins.Equal(b.Begins)
}

// certificates judges what clients see behind ports, and what stands in files with a private
// key that is theirs: others belong to somebody else.
func certificates(s *SystemSnapshot) []records.Finding {
	private := map[string]bool{}
	var ports []records.Dependent
	units := map[string]records.Dependent{}
	for _, d := range s.Dependents {
		switch {
		case d.Kind == estate.DependentKey && d.Key != nil:
			private[d.Key.Public] = true
		case d.Kind == estate.DependentShown && d.Key != nil:
			ports = append(ports, d)
		case d.Kind == estate.DependentUnit:
			units[d.Place] = d
		}
	}
	var out []records.Finding
	for _, d := range s.Dependents {
		shown := d.Kind == estate.DependentShown
		switch {
		case d.Key == nil || !shown && d.Kind != estate.DependentCertificate:
			continue
		case !shown && slices.ContainsFunc(ports, func(p records.Dependent) bool { return sameCertificate(p.Key, d.Key) }):
			continue // it is told of its port
		case !shown && !private[d.Key.Public] && !(leaf(d) && d.Key.Trouble != ""):
			continue
		}
		who := d.Key.Subject
		if shown {
			who = "clients of port " + d.Place + " see " + d.Key.Subject + ", which"
		}
		out = append(out, certificate(s, d, who, private[d.Key.Public])...)
	}
	for _, p := range ports {
		if f, found := notLoaded(s, p, units); found {
			out = append(out, f)
		}
	}
	for _, u := range s.Dependents {
		if u.Kind == estate.DependentUnit {
			out = append(out, misfits(s, u)...)
		}
	}
	return out
}

// renewal is what to do about a certificate that ends. It is named by its fingerprint: its
// names are what somebody wrote who may be anybody.
func renewal(k *estate.Key, hasKey bool) string {
	if !hasKey || k.Fingerprint == "" {
		return "have a new one issued"
	}
	return fmt.Sprintf("renew it with its key: 'moss custody take %s', then 'moss rotate run %s'; or have a new one issued, and put it into its files yourself", k.Fingerprint, k.Fingerprint)
}

// certificate judges one by itself.
func certificate(s *SystemSnapshot, d records.Dependent, who string, hasKey bool) (out []records.Finding) {
	add := func(kind, severity, what, next string) {
		out = append(out, s.found(d, records.Finding{Kind: kind, Severity: severity, What: what, Next: next}))
	}
	early := d.Key.Begins.After(s.Now)
	if d.Key.Trouble != "" && !early {
		add("certificate-wrong", "medium", fmt.Sprintf("%s: %s", d.Key.Subject, d.Key.Trouble), "put certificate, intermediates and key in order, and have the program read them")
	}
	left := d.Key.Ends.Sub(s.Now)
	switch {
	case early:
		words := fmt.Sprintf("%s is good from %s on, and not before: clients refuse it", who, d.Key.Begins.UTC().Format(time.RFC3339))
		if d.Key.Trouble != "" {
			words += "; " + d.Key.Trouble
		}
		add("certificate-wrong", "high", words, "compare the clocks, or go back to the one before")
	case left < 0:
		add("certificate-ended", "high", fmt.Sprintf("%s ended on %s", who, app.Day(d.Key.Ends)), renewal(d.Key, hasKey))
	case left <= endsSoon:
		severity := "medium"
		if d.Kind == estate.DependentShown && left < 7*24*time.Hour {
			severity = "high"
		}
		add("certificate-ends", severity, fmt.Sprintf("%s ends on %s, in %d days", who, app.Day(d.Key.Ends), int(left.Hours()/24)), renewal(d.Key, hasKey))
	}
	return out
}

// notLoaded: the program behind a port reads a file that has a newer certificate of the same
// subject than the one that clients see.
func notLoaded(s *SystemSnapshot, port records.Dependent, units map[string]records.Dependent) (records.Finding, bool) {
	if len(port.Requires) == 0 {
		return records.Finding{}, false
	}
	unit := units[port.Requires[0]]
	for _, d := range s.Dependents {
		if leaf(d) && slices.Contains(unit.Uses, d.Path) && sameHolder(d.Key, port.Key) && d.Key.Begins.After(port.Key.Begins) && !sameCertificate(d.Key, port.Key) {
			return s.found(port, records.Finding{
				Kind: "certificate-not-loaded", Severity: "medium",
				What: fmt.Sprintf("clients of port %s still see the one that ends on %s; %s has one that ends on %s, which %s has not read", port.Place, app.Day(port.Key.Ends), d.Path, app.Day(d.Key.Ends), unit.Place),
				Next: "have " + unit.Place + " read its files again: reload or restart it",
			}), true
		}
	}
	return records.Finding{}, false
}

// sameHolder: two certificates are about the same: of one subject, and of some name in common
// where they have names. Many have names alone, and no subject.
func sameHolder(a, b *estate.Key) bool {
	named := len(a.Names)+len(b.Names) > 0
	return a.Subject == b.Subject && (!named || slices.ContainsFunc(a.Names, func(name string) bool { return slices.Contains(b.Names, name) }))
}

// misfits: a program reads a certificate and a private key of which neither has its other half
// among what it reads: it will not start.
func misfits(s *SystemSnapshot, unit records.Dependent) (out []records.Finding) {
	var certs, private []records.Dependent
	for _, d := range s.Dependents {
		switch {
		case d.Key == nil || !slices.Contains(unit.Uses, d.Path):
		case leaf(d) && d.Key.Trouble == "":
			certs = append(certs, d)
		case d.Kind == estate.DependentKey && d.Key.Public != "":
			private = append(private, d)
		}
	}
	fits := func(d records.Dependent, others []records.Dependent) bool {
		return slices.ContainsFunc(others, func(o records.Dependent) bool { return o.Key.Public == d.Key.Public })
	}
	var alone []string
	for _, k := range private {
		if !fits(k, certs) {
			alone = append(alone, k.Path)
		}
	}
	for _, c := range certs {
		if len(alone) > 0 && !fits(c, private) {
			out = append(out, s.found(c, records.Finding{
				Kind: "certificate-misfit", Severity: "high",
				What: fmt.Sprintf("%s reads it and the private key in %s, which is another one's: it will not start again", unit.Place, strings.Join(alone, ", ")),
				Next: "put the key there that the certificate was issued for, or have one issued for that key",
			}))
		}
	}
	return out
}
