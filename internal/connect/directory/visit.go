package directory

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
)

// pageSize is how many entries one page of a search has (RFC 2696).
const pageSize = 1000

var windowsAttributes = []string{
	"objectClass", "objectGUID", "objectSid", "sAMAccountName", "userPrincipalName", "displayName", "description",
	"userAccountControl", "msDS-User-Account-Control-Computed", "msDS-UserPasswordExpiryTimeComputed", "pwdLastSet",
	"accountExpires", "lastLogonTimestamp", "lockoutTime", "memberOf", "servicePrincipalName", "managedBy", "msDS-KeyVersionNumber",
}

var rfcAttributes = []string{
	"objectClass", "entryUUID", "uid", "cn", "displayName", "description", "manager", "uidNumber", "homeDirectory", "loginShell",
	"pwdChangedTime", "pwdAccountLockedTime", "pwdReset", "pwdEndTime", "pwdLastSuccess", "krbPrincipalName",
}

const (
	windowsAccounts = "(objectClass=user)"
	windowsGroups   = "(objectClass=group)"
	rfcAccounts     = "(|(objectClass=inetOrgPerson)(objectClass=posixAccount)(objectClass=account)(objectClass=simpleSecurityObject)(objectClass=organizationalRole))"
	rfcGroups       = "(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=posixGroup))"
)

// Visit implements connect.Visitor: groups first, to know nested membership,
// then accounts page by page.
func (Connector) Visit(ctx context.Context, t connect.Target, _ connect.VisitRequest, emit func(connect.Batch) error) (connect.Coverage, error) {
	watch := connect.NewStopwatch()
	coverage := connect.Coverage{Complete: map[string]bool{}, Why: map[string]string{}, Counts: map[string]int{}}
	s, failure := open(ctx, t, watch)
	if failure != nil {
		coverage.Stages = watch.Stages()
		coverage.Why[connect.ScopeAccounts] = failure.Error()
		return coverage, failure
	}
	defer s.close()
	coverage.Facts = s.facts
	v := &visit{session: s, groups: newMemberships(), emit: emit}
	err := v.read(ctx)
	coverage.Counts[connect.ScopeAccounts] = v.count
	coverage.Complete[connect.ScopeAccounts] = err == nil
	if err != nil {
		if !errors.As(err, &failure) {
			failure = t.Fail(connect.StageRead, connect.CodeFailed, err.Error(), "", err)
		}
		failure.Words = fmt.Sprintf("after %d accounts: %s", v.count, failure.Words)
		watch.Fail(failure)
		coverage.Why[connect.ScopeAccounts] = failure.Error()
		coverage.Stages = watch.Stages()
		return coverage, failure
	}
	detail := fmt.Sprintf("%d accounts, %d groups", v.count, len(v.groups.parents))
	if v.referrals > 0 {
		detail += fmt.Sprintf("; %d referral(s) were not followed: add those directories as systems of their own", v.referrals)
	}
	watch.OK(connect.StageRead, detail)
	coverage.Stages = watch.Stages()
	return coverage, nil
}

type visit struct {
	*session
	groups    *memberships
	emit      func(connect.Batch) error
	count     int
	referrals int
}

func (v *visit) read(ctx context.Context) error {
	filter, attributes, accounts, read := rfcGroups, []string{"cn", "member", "uniqueMember", "memberUid"}, rfcAccounts, rfcAttributes
	if v.windows() {
		filter, attributes, accounts, read = windowsGroups, []string{"memberOf"}, windowsAccounts, windowsAttributes
	}
	err := v.pages(ctx, filter, attributes, func(entries []*ldap.Entry) error {
		for _, e := range entries {
			v.groups.add(e, v.windows())
		}
		return nil
	})
	if err != nil {
		return err
	}
	return v.pages(ctx, accounts, read, func(entries []*ldap.Entry) error {
		batch := connect.Batch{Accounts: make([]estate.Account, 0, len(entries))}
		for _, e := range entries {
			var a estate.Account
			var problem string
			if v.windows() {
				a, problem = windowsAccount(e)
				a.Groups = v.groups.effective(e.GetAttributeValues("memberOf"))
			} else {
				a, problem = rfcAccount(e)
				a.Groups = v.groups.of(e.DN, a.Name)
			}
			if problem != "" {
				batch.Problems = append(batch.Problems, connect.Unread{Stage: connect.StageRead, Place: e.DN, What: problem, Next: "grant the log-on the right to read this entry"})
				continue
			}
			batch.Accounts = append(batch.Accounts, a)
		}
		v.count += len(batch.Accounts)
		return v.emit(batch)
	})
}

