package directory

import (
	"context"
	"errors"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/policy"
	"mossledger.example/moss/internal/connect/directory/refusal"
	"mossledger.example/moss/internal/connect/directory/twins"
	"mossledger.example/moss/internal/core/secret"
)

// pair are two accounts that take turns, of either schema.
type pair interface {
	InTheWay() string
	Words() string
}

// twins reads two accounts that take turns, and says what is in the way of it.
func (s *session) twins(point connect.Point) (p pair, why string, failure *connect.Failure) {
	attributes := twins.PlainAttributes
	if s.windows() {
		attributes = twins.Attributes
	}
	was, failure := s.locate(point.Account, attributes...)
	if failure != nil {
		return nil, "", failure
	}
	next, failure := s.locate(point.Next, attributes...)
	if failure != nil {
		return nil, "", failure
	}
	if s.windows() {
		p = twins.Pair{Was: was, Next: next}
		return p, p.InTheWay(), nil
	}
	plain := twins.Plain{Was: was, Next: next}
	if plain.Locks, failure = s.lockRules(); failure != nil {
		return nil, "", failure
	}
	if plain.Groups, failure = s.find(s.contexts, 0, plain.GroupFilter(), twins.MemberAttributes...); failure != nil {
		return nil, "", failure
	}
	return plain, plain.InTheWay(), nil
}

// Alternates implements connect.Accepter.
func (Connector) Alternates(ctx context.Context, target connect.Target, point connect.Point) (bool, string, error) {
	s, failure := open(ctx, target, connect.NewStopwatch())
	if failure != nil {
		return false, "", failure
	}
	defer s.close()
	_, why, failure := s.twins(point)
	if failure != nil {
		return false, "", failure
	}
	return why == "", why, nil
}

// acceptTurn lets both, or one of two accounts sign in. What was changed before something
// is refused stays: it is not certain then that there was no effect.
func acceptTurn(ctx context.Context, target connect.Target, point connect.Point, given connect.Values, want connect.Accepted) error {
	s, failure := open(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false // nothing was sent
		return failure
	}
	defer s.close()
	both, why, failure := s.twins(point)
	switch {
	case failure != nil:
		return failure
	case why != "" && want == connect.AcceptBoth:
		return target.Fail(connect.StageChange, connect.CodeNotPermitted, why, "nothing was changed", nil)
	}
	switch both := both.(type) {
	case twins.Plain:
		return s.plainTurn(ctx, point, both, given, want)
	case twins.Pair:
		return s.changes(both.Changes(want, given.New), false, given)
	}
	return nil
}

// changes makes some; after says that something was changed before.
func (s *session) changes(list []twins.Change, after bool, given connect.Values) error {
	for i, change := range list {
		if err := s.conn.Modify(change.ModifyRequest); err != nil {
			f := refusal.Failure(s.target, connect.StageChange, err, given.New, given.Old, s.target.Steward.Password)
			f.Words = secret.Scrub(change.DN+": "+f.Words, given.Old, given.New)
			f.Next, f.Unclear = change.Next, f.Unclear || after || i > 0
			return f
		}
	}
	return nil
}

// plainTurn is one where accounts rest by a lock. The one whose turn begins is brought into
// its groups first and gets its password then, and what rests again has the new value all
// the same. A password that is set already is not set again, which policies refuse.
func (s *session) plainTurn(ctx context.Context, point connect.Point, p twins.Plain, given connect.Values, want connect.Accepted) error {
	if want == connect.AcceptNew {
		if p.Locked(p.Was) {
			return nil
		}
		return s.changes([]twins.Change{twins.Lock(p.Was, true)}, false, given)
	}
	var list []twins.Change
	if p.Was.GetAttributeValue(policy.LockAttribute) == policy.LockedForGood { // that is undone
		list = append(list, twins.Lock(p.Was, false))
	}
	if want == connect.AcceptBoth {
		list = append(list, p.Step()...)
	}
	list = append(list, twins.Lock(p.Next, false))
	if err := s.changes(list, false, given); err != nil {
		return err
	}
	verdict, failure := bind(ctx, s.target, point.Next, p.Next, given.New)
	if failure == nil && !verdict.Accepted {
		if err := setPassword(ctx, s.target, point.Next, given.New, secret.Value{}); err != nil {
			return unclear(err)
		}
	}
	if failure != nil {
		return unclear(failure)
	}
	if want == connect.AcceptOld {
		return s.changes([]twins.Change{twins.Lock(p.Next, true)}, true, given)
	}
	return nil
}

// shut reports whether an administrator's lock keeps an account from signing in, whatever is
// given.
func (s *session) shut(entry *ldap.Entry) (bool, *connect.Failure) {
	if entry.GetAttributeValue(policy.LockAttribute) != policy.LockedForGood {
		return false, nil
	}
	rules, failure := s.lockRules()
	return failure == nil && twins.Plain{Locks: rules}.Locked(entry), failure
}

// rehearseTurn tells what bringing an account into step would come to.
func (s *session) rehearseTurn(point connect.Point) []connect.Checked {
	line := connect.Checked{System: s.target.Name, What: point.Next.Name + " can do all that " + point.Account.Name + " can", Result: connect.CheckOK}
	both, why, failure := s.twins(point)
	switch {
	case failure != nil:
		line.Result, line.Words, line.Next = connect.CheckFailed, failure.Words, failure.Next
		return []connect.Checked{line}
	case why != "":
		line.Result, line.Words = connect.CheckFailed, why
		return []connect.Checked{line}
	}
	line.Words = both.Words()
	return []connect.Checked{line, {
		System: s.target.Name, What: "rights that name " + point.Account.Name + " itself", Result: connect.CheckUnchecked, Words: "what it may by an entry that names it, and no group of it, is not read: " + point.Next.Name + " may that only where it is named too",
		Next: "grant rights to groups of both",
	}}
}

// unclear says of a failure that something was changed before it.
func unclear(err error) error {
	var f *connect.Failure
	if errors.As(err, &f) {
		f.Unclear = true
	}
	return err
}
