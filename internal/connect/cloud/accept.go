package cloud

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/keys"
)

// A key is changed by overlap: the new one is accepted beside the old one, which is disabled
// once nothing has it any more, and stays so until somebody deletes it. The project is given
// the new one as a certificate that the key signed itself; the private half does not come here.

// pair is what of two keys a project has, of one identity.
type pair struct {
	identity string // path of it
	email    string
	oldID    string
	newID    string
	old      *key // nil where it is not there
	next     *key
	count    int // keys of the identity
}

// numbers are those of the two values of a point: the old one as an entry has it, the new one
// as a certificate, or as an entry where nothing has to be given.
func numbers(values connect.Values) (oldID, newID string, err error) {
	of := func(text string) (string, error) {
		if strings.Contains(text, "-----BEGIN") {
			introduced, err := keys.ReadIntroduced(text)
			return introduced.ID, err
		}
		return keys.NumberOfLine(text)
	}
	if !values.Old.Empty() {
		if oldID, err = of(values.Old.RevealString()); err != nil {
			return "", "", err
		}
	}
	if !values.New.Empty() {
		newID, err = of(values.New.RevealString())
	}
	return oldID, newID, err
}

// pairAt reads what the project has of two keys at a point.
func (s *session) pairAt(ctx context.Context, point connect.Point, values connect.Values) (p pair, failure *connect.Failure) {
	id, found := strings.CutPrefix(point.Path, "identities/")
	if !found || strings.Contains(id, "/") {
		return p, s.target.Fail(connect.StageRead, connect.CodeCannot, fmt.Sprintf("%q is no identity of a project", point.Path), "", nil)
	}
	var err error
	if p.oldID, p.newID, err = numbers(values); err != nil {
		return p, s.target.Fail(connect.StageRead, connect.CodeCannot, err.Error(), "", err)
	}
	v, failure := s.identityOf(ctx, id)
	if failure != nil {
		return p, failure
	}
	p.identity, p.email = "/identities/"+url.PathEscape(id), v.Email
	list, failure := s.keys(ctx, id)
	if failure != nil {
		return p, failure
	}
	p.count = len(list)
	for i := range list {
		switch list[i].ID {
		case p.oldID:
			p.old = &list[i]
		case p.newID:
			p.next = &list[i]
		}
	}
	return p, nil
}

// identityOf finds an identity by its number.
func (s *session) identityOf(ctx context.Context, id string) (v identity, failure *connect.Failure) {
	failure = s.each(ctx, func(one identity) *connect.Failure {
		if one.ID == id {
			v = one
		}
		return nil
	})
	if failure == nil && v.ID == "" {
		failure = s.target.Fail(connect.StageRead, connect.CodeGone, "the identity "+id+" is not there", "run a survey of "+s.target.Name, nil)
	}
	return v, failure
}

// accepts: the project gives a token for it now.
func (k *key) accepts(now time.Time) connect.Answer {
	if k != nil && k.State == stateEnabled && !now.Before(k.NotBefore) && now.Before(k.NotAfter) {
		return connect.AnswerYes
	}
	return connect.AnswerNo
}

func (k *key) words(id string) string {
	switch {
	case k == nil:
		return "it has no key " + id
	case k.State != stateEnabled:
		return "the key " + id + " is " + k.State
	}
	return "the key " + id + " is enabled"
}

// Overlaps implements connect.Accepter.
func (Connector) Overlaps(context.Context, connect.Target, connect.Point) (bool, string, error) {
	return true, "", nil
}

// Probe implements connect.Accepter: by what the project says of both.
func (Connector) Probe(ctx context.Context, target connect.Target, point connect.Point, values connect.Values) (connect.Probed, error) {
	s, failure := signIn(ctx, target, connect.NewStopwatch())
	if failure != nil {
		return connect.Probed{}, failure
	}
	defer s.close()
	p, failure := s.pairAt(ctx, point, values)
	if failure != nil {
		return connect.Probed{}, failure
	}
	return connect.Probed{Old: p.old.accepts(s.now()), New: p.next.accepts(s.now()), Words: p.old.words(p.oldID) + "; " + p.next.words(p.newID)}, nil
}

// Accept implements connect.Accepter.
func (Connector) Accept(ctx context.Context, target connect.Target, point connect.Point, values connect.Values, want connect.Accepted) error {
	s, failure := signIn(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false // nothing was begun
		return failure
	}
	defer s.close()
	p, failure := s.pairAt(ctx, point, values)
	if failure != nil {
		failure.Unclear = false
		return failure
	}
	ctx, cancel := context.WithTimeout(ctx, callTime+patience*time.Duration(waits))
	defer cancel()
	switch want {
	case connect.AcceptNew:
		if p.next.accepts(s.now()) != connect.AnswerYes {
			return s.refuse(p.next.words(p.newID) + ": the old one is left as it is")
		}
		if p.old == nil || p.old.State == stateDisabled {
			return nil
		}
		return connect.AsError(s.setState(ctx, p, p.oldID, stateDisabled))
	case connect.AcceptOld:
		// The old one first: there must be one at every moment.
		if p.old == nil {
			return s.refuse(p.old.words(p.oldID) + ": the new one is left as it is")
		}
		if p.old.State == stateDisabled {
			if failure := s.setState(ctx, p, p.oldID, stateEnabled); failure != nil {
				return failure
			}
		}
		if p.next == nil {
			return nil
		}
		// What this made is taken away with it: nothing holds it any more.
		return connect.AsError(s.call(ctx, connect.StageChange, http.MethodDelete, p.identity+"/keys/"+url.PathEscape(p.newID), nil, nil))
	}
	if p.old != nil && p.old.State == stateDisabled {
		if failure := s.setState(ctx, p, p.oldID, stateEnabled); failure != nil {
			return failure
		}
	}
	if p.old == nil {
		return s.refuse(p.old.words(p.oldID) + " beside which a new one belongs")
	}
	if p.next != nil && p.next.State == stateDisabled {
		return connect.AsError(s.setState(ctx, p, p.newID, stateEnabled))
	}
	if p.next != nil {
		return nil
	}
	return connect.AsError(s.upload(ctx, p.identity, values.New.RevealString(), p.newID))
}

