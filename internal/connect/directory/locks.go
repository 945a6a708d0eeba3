package directory

import (
	"context"
	"hash/maphash"
	"slices"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/policy"
	"mossledger.example/moss/internal/core/estate"
)

// lockRules reads them. That an attribute is not shown says nothing by itself: a steward that may
// not read it sees the same. A filter tells the two apart, because what may not be searched
// matches neither an assertion nor its negation (RFC 4511, section 4.5.1.7: Undefined).
func (s *session) lockRules() (policy.LockRules, *connect.Failure) {
	policies, failure := s.find(s.contexts, 0, "(objectClass=pwdPolicy)", "pwdLockout", "pwdLockoutDuration", "pwdMaxAge", "pwdMustChange")
	ageless, lost := s.find(s.contexts, 0, "(&(objectClass=pwdPolicy)(!(pwdMaxAge=*)))", "1.1")
	for _, f := range []*connect.Failure{failure, lost} {
		if f != nil && f.Code != connect.CodeGone && f.Code != connect.CodeNotPermitted {
			return nil, f // hidden ones leave locks unknown; this is another matter
		}
	}
	return policy.LockRulesOf(policies, ageless), nil
}

// keepsLocks reports whether the schema has locks at all (RFC 4512, section
// 4.4). A schema that is not shown may have them.
func (s *session) keepsLocks() (bool, *connect.Failure) {
	dn := "cn=Subschema"
	if entry, _, failure := s.base("", "subschemaSubentry"); failure != nil {
		return false, failure
	} else if entry != nil && entry.GetAttributeValue("subschemaSubentry") != "" {
		dn = entry.GetAttributeValue("subschemaSubentry")
	}
	res, err := s.conn.Search(ldap.NewSearchRequest(dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, 0, false, "(objectClass=subschema)", []string{"attributeTypes"}, nil))
	if err != nil {
		if f := s.fail(connect.StageRead, err); f.Unclear || f.Code == connect.CodeUnreachable {
			f.Unclear = false // nothing but reading was tried
			return false, f
		}
		return true, nil
	}
	if len(res.Entries) == 0 || len(res.Entries[0].GetAttributeValues("attributeTypes")) == 0 {
		return true, nil
	}
	return slices.ContainsFunc(res.Entries[0].GetAttributeValues("attributeTypes"), func(definition string) bool {
		return strings.Contains(definition, "'"+policy.LockAttribute+"'") // RFC 4512, section 4.1.2
	}), nil
}

// notLocked matches entries of which it can be read that they have no lock.
const notLocked = "(!(" + policy.LockAttribute + "=*))"

// lockNow says whether one account is locked.
func (s *session) lockNow(entry *ldap.Entry) (estate.Tristate, *connect.Failure) {
	if entry.GetAttributeValue(policy.LockAttribute) != "" {
		rules, failure := s.lockRules()
		if failure != nil {
			return estate.Unknown, failure
		}
		return rules.State(entry, time.Now()), nil
	}
	if keeps, failure := s.keepsLocks(); failure != nil || !keeps {
		return estate.No, failure
	}
	res, err := s.conn.Search(ldap.NewSearchRequest(entry.DN, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, 0, false, notLocked, []string{"1.1"}, nil))
	switch {
	case err != nil:
		f := s.fail(connect.StageRead, err)
		f.Unclear = false // nothing but reading was tried
		return estate.Unknown, f
	case len(res.Entries) == 1:
		return estate.No, nil
	}
	return estate.Unknown, nil
}

// locks are those of all accounts that a visit reads.
type locks struct {
	rules policy.LockRules
	kept  bool
	seed  maphash.Seed
	free  map[uint64]struct{} // of DNs that can be seen to have no lock
}

func (v *visit) readLocks(ctx context.Context) (l *locks, failure *connect.Failure) {
	l = &locks{seed: maphash.MakeSeed(), free: map[uint64]struct{}{}}
	if l.kept, failure = v.keepsLocks(); failure != nil || !l.kept {
		return l, failure
	}
	if l.rules, failure = v.lockRules(); failure != nil {
		return l, failure
	}
	for _, base := range v.bases {
		if v.closed[base] != "" {
			continue
		}
		err := v.pages(ctx, base, "(&"+rfcAccounts+notLocked+")", []string{"1.1"}, func(entries []*ldap.Entry) error {
			for _, e := range entries {
				l.free[maphash.String(l.seed, e.DN)] = struct{}{}
			}
			return nil
		})
		if err != nil {
			return l, asFailure(v.target, err)
		}
	}
	return l, nil
}

func (l *locks) of(e *ldap.Entry, now time.Time) estate.Tristate {
	if e.GetAttributeValue(policy.LockAttribute) != "" {
		return l.rules.State(e, now)
	}
	if _, free := l.free[maphash.String(l.seed, e.DN)]; free || !l.kept {
		return estate.No
	}
	return estate.Unknown
}
