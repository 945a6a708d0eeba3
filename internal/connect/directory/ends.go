package directory

import (
	"context"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/ending"
	"mossledger.example/moss/internal/core/expiry"
)

// atEnd finds the entry that a change is about, by its stable id.
func (s *session) atEnd(change expiry.EndChange) (*ldap.Entry, *connect.Failure) {
	e, failure := s.locate(connect.AccountRef{Name: change.Name, StableID: change.ID, DN: change.DN}, ending.Sought(s.windows())...)
	if failure != nil {
		failure.Unclear = false // it was only asked
	}
	return e, failure
}

// Ending implements connect.Ender.
func (c Connector) Ending(ctx context.Context, target connect.Target, change expiry.EndChange) (connect.Ending, error) {
	if unfit := connect.Endable(c, target, change); unfit != nil {
		return connect.Ending{}, unfit
	}
	s, failure := open(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false
		return connect.Ending{}, failure
	}
	defer s.close()
	e, failure := s.atEnd(change)
	if failure != nil {
		if change.Act == expiry.Delete && failure.Code == connect.CodeGone {
			return connect.Ending{Standing: connect.Standing{There: true, InForce: true, Words: failure.Words}}, nil
		}
		return connect.Ending{}, failure
	}
	p, failure := s.planned(e, change)
	if failure != nil {
		return p.Ending, failure
	}
	if p.Refused != "" && !p.There {
		return p.Ending, target.Fail(connect.StageChange, connect.CodeCannot, p.Refused, "'expire --of account' ends the account instead", nil)
	}
	if !s.windows() && change.Of != expiry.Password && change.Act != expiry.Delete {
		keeps, failure := s.keepsLocks()
		if failure != nil {
			failure.Unclear = false
			return p.Ending, failure
		}
		if !keeps {
			return p.Ending, target.Fail(connect.StageChange, connect.CodeCannot, "the directory keeps no state of accounts: no password policy is in force", "have it load the overlay for password policies, or rotate the password and keep the new one back", nil)
		}
	}
	return p.Ending, nil
}

// planned makes the plan of a change, by the password policies where there are such.
func (s *session) planned(e *ldap.Entry, change expiry.EndChange) (ending.Plan, *connect.Failure) {
	p := ending.Of(e, s.windows(), change, s.now())
	if s.windows() || change.Act == expiry.Delete {
		return p, nil
	}
	rules, failure := s.lockRules()
	p.Judge(e, change, rules)
	return p, failure
}

// End implements connect.Ender.
func (c Connector) End(ctx context.Context, target connect.Target, change expiry.EndChange, back bool) error {
	if unfit := connect.Endable(c, target, change); unfit != nil {
		return unfit
	}
	s, failure := open(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false
		return failure
	}
	defer s.close()
	e, failure := s.atEnd(change)
	if failure != nil {
		if change.Act == expiry.Delete && failure.Code == connect.CodeGone && !back {
			return nil
		}
		return failure
	}
	p, failure := s.planned(e, change)
	if failure != nil {
		return failure
	}
	var err error
	if back && p.Final == "" {
		p, err = ending.Back(e, s.windows(), change, s.now())
	}
	switch {
	case err != nil:
		return target.Fail(connect.StageChange, connect.CodeFailed, err.Error(), "look at the account, and decide by hand", err)
	case back && p.Undone:
		return nil
	}
	if due, err := target.Due(change, p.Ending, back); !due {
		return err
	}
	switch {
	case p.Refused != "":
		return target.Fail(connect.StageChange, connect.CodeCannot, p.Refused, "", nil)
	case p.Delete:
		err = s.conn.Del(ldap.NewDelRequest(e.DN, nil))
	default:
		m := ldap.NewModifyRequest(e.DN, nil)
		m.Changes = p.Modify
		err = s.conn.Modify(m)
	}
	if err == nil {
		return nil
	}
	f := s.fail(connect.StageChange, err)
	if f.Code == connect.CodeNotPermitted {
		f.Next = "let the steward write it: 'moss system prepare " + target.Name + " --for end' says how"
	}
	return f
}