// pages reads a search page by page, the next one while each is taken in.
func (v *visit) pages(ctx context.Context, filter string, attributes []string, each func([]*ldap.Entry) error) error {
	ctx, cancel := context.WithCancel(ctx)
	s, failure := openStream(ctx, v.target)
	if failure != nil {
		cancel()
		return failure
	}
	pages := s.prefetch(ctx, v.facts.BaseDN, filter, attributes)
	defer func() {
		cancel()
		s.close()
		for range pages { // the reader owns the connection until it has ended
		}
	}()
	number := 0
	for p := range pages {
		number++
		if len(p.entries) > 0 {
			if err := each(p.entries); err != nil {
				return err
			}
		}
		v.referrals += p.referrals
		if p.err != nil {
			if ctx.Err() != nil {
				break
			}
			f := v.fail(connect.StageRead, p.err)
			f.Words = fmt.Sprintf("page %d: %s", number, f.Words)
			return f
		}
	}
	if ctx.Err() != nil {
		return v.target.Fail(connect.StageRead, connect.CodeTimeout, fmt.Sprintf("stopped after page %d: %v", number, context.Cause(ctx)), "what was read is kept", ctx.Err())
	}
	return nil
}

// Bits of userAccountControl.
const (
	uacDisabled     = 0x2
	uacNeverExpires = 0x10000
	uacLocked       = 0x10 // of the computed attribute
)

func windowsAccount(e *ldap.Entry) (estate.Account, string) {
	a := estate.Account{
		StableID: guidText(e.GetRawAttributeValue("objectGUID")), DN: e.DN,
		Name: e.GetAttributeValue("sAMAccountName"), UPN: e.GetAttributeValue("userPrincipalName"),
		SID: sidText(e.GetRawAttributeValue("objectSid")), DisplayName: e.GetAttributeValue("displayName"),
		Description: e.GetAttributeValue("description"), Owner: e.GetAttributeValue("managedBy"),
		Principals: e.GetAttributeValues("servicePrincipalName"),
		Type:       "user", Enabled: estate.Unknown, Locked: estate.Unknown,
		PasswordChanged: fileTime(e.GetAttributeValue("pwdLastSet")),
		AccountExpires:  fileTime(e.GetAttributeValue("accountExpires")),
		LastLogOn:       fileTime(e.GetAttributeValue("lastLogonTimestamp")),
		PasswordExpires: fileTime(e.GetAttributeValue("msDS-UserPasswordExpiryTimeComputed")),
		MustChange:      e.GetAttributeValue("pwdLastSet") == "0",
	}
	a.KeyVersion, _ = strconv.Atoi(e.GetAttributeValue("msDS-KeyVersionNumber"))
	for _, class := range e.GetAttributeValues("objectClass") {
		switch strings.ToLower(class) {
		case "computer":
			if a.Type != "managed" {
				a.Type = "computer"
			}
		case "msds-groupmanagedserviceaccount", "msds-managedserviceaccount":
			a.Type = "managed"
		}
	}
	if uac, err := strconv.ParseInt(e.GetAttributeValue("userAccountControl"), 10, 64); err == nil {
		a.Enabled = estate.Known(uac&uacDisabled == 0)
		a.NeverExpire = uac&uacNeverExpires != 0
	}
	if computed, err := strconv.ParseInt(e.GetAttributeValue("msDS-User-Account-Control-Computed"), 10, 64); err == nil {
		a.Locked = estate.Known(computed&uacLocked != 0)
	}
	if a.StableID == "" || a.Name == "" {
		return a, "its objectGUID or sAMAccountName cannot be read"
	}
	return a, ""
}

