package shown

import (
	"crypto/x509"
	"net"
	"slices"
	"strings"

	"mossledger.example/moss/internal/core/keys"
)

// One port shows a certificate for each name that it is asked for (RFC 6066, section 3). Which
// names there are no port tells: those of the certificates in the files of its host are tried.

// mostNames are asked of one port.
const mostNames = 32

// askable are the names that a port is asked for, sorted, at most so many: of a wildcard one
// that it covers, and no addresses, which nobody asks for.
func askable(names []string) []string {
	var out []string
	for _, name := range names {
		name = strings.ToLower(strings.TrimSuffix(name, "."))
		if rest, wild := strings.CutPrefix(name, "*."); wild {
			name = "www." + rest
		}
		if name == "" || len(name) > 253 || !strings.Contains(name, ".") || net.ParseIP(name) != nil || strings.ContainsFunc(name, func(r rune) bool { return r <= ' ' || r > '~' || strings.ContainsRune("*/:@", r) }) {
			continue
		}
		out = append(out, name)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// covers: whoever asks for the name gets what is shown without one.
func covers(c keys.Certificate, name string) bool {
	return (&x509.Certificate{DNSNames: c.Names}).VerifyHostname(name) == nil
}

// placeOf is where a certificate is shown: its port, and the name that it was asked for.
func placeOf(port, name string) string { return strings.TrimSuffix(port+" "+name, " ") }

// portOf splits a place.
func portOf(place string) (port, name string) {
	port, name, _ = strings.Cut(place, " ")
	return port, name
}
