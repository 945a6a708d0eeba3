// Package managing reads what a directory of the Windows-domain schema says about managed
// accounts: whether it can have them, and how one of them stands. It never asks for a password.
package managing

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect/directory/values"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/managed"
)

// Searcher asks a directory.
type Searcher interface {
	Search(request *ldap.SearchRequest) (*ldap.SearchResult, error)
	SearchWithPaging(request *ldap.SearchRequest, size uint32) (*ldap.SearchResult, error)
}

// Class is that of accounts whose passwords hosts of a group may ask for.
const Class = "msDS-GroupManagedServiceAccount"

// wellKnown is the id of the container for managed accounts ([MS-ADTS], section 6.1.1.4).
const wellKnown = "1EB93889E40C45DF9F0C64D23BBB6237"

type reader struct {
	conn Searcher
	base string // the domain
	seen managed.Seen
}

// Read asks what is asked. An error means that the directory did not answer: what it refuses to
// show is in what is seen.
func Read(conn Searcher, now time.Time, ask managed.Ask) (managed.Seen, error) {
	r, err := read(conn, now, ask)
	return r.seen, err
}

func read(conn Searcher, now time.Time, ask managed.Ask) (*reader, error) {
	r := &reader{conn: conn, seen: managed.Seen{Now: now, Class: estate.Unknown, MayCreate: estate.Unknown, Keys: []managed.RootKey{}}}
	root, words, err := r.entry("", "defaultNamingContext", "configurationNamingContext", "schemaNamingContext", "dnsHostName", "domainFunctionality", "forestFunctionality", "domainControllerFunctionality")
	if err != nil {
		return r, err
	}
	if root == nil {
		return r, errors.New("the root entry is not shown: " + words)
	}
	r.base = root.GetAttributeValue("defaultNamingContext")
	r.seen.Controller = root.GetAttributeValue("dnsHostName")
	r.seen.ControllerLevel, r.seen.DomainLevel, r.seen.ForestLevel = levelOf(root, "domainControllerFunctionality"), levelOf(root, "domainFunctionality"), levelOf(root, "forestFunctionality")
	configuration := cmp.Or(root.GetAttributeValue("configurationNamingContext"), "CN=Configuration,"+r.base)
	for _, read := range []func() error{
		func() error {
			return r.class(cmp.Or(root.GetAttributeValue("schemaNamingContext"), "CN=Schema,"+configuration))
		},
		func() error {
			return r.rootKeys("CN=Master Root Keys,CN=Group Key Distribution Service,CN=Services," + configuration)
		},
		func() error { return r.container(ask.Container) },
	} {
		if err := read(); err != nil {
			return r, err
		}
	}
	if ask.Group != "" {
		if err := r.namedGroup(ask.Group); err != nil {
			return r, err
		}
	}
	if ask.Account != "" {
		return r, r.account(ask.Account)
	}
	return r, nil
}

// namedGroup finds the group that is meant. Several of a name are none.
func (r *reader) namedGroup(name string) error {
	base, scope, filter := r.base, ldap.ScopeWholeSubtree, "(&(objectClass=group)(sAMAccountName="+ldap.EscapeFilter(name)+"))"
	if strings.Contains(name, "=") {
		base, scope, filter = name, ldap.ScopeBaseObject, "(objectClass=group)"
	}
	found, _, err := r.entries(base, scope, filter, "sAMAccountName", "objectSid")
	if err == nil && len(found) == 1 {
		r.seen.Group = &managed.Entitled{SID: values.SIDText(found[0].GetRawAttributeValue("objectSid")), Name: found[0].GetAttributeValue("sAMAccountName"), DN: found[0].DN, Kind: "group"}
	}
	return err
}

func levelOf(root *ldap.Entry, name string) int {
	level, err := strconv.Atoi(root.GetAttributeValue(name))
	if err != nil || level < 0 {
		return -1
	}
	return level
}

// entry reads one; nil and the directory's words when it is not shown.
func (r *reader) entry(dn string, attributes ...string) (*ldap.Entry, string, error) {
	found, words, err := r.entries(dn, ldap.ScopeBaseObject, "(objectClass=*)", attributes...)
	if len(found) == 1 {
		return found[0], "", err
	}
	return nil, cmp.Or(words, "it is not shown"), err
}

// mostEntries is how many of one question are looked at.
const mostEntries = 5000