func rfcAccount(e *ldap.Entry) (estate.Account, string) {
	a := estate.Account{
		StableID: e.GetAttributeValue("entryUUID"), DN: e.DN, Name: e.GetAttributeValue("uid"),
		DisplayName: e.GetAttributeValue("displayName"), Description: e.GetAttributeValue("description"),
		Owner: e.GetAttributeValue("manager"), Principals: e.GetAttributeValues("krbPrincipalName"), Type: "user",
		Home: e.GetAttributeValue("homeDirectory"), Shell: e.GetAttributeValue("loginShell"), UID: e.GetAttributeValue("uidNumber"),
		Enabled: estate.Yes, Locked: estate.Known(e.GetAttributeValue("pwdAccountLockedTime") != ""),
		PasswordChanged: generalizedTime(e.GetAttributeValue("pwdChangedTime")),
		AccountExpires:  generalizedTime(e.GetAttributeValue("pwdEndTime")),
		LastLogOn:       generalizedTime(e.GetAttributeValue("pwdLastSuccess")),
		MustChange:      e.GetAttributeValue("pwdReset") == "TRUE",
	}
	if a.Name == "" {
		a.Name = e.GetAttributeValue("cn")
	}
	if a.StableID == "" || a.Name == "" {
		return a, "its entryUUID or name cannot be read"
	}
	return a, ""
}

// memberships knows which group lies in which.
type memberships struct {
	parents map[string][]string // folded DN of a group or member, or memberUid, to groups
	names   map[string]string   // folded DN to DN as written
}

func newMemberships() *memberships {
	return &memberships{parents: map[string][]string{}, names: map[string]string{}}
}

func fold(dn string) string { return strings.ToLower(dn) }

func (m *memberships) add(e *ldap.Entry, windows bool) {
	key := fold(e.DN)
	m.names[key] = e.DN
	if windows {
		m.parents[key] = e.GetAttributeValues("memberOf")
		return
	}
	for _, attribute := range []string{"member", "uniqueMember", "memberUid"} {
		for _, member := range e.GetAttributeValues(attribute) {
			m.parents[fold(member)] = append(m.parents[fold(member)], e.DN)
		}
	}
}

// of returns the groups of an account by its DN and its name.
func (m *memberships) of(dn, name string) []string {
	return m.effective(append(append([]string(nil), m.parents[fold(dn)]...), m.parents[fold(name)]...))
}

// effective adds to direct groups all that these lie in. A group that contains
// itself, at any depth, is walked once.
func (m *memberships) effective(direct []string) []string {
	if len(direct) == 0 {
		return nil
	}
	seen := make(map[string]bool, len(direct))
	var out []string
	queue := direct
	for len(queue) > 0 {
		group := queue[0]
		queue = queue[1:]
		key := fold(group)
		if seen[key] {
			continue
		}
		seen[key] = true
		out = append(out, group)
		queue = append(queue, m.parents[key]...)
	}
	return out
}

// ListSystems implements connect.Lister: computers of a subtree.
func (Connector) ListSystems(ctx context.Context, t connect.Target, base string) ([]connect.Listed, error) {
	watch := connect.NewStopwatch()
	s, failure := open(ctx, t, watch)
	if failure != nil {
		return nil, failure
	}
	defer s.close()
	if base != "" {
		if _, err := ldap.ParseDN(base); err != nil {
			return nil, t.Fail(connect.StageRead, connect.CodeFailed, fmt.Sprintf("%q is not a distinguished name: %v", base, err), "write it as OU=Hosts,DC=larkmoor,DC=example", err)
		}
		s.facts.BaseDN = base
	}
	filter, attributes := "(|(objectClass=ipHost)(objectClass=device))", []string{"cn", "ipHostNumber", "description"}
	if s.windows() {
		filter, attributes = "(&(objectClass=computer)(!(objectClass=msDS-GroupManagedServiceAccount)))", []string{"cn", "dNSHostName", "operatingSystem"}
	}
	var out []connect.Listed
	v := &visit{session: s}
	err := v.pages(ctx, filter, attributes, func(entries []*ldap.Entry) error {
		for _, e := range entries {
			listed := connect.Listed{Name: e.GetAttributeValue("cn"), Address: e.GetAttributeValue("dNSHostName"), OS: e.GetAttributeValue("operatingSystem"), Where: e.DN}
			if listed.Address == "" {
				listed.Address = e.GetAttributeValue("ipHostNumber")
			}
			out = append(out, listed)
		}
		return nil
	})
	if failure, ok := err.(*connect.Failure); ok && failure.Code == connect.CodeGone {
		failure.Next = "there is no " + base
	}
	return out, err
}

// verifyTime bounds one sign-in as an account.
const verifyTime = 15 * time.Second
