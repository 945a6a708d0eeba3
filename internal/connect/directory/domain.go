package directory

import (
	"slices"
	"strconv"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/values"
)

// readDomain finds the NetBIOS name and SID of a Windows-schema domain. A
// failure leaves them unknown.
func (s *session) readDomain() {
	s.facts.Domains = []string{values.DNSOf(s.facts.BaseDN)}
	res, err := s.conn.Search(ldap.NewSearchRequest(s.facts.BaseDN, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, 0, false, "(objectClass=*)",
		[]string{"objectSid", "minPwdLength", "pwdHistoryLength", "maxPwdAge", "msDS-Behavior-Version"}, nil))
	if err == nil && len(res.Entries) == 1 {
		s.facts.Identity = values.SIDText(res.Entries[0].GetRawAttributeValue("objectSid"))
		s.facts.Policy = map[string]string{
			"minimum length": res.Entries[0].GetAttributeValue("minPwdLength"),
			"history":        res.Entries[0].GetAttributeValue("pwdHistoryLength"),
		}
	}
	// The configuration is the forest's: that of a child domain is not below the domain.
	configuration := s.root.GetAttributeValue("configurationNamingContext")
	if configuration == "" {
		configuration = "CN=Configuration," + s.facts.BaseDN
	}
	res, err = s.conn.Search(ldap.NewSearchRequest("CN=Partitions,"+configuration, ldap.ScopeSingleLevel, ldap.NeverDerefAliases, 0, 0, false,
		"(nCName="+ldap.EscapeFilter(s.facts.BaseDN)+")", []string{"nETBIOSName"}, nil))
	if err == nil && len(res.Entries) > 0 {
		if name := res.Entries[0].GetAttributeValue("nETBIOSName"); name != "" {
			s.facts.Domains = append([]string{name}, s.facts.Domains...)
		}
	}
	s.readTrusts()
}

// Attributes of trusts ([MS-ADTS], section 6.1.6.7).
const (
	trustOutbound = 2 // accounts of the other domain are let in here
	trustRealm    = 3 // no domain, but a Kerberos realm of another kind
)

// readTrusts finds the domains whose accounts this one lets in: what runs here may log on
// as one of theirs. A failure leaves them unknown.
func (s *session) readTrusts() {
	res, err := s.conn.Search(ldap.NewSearchRequest("CN=System,"+s.facts.BaseDN, ldap.ScopeSingleLevel, ldap.NeverDerefAliases, 0, 0, false,
		"(objectClass=trustedDomain)", []string{"flatName", "trustPartner", "securityIdentifier", "trustDirection", "trustType"}, nil))
	if err != nil {
		return
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
			s.facts.Trusts = append(s.facts.Trusts, trust)
		}
	}
	slices.SortFunc(s.facts.Trusts, func(a, b connect.Trust) int { return strings.Compare(a.Names[0], b.Names[0]) })
}
