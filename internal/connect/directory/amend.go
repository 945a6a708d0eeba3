package directory

import (
	"context"
	"fmt"
	"slices"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/spelling"
	"mossledger.example/moss/internal/core/privilege"
)

// Standing implements connect.Amender: the directory says whether the group has the account
// among its members.
func (c Connector) Standing(ctx context.Context, target connect.Target, change privilege.RightChange) (connect.Standing, error) {
	if _, unfit := connect.Amendable(c, target, change); unfit != nil {
		return connect.Standing{}, unfit
	}
	s, failure := open(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false
		return connect.Standing{}, failure
	}
	defer s.close()
	for _, dn := range []string{change.GroupDN, change.ToDN} {
		e, words, failure := s.base(dn, "objectClass")
		if failure != nil {
			return connect.Standing{}, failure
		}
		if e == nil {
			return connect.Standing{}, target.Fail(connect.StageRead, connect.CodeGone, dn+": "+words, "run a survey of "+target.Name, nil)
		}
	}
	is, err := s.member(change)
	if err != nil {
		f := s.fail(connect.StageRead, err)
		f.Unclear = false
		return connect.Standing{}, f
	}
	out := connect.Standing{There: is, InForce: is, Words: "the directory says that it is no member"}
	if is {
		out.Words = "the directory says that it is a member"
	}
	return out, nil
}

// member asks with a filter (RFC 4515): a group may have more members than one answer shows.
func (s *session) member(change privilege.RightChange) (bool, error) {
	res, err := s.conn.Search(ldap.NewSearchRequest(change.GroupDN, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, 0, false, "(member="+ldap.EscapeFilter(change.ToDN)+")", []string{"1.1"}, nil))
	if err != nil {
		return false, err
	}
	return len(res.Entries) == 1, nil
}

// Amend implements connect.Amender.
func (c Connector) Amend(ctx context.Context, target connect.Target, change privilege.RightChange, back bool) error {
	if _, unfit := connect.Amendable(c, target, change); unfit != nil {
		return unfit
	}
	s, failure := open(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false
		return failure
	}
	defer s.close()
	modify := ldap.NewModifyRequest(change.GroupDN, nil)
	give := change.Give != back
	if give {
		modify.Add("member", []string{change.ToDN})
	} else {
		modify.Delete("member", []string{change.ToDN})
	}
	err := s.conn.Modify(modify)
	if err == nil {
		return nil
	}
	// Somebody was quicker: what is asked for is so (RFC 4511, appendix A; directories of the
	// windows schema answer with other codes, [MS-ADTS] section 3.1.1.5.3.1).
	already := []uint16{ldap.LDAPResultAttributeOrValueExists, ldap.LDAPResultEntryAlreadyExists, ldap.LDAPResultNoSuchAttribute, ldap.LDAPResultUnwillingToPerform}
	if ldap.IsErrorAnyOf(err, already...) {
		if is, asked := s.member(change); asked == nil && is == give {
			return nil
		}
	}
	f := s.fail(connect.StageChange, err)
	if f.Code == connect.CodeNotPermitted {
		f.Next = "let the steward write the members of this group: 'moss system prepare " + target.Name + " --for amend' says how"
	}
	return f
}

// Try implements connect.Trier.
func (Connector) Try(ctx context.Context, target connect.Target, step string) (connect.Tried, error) {
	words := spelling.Step(step)
	search := len(words) == 3 && words[0] == "search"
	if !search && (len(words) != 5 || words[0] != "modify" || !slices.Contains([]string{"add", "delete", "replace"}, words[2])) {
		return connect.Tried{}, target.Fail(connect.StageProve, connect.CodeFailed, fmt.Sprintf("%q is no step", step), connect.JobHelp, nil)
	}
	s, failure := signIn(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false
		return connect.Tried{}, failure
	}
	defer s.End()
	var err error
	if search {
		var res *ldap.SearchResult
		res, err = s.conn.Search(ldap.NewSearchRequest(words[1], ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 1, 0, false, words[2], nil, nil))
		if err == nil && len(res.Entries) == 0 {
			return connect.Tried{Words: "nothing is shown"}, nil
		}
		if ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded) {
			err = nil // one is enough
		}
	} else {
		m := ldap.NewModifyRequest(words[1], nil)
		m.Changes = []ldap.Change{{Operation: map[string]uint{"add": ldap.AddAttribute, "delete": ldap.DeleteAttribute, "replace": ldap.ReplaceAttribute}[words[2]], Modification: ldap.PartialAttribute{Type: words[3], Vals: []string{words[4]}}}}
		err = s.conn.Modify(m)
	}
	if err != nil {
		f := s.fail(connect.StageProve, err)
		if f.Unclear || f.Code == connect.CodeUnreachable {
			return connect.Tried{}, f
		}
		return connect.Tried{Words: f.Words}, nil
	}
	return connect.Tried{OK: true}, nil
}
