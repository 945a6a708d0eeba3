package directory

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/accounts"
	"mossledger.example/moss/internal/connect/directory/membership"
	"mossledger.example/moss/internal/connect/directory/paged"
	"mossledger.example/moss/internal/connect/directory/policy"
	"mossledger.example/moss/internal/connect/directory/rights"
	"mossledger.example/moss/internal/core/estate"
)

// What has a password is an account, whatever its class; only a group may have
// one of another kind (RFC 2307, section 3).
const (
	windowsAccounts = "(objectClass=user)"
	windowsGroups   = "(objectClass=group)"
	rfcAccounts     = "(|(objectClass=inetOrgPerson)(objectClass=posixAccount)(objectClass=account)(objectClass=simpleSecurityObject)(objectClass=organizationalRole)(pwdChangedTime=*)(&(userPassword=*)(!(objectClass=posixGroup))))"
	rfcGroups       = "(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=posixGroup))"
)

// Visit implements connect.Visitor: groups first, to know nested membership,
// then accounts page by page.
func (Connector) Visit(ctx context.Context, t connect.Target, request connect.VisitRequest, emit func(connect.Batch) error) (connect.Coverage, error) {
	watch := connect.NewStopwatch()
	coverage := connect.NewCoverage()
	s, passed, failure := openAny(ctx, t, watch)
	if failure != nil {
		coverage.Stages = watch.Stages()
		coverage.Why[connect.ScopeAccounts] = failure.Error()
		return coverage, failure
	}
	defer s.close()
	coverage.Facts = s.facts
	v := &visit{session: s, groups: membership.New(), emit: emit, resting: request.Resting}
	if request.Rights {
		v.rights = rights.New(v.directory(), emit)
	}
	err := emit(connect.Batch{Facts: &s.facts, Problems: s.passedOver(passed)})
	if err == nil {
		err = v.read(ctx)
	}
	coverage.Counts[connect.ScopeAccounts] = v.count
	coverage.Complete[connect.ScopeAccounts] = err == nil && len(v.untold) == 0
	if err != nil {
		failure = asFailure(t, err)
		if v.count > 0 {
			failure.Words = fmt.Sprintf("after %d accounts: %s", v.count, failure.Words)
		}
		watch.Fail(failure)
		coverage.Why[connect.ScopeAccounts] = failure.Error()
		coverage.Stages = watch.Stages()
		return coverage, failure
	}
	if len(v.untold) > 0 {
		coverage.Why[connect.ScopeAccounts] = "not readable: " + strings.Join(v.untold, "; ")
	}
	detail := fmt.Sprintf("%d accounts, %d groups", v.count, v.groups.Count())
	if v.referrals > 0 {
		detail += fmt.Sprintf("; %d referral(s) were not followed: add those directories as systems of their own", v.referrals)
	}
	watch.OK(connect.StageRead, detail)
	coverage.Stages = watch.Stages()
	if v.rights == nil {
		return coverage, nil
	}
	of, err := v.rights.Finish(ctx)
	if err != nil { // what depends on credentials is known all the same
		of.Complete, of.Why = false, asFailure(t, err).Error()
	}
	coverage.Rights = &of
	return coverage, nil
}

// directory is what is read of rights.
func (v *visit) directory() rights.Directory {
	return rights.Directory{Name: v.target.Name, Windows: v.windows(), Bases: v.bases, Closed: v.closed, Domain: v.facts.Identity, Configuration: v.root.GetAttributeValue("configurationNamingContext"), Search: v.pages}
}

// Rights implements connect.RightsReader.
func (Connector) Rights(ctx context.Context, t connect.Target, _ connect.RightsRequest, emit func(connect.Batch) error) (connect.RightsCoverage, error) {
	s, _, failure := openAny(ctx, t, connect.NewStopwatch())
	if failure != nil {
		return connect.RightsCoverage{}, failure
	}
	defer s.close()
	return rights.Read(ctx, (&visit{session: s}).directory(), emit)
}

// asFailure makes any error a Failure of reading.
func asFailure(t connect.Target, err error) *connect.Failure {
	var failure *connect.Failure
	if !errors.As(err, &failure) {
		failure = t.Fail(connect.StageRead, connect.CodeFailed, err.Error(), "", err)
	}
	return failure
}

// passedOver tells of servers that were not reached before this one was.
func (s *session) passedOver(words []string) (out []connect.Unread) {
	for _, w := range words {
		out = append(out, connect.Unread{Stage: connect.StageConnect, Place: s.target.Name, What: "read from " + placeOf(s.target) + " instead: " + w, Next: "acts go to the first server only: see that it is there before the next rotation"})
	}
	return out
}

type visit struct {
	*session
	groups    *membership.Memberships
	emit      func(connect.Batch) error
	count     int
	referrals int
	untold    []string       // what could not be read at all
	resting   []string       // accounts that take turns, by stable id
	rights    *rights.Reader // nil where they are not asked for
}

