package directory

import (
	"context"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/refusal"
	"mossledger.example/moss/internal/connect/directory/twins"
	"mossledger.example/moss/internal/core/secret"
)

// twins reads two accounts that take turns, and says what is in the way of it.
func (s *session) twins(point connect.Point) (p twins.Pair, why string, failure *connect.Failure) {
	if p.Was, failure = s.locate(point.Account, twins.Attributes...); failure != nil {
		return p, "", failure
	}
	if p.Next, failure = s.locate(point.Next, twins.Attributes...); failure != nil {
		return p, "", failure
	}
	if !s.windows() {
		return p, "accounts of a directory without the Windows-domain schema have no switch with which one can rest", nil
	}
	return p, p.InTheWay(), nil
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
	for i, change := range both.Changes(want, given.New) {
		if err := s.conn.Modify(change.ModifyRequest); err != nil {
			f := refusal.Failure(target, connect.StageChange, err, given.New, given.Old, target.Steward.Password)
			f.Words = secret.Scrub(change.DN+": "+f.Words, given.Old, given.New)
			f.Next, f.Unclear = change.Next, f.Unclear || i > 0
			return f
		}
	}
	return nil
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
