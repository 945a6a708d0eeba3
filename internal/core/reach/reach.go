// Package reach says what is asked of a port and what came of it: open, refused, filtered,
// hanging after it was connected, another answer than was expected, a certificate that is
// wrong, a proxy in between. It connects to nothing itself.
package reach

import (
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
)

// Outcome of a probe.
type Outcome string

// Outcomes, the good one first.
const (
	Open        Outcome = "open"         // and, where more was asked for, it answered as was expected
	Refused     Outcome = "refused"      // the other end says that nothing listens
	Filtered    Outcome = "filtered"     // nothing comes back: something in between drops it
	Unnamed     Outcome = "no-address"   // the name has no address
	Unroutable  Outcome = "no-route"     // there is no way there
	Hangs       Outcome = "hangs"        // it is connected, and nothing answers
	WrongAnswer Outcome = "wrong-answer" // something else than was expected answers
	BadCert     Outcome = "certificate"  // its certificate is not trusted, or not for that name, or its time is over
	ByProxy     Outcome = "proxy"        // a proxy on the way refuses, or answers in its place
	Unprobed    Outcome = "not-probed"   // nobody could ask: the host that was to ask is away, or may not
)

// Outcomes lists them.
func Outcomes() []string {
	return []string{string(Open), string(Refused), string(Filtered), string(Unnamed), string(Unroutable), string(Hangs), string(WrongAnswer), string(BadCert), string(ByProxy), string(Unprobed)}
}

// Ask is what is asked of a port.
type Ask struct {
	Target   string `json:"target" doc:"HOST:PORT, or tls://, http://, https:// or ssh:// with a host, a port where it is not the usual one, and a path"`
	Status   int    `json:"status,omitempty" doc:"Status that HTTP must answer with; 0 for any below 400"`
	Contains string `json:"contains,omitempty" doc:"What the answer must have in it"`
	Proxy    string `json:"proxy,omitempty" doc:"Proxy to ask through: http://HOST:PORT; environment for the one of the service's own environment"`
	CA       string `json:"ca,omitempty" doc:"Certificates to trust, in PEM; the system's own without it"`
}

// ProbeStep is one stage of a probe.
type ProbeStep struct {
	Stage string `json:"stage" enum:"name,connect,proxy,secure,answer"`
	Words string `json:"words"`
	Milli int64  `json:"milliseconds"`
}

// Result is what came of it.
type Result struct {
	Outcome Outcome     `json:"outcome" enum:"open,refused,filtered,no-address,no-route,hangs,wrong-answer,certificate,proxy,not-probed"`
	Words   string      `json:"words" doc:"What happened, in the system's own words where there are some"`
	Next    string      `json:"next,omitempty" doc:"What to look at next"`
	Between string      `json:"between,omitempty" doc:"What stands in between, where that shows: a proxy that was named, or one that was not"`
	Steps   []ProbeStep `json:"steps" nullable:"false"`
}

// Place is a target in its parts.
type Place struct {
	Scheme, Host, Port, Path string
}

// Address is the host with the port.
func (p Place) Address() string {
	if strings.Contains(p.Host, ":") {
		return "[" + p.Host + "]:" + p.Port
	}
	return p.Host + ":" + p.Port
}

// String is the target as it is written in full.
func (p Place) String() string {
	if p.Scheme == "tcp" {
		return p.Address()
	}
	return p.Scheme + "://" + p.Address() + p.Path
}

var usualPorts = map[string]string{"tls": "443", "http": "80", "https": "443", "ssh": "22"}

// Parse reads a target.
func Parse(target string) (Place, error) {
	target = strings.TrimSpace(target)
	if len(target) > 500 || strings.ContainsFunc(target, func(c rune) bool { return c <= ' ' || c == 0x7f }) {
		return Place{}, errors.New("a target is HOST:PORT, or tls://, http://, https:// or ssh:// with a host")
	}
	p, err := parts(target)
	if err != nil {
		return p, err
	}
	n, err := strconv.Atoi(p.Port)
	if err != nil || n < 1 || n > 65535 {
		return p, fmt.Errorf("%q is no port: 1 to 65535", p.Port)
	}
	return p, checkHost(p.Host)
}

func parts(target string) (Place, error) {
	p := Place{Scheme: "tcp"}
	plain := !strings.Contains(target, "://")
	if plain {
		target = "tcp://" + target
	}
	u, err := url.Parse(target)
	switch {
	case plain && (err != nil || u.Port() == ""):
		return p, errors.New("say the host and the port: HOST:PORT")
	case err != nil:
		return p, errors.New("it is no address: " + err.Error())
	case u.User != nil:
		return p, errors.New("a target has no user and no password in it")
	}
	p.Scheme, p.Host, p.Port = strings.ToLower(u.Scheme), u.Hostname(), u.Port()
	if usualPorts[p.Scheme] == "" && p.Scheme != "tcp" {
		return p, fmt.Errorf("%s:// is none of tcp, tls, http, https and ssh", p.Scheme)
	}
	if p.Port == "" {
		p.Port = usualPorts[p.Scheme]
	}
	switch {
	case strings.HasPrefix(p.Scheme, "http"):
		p.Path = u.RequestURI()
	case u.Path != "" && u.Path != "/" || u.RawQuery != "" || u.Fragment != "" || plain && u.Path != "":
		return p, errors.New("only http:// and https:// have a path")
	}
	return p, nil
}

func checkHost(host string) error {
	switch {
	case host == "":
		return errors.New("say the host as well: HOST:PORT")
	case strings.ContainsFunc(host, func(c rune) bool {
		return c != '.' && c != '-' && c != '_' && c != ':' && (c < '0' || c > '9') && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z')
	}):
		return fmt.Errorf("%q is no host: a name, or an address", host)
	case strings.Contains(host, ":"):
		if _, err := netip.ParseAddr(host); err != nil {
			return fmt.Errorf("%q is no host: an address with colons stands in brackets", host)
		}
	}
	return Allowed(host)
}

// Allowed refuses addresses that are no system's: of the link itself, where clouds tell
// secrets to whoever asks, and of many at once. What a name stands for is looked at when it is
// connected.
func Allowed(host string) error {
	if address, err := netip.ParseAddr(strings.Trim(host, "[]")); err == nil {
		return AllowedAddress(address)
	}
	return nil
}

// AllowedAddress does so for an address.
func AllowedAddress(address netip.Addr) error {
	address = address.Unmap()
	if address.IsLinkLocalUnicast() || address.IsMulticast() || address.IsUnspecified() || address == netip.AddrFrom4([4]byte{255, 255, 255, 255}) {
		return fmt.Errorf("%s is no address of a system: it is not probed", address)
	}
	return nil
}
