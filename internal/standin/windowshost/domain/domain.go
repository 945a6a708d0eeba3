// Package domain is the authority of stand-ins that are members of a directory: it judges
// sign-ins as a controller does.
package domain

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"net"
	"regexp"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/jcmturner/gokrb5/v8/client"
	"github.com/jcmturner/gokrb5/v8/config"

	"mossledger.example/moss/internal/core/privilege/descriptor"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/standin/windowshost"
)

// Domain is a windowshost.Authority over LDAP: it checks passwords by binding, against
// whatever directory answers there.
type Domain struct {
	Address string // host:port of LDAPS
	CA      string // PEM
	Base    string
	Name    string // DNS name of the domain
	Account string // that looks accounts up
	Secret  string
	Center  string // host:port of its key distribution center; "" for none
	// Retrieve asks the directory for the password of a managed account, as a host that started
	// then; nil where it gives out none.
	Retrieve func(host, account string, started time.Time) (secret.Value, error)
}

// Fetch implements windowshost.Fetches.
func (d *Domain) Fetch(host, account string, started time.Time) (secret.Value, error) {
	if d.Retrieve == nil {
		return secret.Value{}, errors.New("this directory gives out no passwords")
	}
	return d.Retrieve(host, account, started)
}

func (d *Domain) dial() (*ldap.Conn, error) {
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(d.CA))
	host, _, err := net.SplitHostPort(d.Address)
	if err != nil {
		return nil, err
	}
	return ldap.DialURL("ldaps://"+d.Address, ldap.DialWithTLSConfig(&tls.Config{RootCAs: pool, ServerName: host, MinVersion: tls.VersionTLS12}))
}

var bindData = regexp.MustCompile(`data ([0-9a-f]{3}),`)

var dataAnswers = map[string]windowshost.Answer{
	"52e": windowshost.Wrong, "525": windowshost.Wrong, "532": windowshost.Expired, "533": windowshost.Disabled, "701": windowshost.AccountExpired, "773": windowshost.MustChange, "775": windowshost.LockedOut,
}

// plain is the account's name without its domain.
func plain(account string) string {
	name, _, _ := strings.Cut(account[strings.LastIndexByte(account, '\\')+1:], "@")
	return name
}

// SignIn implements windowshost.Authority.
func (d *Domain) SignIn(account, password string) windowshost.Answer {
	conn, err := d.dial()
	if err != nil {
		return windowshost.Unavailable
	}
	defer conn.Close()
	err = conn.Bind(plain(account)+"@"+d.Name, password)
	var refused *ldap.Error
	switch {
	case err == nil:
		return d.ticket(account, password)
	case errors.As(err, &refused) && refused.ResultCode == ldap.LDAPResultInvalidCredentials:
		if m := bindData.FindStringSubmatch(err.Error()); m != nil && dataAnswers[m[1]] != 0 {
			return dataAnswers[m[1]]
		}
		return windowshost.Wrong
	}
	return windowshost.Unavailable
}

// ticket asks for one, as a service's log-on does: a bind takes the former password for
// an hour, this does not.
func (d *Domain) ticket(account, password string) windowshost.Answer {
	if d.Center == "" {
		return windowshost.Accepted
	}
	realm := strings.ToUpper(d.Name)
	settings, err := config.NewFromString("[libdefaults]\n default_realm = " + realm + "\n dns_lookup_kdc = false\n udp_preference_limit = 1\n[realms]\n " + realm + " = {\n  kdc = " + d.Center + "\n }\n")
	if err != nil {
		return windowshost.Unavailable
	}
	c := client.NewWithPassword(plain(account), realm, password, settings, client.DisablePAFXFAST(true))
	defer c.Destroy()
	if err := c.Login(); err != nil {
		if strings.Contains(err.Error(), "KDC_ERR_PREAUTH_FAILED") {
			return windowshost.Wrong
		}
		return windowshost.Unavailable
	}
	return windowshost.Accepted
}

// SID implements windowshost.Identifies.
func (d *Domain) SID(account string) string {
	e := d.find(account, "")
	if e == nil {
		return ""
	}
	sid, err := descriptor.ReadSID(e.GetRawAttributeValue("objectSid"))
	if err != nil {
		return ""
	}
	return sid.String()
}

// User implements windowshost.Identifies.
func (d *Domain) User(account string) bool { return d.find(account, "(objectClass=user)") != nil }

// Groups implements windowshost.Identifies.
func (d *Domain) Groups(account string) (out []string) {
	e := d.find(account, "")
	if e == nil {
		return nil
	}
	seen := map[string]bool{}
	for left := e.GetAttributeValues("memberOf"); len(left) > 0; left = left[1:] {
		if seen[strings.ToLower(left[0])] {
			continue
		}
		seen[strings.ToLower(left[0])] = true
		if g := d.one(left[0], ldap.ScopeBaseObject, "(objectClass=*)"); g != nil {
			out = append(out, g.GetAttributeValue("sAMAccountName"))
			left = append(left, g.GetAttributeValues("memberOf")...)
		}
	}
	return out
}

// find looks up who has a name; nil where nobody has, or several do.
func (d *Domain) find(account, more string) *ldap.Entry {
	return d.one(d.Base, ldap.ScopeWholeSubtree, "(&(sAMAccountName="+ldap.EscapeFilter(plain(account))+")"+more+")")
}

// one finds the one entry that a search is for; nil where there is none, or more.
func (d *Domain) one(base string, scope int, filter string) *ldap.Entry {
	conn, err := d.dial()
	if err != nil {
		return nil
	}
	defer conn.Close()
	if err := conn.Bind(d.Account, d.Secret); err != nil {
		return nil
	}
	found, err := conn.Search(ldap.NewSearchRequest(base, scope, ldap.NeverDerefAliases, 2, 5, false, filter, []string{"objectSid", "sAMAccountName", "memberOf"}, nil))
	if err != nil || len(found.Entries) != 1 {
		return nil
	}
	return found.Entries[0]
}

// Exists implements windowshost.Authority.
func (d *Domain) Exists(account string) bool { return d.find(account, "") != nil }
