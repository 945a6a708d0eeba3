package cloud

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/keys"
)

// possible are the acts about ends. When a key ends is part of the key: a new one has another
// end, and an old one is disabled.
var possible = []expiry.Possible{
	{Act: expiry.Issue, Of: expiry.Key, How: "the certificate is uploaded to the identity; the key ends when it does"},
	{Act: expiry.Disable, Of: expiry.Key, How: "the key is refused until it is enabled; its end stays"},
	{Act: expiry.Disable, Of: expiry.Account, How: "the identity is refused, with every key"},
	{Act: expiry.Enable, Of: expiry.Key, How: "the key is taken again, until its end"},
	{Act: expiry.Enable, Of: expiry.Account, How: "the identity is taken again"},
	{Act: expiry.Delete, Of: expiry.Key, How: "the key is removed from the identity"},
	{Act: expiry.Delete, Of: expiry.Account, How: "the identity is removed with its keys"},
}

// thing is what a change is about, as the project has it.
type thing struct {
	connect.Ending
	path string
	to   string // the state that is asked for; "" where it is deleted
}

func (s *session) thing(ctx context.Context, c expiry.EndChange) (thing, *connect.Failure) {
	t := thing{path: "/identities/" + url.PathEscape(c.ID)}
	var v identity
	failure := s.each(ctx, func(one identity) *connect.Failure {
		if one.ID == c.ID {
			v = one
		}
		return nil
	})
	if failure != nil {
		return t, failure
	}
	state, words := v.State, fmt.Sprintf("invalid_grant: the identity %s is disabled", v.Email)
	if v.ID != "" && c.Act == expiry.Issue {
		return s.toIssue(ctx, c, v, t)
	}
	if v.ID != "" && c.Of == expiry.Key {
		list, failure := s.keys(ctx, v.ID)
		if failure != nil {
			return t, failure
		}
		i := slices.IndexFunc(list, func(k key) bool { return k.ID == c.KeyID })
		if i < 0 {
			state = ""
		} else {
			t.path += "/keys/" + url.PathEscape(c.KeyID)
			state, words = list[i].State, fmt.Sprintf("invalid_grant: the key %s is disabled", c.KeyID)
			t.Now = list[i].end()
			t.Also = []string{"its end is " + expiry.At(list[i].NotAfter).String() + ", and stays so"}
		}
	}
	if state == "" {
		return t, s.target.Fail(connect.StageRead, connect.CodeGone, c.Thing()+" is not there", "run a survey of "+s.target.Name, nil)
	}
	t.Words, t.InForce = "it is "+state, state != stateEnabled
	switch c.Act {
	case expiry.Disable:
		t.to, t.There = stateDisabled, state == stateDisabled
	case expiry.Enable:
		t.to, t.There = stateEnabled, state != stateDisabled
		return t, nil
	case expiry.Delete:
		t.Final = "it is gone for good: what its holders sign with is refused, whatever is made anew"
		words = fmt.Sprintf("invalid_grant: there is no identity %s", v.Email)
		if c.Of == expiry.Key {
			words = fmt.Sprintf("invalid_grant: %s has no key %s", v.Email, c.KeyID)
		}
	}
	t.Sights = []expiry.Sight{
		{Way: expiry.OpensKey, When: "when it asks for its next token", Stops: true, Words: words},
		{Way: expiry.SignsIn, When: "when it asks for its next token", Stops: true, Words: words},
		{Way: expiry.Open, When: "goes on with the token that it has until that ends, mostly within an hour"},
	}
	return t, nil
}

// toIssue is how a key stands that shall be accepted.
func (s *session) toIssue(ctx context.Context, c expiry.EndChange, v identity, t thing) (thing, *connect.Failure) {
	introduced, err := keys.ReadIntroduced(c.Certificate)
	if err != nil || introduced.ID != c.KeyID {
		return t, s.target.Fail(connect.StageRead, connect.CodeCannot, "the certificate is not that of the key "+c.KeyID, "", err)
	}
	list, failure := s.keys(ctx, v.ID)
	if failure != nil {
		return t, failure
	}
	enabled := 0
	for _, k := range list {
		if k.accepts(s.now()) == connect.AnswerYes {
			enabled++
		}
		if k.ID == c.KeyID {
			t.There, t.Now = true, k.end()
			t.Words = k.words(k.ID)
		}
	}
	if !t.There {
		t.Words, t.Will = fmt.Sprintf("%s has %d keys, of which %d are accepted now", v.Email, len(list), enabled), expiry.At(introduced.Until)
	}
	if v.State != stateEnabled {
		t.Also = append(t.Also, "the identity is "+v.State+": no key of it is accepted until it is enabled")
	}
	if introduced.From.After(s.now()) {
		t.Also = append(t.Also, "it is accepted from "+introduced.From.Format(time.RFC3339)+" on, not before")
	}
	t.path += "/keys/" + url.PathEscape(c.KeyID)
	return t, nil
}

// Ending implements connect.Ender.
func (c Connector) Ending(ctx context.Context, target connect.Target, change expiry.EndChange) (connect.Ending, error) {
	if unfit := connect.Endable(c, target, change); unfit != nil {
		return connect.Ending{}, unfit
	}
	s, failure := signIn(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false
		return connect.Ending{}, failure
	}
	defer s.close()
	t, failure := s.thing(ctx, change)
	switch {
	case failure != nil && failure.Code == connect.CodeGone && change.Act == expiry.Delete:
		return connect.Ending{Standing: connect.Standing{There: true, InForce: true, Words: failure.Words}}, nil
	case failure != nil:
		failure.Unclear = false
		return connect.Ending{}, failure
	}
	if change.Act.Takes() && change.Of == expiry.Account && (change.DN == target.Steward.Account || change.ID == target.Steward.Account) {
		return t.Ending, target.Fail(connect.StageChange, connect.CodeCannot, "it is the identity by which "+target.Name+" is reached: it would lock us out", "its owner does it, with another steward at hand", nil)
	}
	return t.Ending, nil
}

// End implements connect.Ender.
func (c Connector) End(ctx context.Context, target connect.Target, change expiry.EndChange, back bool) error {
	if unfit := connect.Endable(c, target, change); unfit != nil {
		return unfit
	}
	s, failure := signIn(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false
		return failure
	}
	defer s.close()
	t, failure := s.thing(ctx, change)
	if failure != nil {
		if failure.Code == connect.CodeGone && change.Act == expiry.Delete && !back {
			return nil
		}
		failure.Unclear = false
		return failure
	}
	if due, err := target.Due(change, t.Ending, back); !due {
		return err
	}
	if back {
		t.to = map[string]string{stateEnabled: stateDisabled, stateDisabled: stateEnabled}[t.to]
	}
	ctx, cancel := context.WithTimeout(ctx, callTime+patience*time.Duration(waits))
	defer cancel()
	switch {
	case change.Act == expiry.Issue && !back:
		failure = s.upload(ctx, strings.TrimSuffix(t.path, "/keys/"+url.PathEscape(change.KeyID)), change.Certificate, change.KeyID)
	case change.Act == expiry.Delete || change.Act == expiry.Issue:
		failure = s.call(ctx, connect.StageChange, http.MethodDelete, t.path, nil, nil)
	default:
		failure = s.call(ctx, connect.StageChange, http.MethodPatch, t.path, map[string]string{"state": t.to}, nil)
	}
	if failure != nil {
		return failure
	}
	return nil
}