// entries reads those that are shown; nothing and the directory's words when it shows none.
func (r *reader) entries(dn string, scope int, filter string, attributes ...string) ([]*ldap.Entry, string, error) {
	request := ldap.NewSearchRequest(dn, scope, ldap.NeverDerefAliases, 0, 0, false, filter, attributes, nil)
	search := r.conn.Search
	if scope != ldap.ScopeBaseObject {
		search = func(q *ldap.SearchRequest) (*ldap.SearchResult, error) { return r.conn.SearchWithPaging(q, 500) }
	}
	res, err := search(request)
	switch {
	case ldap.IsErrorAnyOf(err, ldap.LDAPResultNoSuchObject, ldap.LDAPResultInsufficientAccessRights, ldap.LDAPResultInvalidDNSyntax, ldap.LDAPResultReferral):
		return nil, wordsOf(err), nil
	case err != nil:
		return nil, "", err
	}
	return res.Entries, "", nil
}

// wordsOf are the directory's own.
func wordsOf(err error) string {
	var refused *ldap.Error
	if errors.As(err, &refused) {
		return fmt.Sprintf("%s (%d)", cmp.Or(strings.TrimRight(refused.Err.Error(), "\x00"), ldap.LDAPResultCodeMap[refused.ResultCode]), refused.ResultCode)
	}
	return err.Error()
}

// class looks whether the schema has such accounts.
func (r *reader) class(schema string) error {
	found, words, err := r.entries(schema, ldap.ScopeSingleLevel, "(&(objectClass=classSchema)(lDAPDisplayName="+Class+"))", "lDAPDisplayName")
	if err == nil && words == "" {
		r.seen.Class = estate.Known(len(found) > 0)
	}
	return err
}

// rootKeys reads when keys were made, never what they are. Where none is shown it matters who
// asks: keys are shown to administrators of the forest, who may create one there.
func (r *reader) rootKeys(container string) error {
	const class = "msKds-ProvRootKey"
	home, words, err := r.entry(container, "allowedChildClassesEffective")
	if err != nil {
		return err
	}
	if home == nil {
		r.seen.KeysUnread = words
		return nil
	}
	found, words, err := r.entries(container, ldap.ScopeSingleLevel, "(objectClass="+class+")", "cn", "msKds-CreateTime", "msKds-UseStartTime")
	for _, e := range found {
		r.seen.Keys = append(r.seen.Keys, managed.RootKey{ID: e.GetAttributeValue("cn"), Created: values.FileTime(e.GetAttributeValue("msKds-CreateTime")), Begins: values.FileTime(e.GetAttributeValue("msKds-UseStartTime"))})
	}
	if len(found) == 0 && (words != "" || !has(home, "allowedChildClassesEffective", class)) {
		r.seen.KeysUnread = cmp.Or(words, "none is shown to the steward, and only administrators of the forest are shown any")
	}
	return err
}

func has(e *ldap.Entry, attribute, value string) bool {
	return slices.ContainsFunc(e.GetAttributeValues(attribute), func(v string) bool { return strings.EqualFold(v, value) })
}

// container looks at where an account would stand, and what the steward may create there.
func (r *reader) container(dn string) error {
	if dn == "" {
		dn = "CN=Managed Service Accounts," + r.base
		domain, _, err := r.entry(r.base, "otherWellKnownObjects", "wellKnownObjects")
		if err != nil {
			return err
		}
		if domain != nil {
			dn = cmp.Or(wellKnownOf(domain), dn)
		}
	}
	r.seen.Container = dn
	e, words, err := r.entry(dn, "allowedChildClassesEffective", "objectClass")
	if err != nil {
		return err
	}
	if e == nil {
		r.seen.ContainerUnread = words
		return nil
	}
	// The directory works it out for who asks ([MS-ADTS], section 3.1.1.4.5.4).
	r.seen.MayCreate = estate.Known(has(e, "allowedChildClassesEffective", Class))
	return nil
}

func wellKnownOf(domain *ldap.Entry) string {
	for _, attribute := range []string{"otherWellKnownObjects", "wellKnownObjects"} {
		for _, v := range domain.GetAttributeValues(attribute) {
			if dn, found := strings.CutPrefix(v, "B:32:"+wellKnown+":"); found {
				return dn
			}
		}
	}
	return ""
}