func (v *visit) read(ctx context.Context) error {
	if err := v.readGroups(ctx); err != nil {
		return err
	}
	var lock *locks
	filter, read := windowsAccounts, accounts.WindowsAttributes
	if !v.windows() {
		filter, read = rfcAccounts, accounts.PlainAttributes
		var failure *connect.Failure
		if lock, failure = v.readLocks(ctx); failure != nil {
			return failure
		}
	}
	if v.rights != nil {
		read = slices.Concat(read, v.of(rights.AccountAttributes, rights.PlainAccountAttributes))
	}
	for _, base := range v.bases {
		if words := v.closed[base]; words != "" {
			v.untold = append(v.untold, base+": "+words)
			if err := v.emit(connect.Batch{Problems: []connect.Unread{{Stage: connect.StageRead, Place: base, What: "this naming context cannot be read: " + words, Next: closedNext}}}); err != nil {
				return err
			}
			continue
		}
		if err := v.pages(ctx, base, filter, read, func(entries []*ldap.Entry) error {
			if v.rights != nil {
				v.rights.Take(entries)
			}
			return v.take(entries, lock)
		}); err != nil {
			return err
		}
	}
	return nil
}

// of is what is asked for in directories of its schema.
func (v *visit) of(windows, plain []string) []string {
	if v.windows() {
		return windows
	}
	return plain
}

// take makes accounts of a page of entries.
func (v *visit) take(entries []*ldap.Entry, lock *locks) error {
	now := time.Now()
	batch := connect.Batch{Accounts: make([]estate.Account, 0, len(entries))}
	for _, e := range entries {
		var a estate.Account
		var problem string
		if v.windows() {
			a, problem = accounts.Windows(e)
			a.Groups = v.groups.Effective(v.groups.WithPrimary(e, v.facts.Identity))
		} else {
			a, problem = accounts.RFC(e)
			a.Locked = lock.of(e, now)
			lock.rules.Tell(&a, e)
			if a.Locked == estate.Yes && e.GetAttributeValue(policy.LockAttribute) == policy.LockedForGood && slices.Contains(v.resting, a.StableID) {
				a.Enabled = estate.No // that is how one rests
			}
			a.Groups = v.groups.Of(e, a.Name)
		}
		if problem != "" {
			batch.Problems = append(batch.Problems, connect.Unread{Stage: connect.StageRead, Place: e.DN, What: problem, Next: "grant the steward the right to read this entry"})
			continue
		}
		batch.Accounts = append(batch.Accounts, a)
	}
	v.count += len(batch.Accounts)
	return v.emit(batch)
}

// pages reads a search page by page, the next ones while each is taken in.
func (v *visit) pages(ctx context.Context, base, filter string, attributes []string, each func([]*ldap.Entry) error) error {
	ctx, cancel := context.WithCancel(ctx)
	conn, _, failure := secureRaw(ctx, v.target, connect.NewStopwatch())
	if failure != nil {
		cancel()
		return failure
	}
	s, failure := paged.Open(ctx, &boundedConn{Conn: conn}, v.target, requestTime)
	if failure != nil {
		cancel()
		return failure
	}
	pages := s.Prefetch(ctx, base, filter, attributes)
	defer func() {
		cancel()
		s.Close()
		for range pages { // the reader owns the connection until it has ended
		}
	}()
	number := 0
	for p := range pages {
		number++
		if len(p.Entries) > 0 {
			if err := each(p.Entries); err != nil {
				return err
			}
		}
		v.referrals += p.Referrals
		if p.Err != nil {
			if ctx.Err() != nil {
				break
			}
			f := v.fail(connect.StageRead, p.Err)
			f.Words = fmt.Sprintf("page %d: %s", number, f.Words)
			return f
		}
	}
	if ctx.Err() != nil {
		return v.target.Fail(connect.StageRead, connect.CodeTimeout, fmt.Sprintf("stopped after page %d: %v", number, context.Cause(ctx)), "what was read is kept", ctx.Err())
	}
	return nil
}

// ListSystems implements connect.Lister: computers of a subtree.
func (Connector) ListSystems(ctx context.Context, t connect.Target, base string) ([]connect.Listed, error) {
	watch := connect.NewStopwatch()
	s, _, failure := openAny(ctx, t, watch)
	if failure != nil {
		return nil, failure
	}
	defer s.close()
	bases := s.bases
	if base != "" {
		if _, err := ldap.ParseDN(base); err != nil {
			return nil, t.Fail(connect.StageRead, connect.CodeFailed, fmt.Sprintf("%q is not a distinguished name: %v", base, err), "write it as OU=Hosts,DC=larkmoor,DC=example", err)
		}
		bases = []string{base}
	}
	filter, attributes := "(|(objectClass=ipHost)(objectClass=device))", []string{"cn", "ipHostNumber", "description"}
	if s.windows() {
		filter, attributes = "(&(objectClass=computer)(!(objectClass=msDS-GroupManagedServiceAccount)))", []string{"cn", "dNSHostName", "operatingSystem"}
	}
	var out []connect.Listed
	v := &visit{session: s}
	list := func(entries []*ldap.Entry) error {
		for _, e := range entries {
			listed := connect.Listed{Name: e.GetAttributeValue("cn"), Address: e.GetAttributeValue("dNSHostName"), OS: e.GetAttributeValue("operatingSystem"), Where: e.DN}
			if listed.Address == "" {
				listed.Address = e.GetAttributeValue("ipHostNumber")
			}
			out = append(out, listed)
		}
		return nil
	}
	var err error
	for _, base := range bases {
		if s.closed[base] == "" && err == nil {
			err = v.pages(ctx, base, filter, attributes, list)
		}
	}
	var gone *connect.Failure
	if errors.As(err, &gone) && gone.Code == connect.CodeGone {
		gone.Next = "there is no " + base
	}
	return out, err
}
