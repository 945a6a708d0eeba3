// Package domain reads what a domain of the Windows schema says of itself and of others.
package domain

import (
	"slices"
	"strconv"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/values"
)

// Attributes of trusts ([MS-ADTS], section 6.1.6.7).
const (
	trustOutbound = 2 // accounts of the other domain are let in here
	trustRealm    = 3 // no domain, but a Kerberos realm of another kind
)

// Searcher asks a directory.
type Searcher interface {
	Search(*ldap.SearchRequest) (*ldap.SearchResult, error)
}

// trusts finds the domains whose accounts this one lets in: what runs here may log on
// as one of theirs. A failure leaves them unknown.
func trusts(conn Searcher, base string) (out []connect.Trust) {
	res, err := conn.Search(ldap.NewSearchRequest("CN=System,"+base, ldap.ScopeSingleLevel, ldap.NeverDerefAliases, 0, 0, false,
		"(objectClass=trustedDomain)", []string{"flatName", "trustPartner", "securityIdentifier", "trustDirection", "trustType"}, nil))
	if err != nil {
		return nil
	}
	for _, e := range res.Entries {
		direction, _ := strconv.Atoi(e.GetAttributeValue("trustDirection"))
		kind, _ := strconv.Atoi(e.GetAttributeValue("trustType"))
		if direction&trustOutbound == 0 {
			continue
		}
		trust := connect.Trust{SID: values.SIDText(e.GetRawAttributeValue("securityIdentifier"))}
		for _, name := range []string{e.GetAttributeValue("flatName"), e.GetAttributeValue("trustPartner")} {
			if name != "" && !slices.Contains(trust.Names, name) && (kind != trustRealm || strings.Contains(name, ".")) {
				trust.Names = append(trust.Names, name)
			}
		}
		if len(trust.Names) > 0 {
			out = append(out, trust)
		}
	}
	slices.SortFunc(out, func(a, b connect.Trust) int { return strings.Compare(a.Names[0], b.Names[0]) })
	return out
}

// Read finds the NetBIOS name and SID of a Windows-schema domain, and whom it trusts. A
// failure leaves them unknown.
func Read(conn Searcher, root *ldap.Entry, facts *connect.Facts) {
	facts.Domains = []string{values.DNSOf(facts.BaseDN)}
	res, err := conn.Search(ldap.NewSearchRequest(facts.BaseDN, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, 0, false, "(objectClass=*)",
		[]string{"objectSid", "minPwdLength", "pwdHistoryLength", "maxPwdAge", "msDS-Behavior-Version"}, nil))
	if err == nil && len(res.Entries) == 1 {
		facts.Identity = values.SIDText(res.Entries[0].GetRawAttributeValue("objectSid"))
		facts.Policy = map[string]string{
			"minimum length": res.Entries[0].GetAttributeValue("minPwdLength"),
			"history":        res.Entries[0].GetAttributeValue("pwdHistoryLength"),
		}
	}
	// The configuration is the forest's: that of a child domain is not below the domain.
	configuration := root.GetAttributeValue("configurationNamingContext")
	if configuration == "" {
		configuration = "CN=Configuration," + facts.BaseDN
	}
	res, err = conn.Search(ldap.NewSearchRequest("CN=Partitions,"+configuration, ldap.ScopeSingleLevel, ldap.NeverDerefAliases, 0, 0, false,
		"(nCName="+ldap.EscapeFilter(facts.BaseDN)+")", []string{"nETBIOSName"}, nil))
	if err == nil && len(res.Entries) > 0 {
		if name := res.Entries[0].GetAttributeValue("nETBIOSName"); name != "" {
			facts.Domains = append([]string{name}, facts.Domains...)
		}
	}
	facts.Trusts = trusts(conn, facts.BaseDN)
}
