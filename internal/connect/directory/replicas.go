package directory

import (
	"context"
	"slices"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/policy"
	"mossledger.example/moss/internal/core/secret"
)

// Dependents sign in at whichever server they reach. A value that one server accepts is
// not in force before the others have learned of it: they are asked as well, each when it
// has come as far. How far it has come shows in when the password was last set there.

// elsewhere asks the further servers what they say of a value. Each has its own time.
func elsewhere(ctx context.Context, t connect.Target, account connect.AccountRef, first *ldap.Entry, value secret.Value) []connect.ServerVerdict {
	further, err := others(t)
	if err != nil {
		return nil // told by a check
	}
	var out []connect.ServerVerdict
	for _, other := range further {
		out = append(out, at(ctx, other, account, first, value))
	}
	return out
}

func at(ctx context.Context, t connect.Target, account connect.AccountRef, first *ldap.Entry, value secret.Value) connect.ServerVerdict {
	v := connect.ServerVerdict{Server: placeOf(t), State: connect.ServerAsked}
	notAsked := func(f *connect.Failure) connect.ServerVerdict {
		v.State, v.Words = connect.ServerBehind, f.Words
		if away(f) {
			v.State = connect.ServerAway
		}
		return v
	}
	s, failure := signIn(ctx, t, connect.NewStopwatch())
	if failure != nil {
		return notAsked(failure)
	}
	failure = s.sameAs(t.Identity) // before anything secret is sent there
	var entry *ldap.Entry
	if failure == nil {
		entry, failure = s.locate(account, counted...)
	}
	if failure == nil {
		failure = s.spared(entry, account.Name)
	}
	s.End()
	if failure != nil {
		return notAsked(failure)
	}
	if far, words := policy.HasComeAsFar(entry, first); !far {
		v.State, v.Words = connect.ServerBehind, words
		return v
	}
	if v.Verdict, failure = bindAs(ctx, t, account, entry, value); failure != nil {
		return notAsked(failure)
	}
	return v
}

// rehearseServers says which further servers have the account as the first one has it.
func (s *session) rehearseServers(ctx context.Context, account connect.AccountRef, entry *ldap.Entry) []connect.Checked {
	further, err := others(s.target)
	if err != nil {
		return []connect.Checked{{System: s.target.Name, What: "further servers", Result: connect.CheckFailed, Words: "option servers: " + err.Error(), Next: "correct the option"}}
	}
	var out []connect.Checked
	for _, other := range further {
		line := connect.Checked{System: s.target.Name, What: placeOf(other) + " learns of changes", Result: connect.CheckOK}
		one, failure := signIn(ctx, other, connect.NewStopwatch())
		var there *ldap.Entry
		if failure == nil {
			if failure = one.sameAs(s.facts.Identity); failure == nil {
				there, failure = one.locate(account, counted...)
			}
			one.End()
		}
		far, words := false, ""
		if failure == nil {
			far, words = policy.HasComeAsFar(there, entry)
		}
		switch {
		case failure != nil && away(failure):
			line.Result, line.Words, line.Next = connect.CheckWarning, failure.Words, "nothing is proven there while it is away: what signs in there may be refused when it is back"
		case failure != nil:
			line.Result, line.Words, line.Next = connect.CheckFailed, failure.Words, failure.Next
		case !far:
			line.Result, line.Words, line.Next = connect.CheckFailed, words, "mend the replication first, or grant the steward the right to read when passwords were set: what signs in there would be refused after the change"
		}
		out = append(out, line)
	}
	return slices.Clip(out)
}