func (s *session) refuse(words string) *connect.Failure {
	return s.target.Fail(connect.StageChange, connect.CodeFailed, words, "somebody else changed it: run a survey of "+s.target.Name+" and look", nil)
}

func (s *session) setState(ctx context.Context, p pair, id, state string) *connect.Failure {
	return s.call(ctx, connect.StageChange, http.MethodPatch, p.identity+"/keys/"+url.PathEscape(id), map[string]string{"state": state}, nil)
}

// upload gives the project a key as a certificate. It must know it by the same number: else
// nobody could say of it what it is.
func (s *session) upload(ctx context.Context, identity, certificate, id string) *connect.Failure {
	var made key
	if failure := s.call(ctx, connect.StageChange, http.MethodPost, identity+"/keys", map[string]string{"certificate": certificate}, &made); failure != nil {
		return failure
	}
	if made.ID == id {
		return nil
	}
	f := s.target.Fail(connect.StageChange, connect.CodeProtocol, fmt.Sprintf("it knows the new key as %q, and its thumbprint (RFC 7638) is %q", made.ID, id), "this project numbers keys in another way: delete that key there, and rotate it by hand", nil)
	if made.ID != "" && s.call(ctx, connect.StageChange, http.MethodDelete, identity+"/keys/"+url.PathEscape(made.ID), nil, nil) == nil {
		f.Next = "this project numbers keys in another way, and the new one was deleted again: rotate it by hand"
		return f
	}
	f.Unclear = true
	return f
}

// Rehearse implements connect.Rehearser.
func (c Connector) Rehearse(ctx context.Context, target connect.Target, list []connect.Intention) []connect.Checked {
	s, failure := signIn(ctx, target, connect.NewStopwatch())
	if failure != nil {
		return []connect.Checked{line(target, "sign in to "+target.Name, failure)}
	}
	defer s.close()
	out := []connect.Checked{{System: target.Name, What: "sign in to " + target.Name, Result: connect.CheckOK, Words: "as " + target.Steward.Account}}
	for _, in := range list {
		if in.Entries == nil {
			out = append(out, connect.Checked{System: target.Name, What: "everything else on this project", Result: connect.CheckUnchecked, Words: "it cannot be rehearsed"})
			continue
		}
		out = append(out, s.rehearseKey(ctx, *in.Entries)...)
	}
	return out
}

func (s *session) rehearseKey(ctx context.Context, in connect.EntryChange) []connect.Checked {
	id := strings.TrimPrefix(in.Path, "identities/")
	number, err := keys.NumberOfLine(in.Stays)
	if err != nil {
		return []connect.Checked{{System: s.target.Name, What: "read which key it is", Result: connect.CheckFailed, Words: err.Error()}}
	}
	v, failure := s.identityOf(ctx, id)
	if failure != nil {
		return []connect.Checked{line(s.target, "find the identity "+id, failure)}
	}
	list, failure := s.keys(ctx, id)
	if failure != nil {
		return []connect.Checked{line(s.target, "read the keys of "+v.Email, failure)}
	}
	what := connect.Checked{System: s.target.Name, What: "the key " + number + " of " + v.Email + " is accepted", Result: connect.CheckFailed, Next: "run a survey of " + s.target.Name}
	var old *key
	for i := range list {
		if list[i].ID == number {
			old = &list[i]
		}
	}
	what.Words = old.words(number)
	switch {
	case v.State != stateEnabled:
		what.Words, what.Next = "the identity is "+v.State, "enable it first: no key of it is accepted"
	case old.accepts(s.now()) == connect.AnswerYes:
		what.Result, what.Words, what.Next = connect.CheckOK, what.Words+"; its end is "+expiry.At(old.NotAfter).String(), ""
	case old != nil && old.State == stateEnabled:
		what.Words = "the key " + number + " ended at " + old.NotAfter.UTC().Format(time.RFC3339)
		what.Next = "it is refused already, so that nothing can be proven with it: give its holders one made with 'moss credential issue'"
	}
	return []connect.Checked{what, {System: s.target.Name, What: "right to give " + v.Email + " a key", Result: connect.CheckUnchecked, Words: "that a steward may read the keys of an identity and not add one cannot be told before"}}
}

func line(target connect.Target, what string, f *connect.Failure) connect.Checked {
	return connect.Checked{System: target.Name, What: what, Result: connect.CheckFailed, Words: string(f.Stage) + ": " + f.Words, Next: f.Next}
}
