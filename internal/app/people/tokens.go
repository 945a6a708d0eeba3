package people

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// AddToken makes an API token for who asks. bearer is that of the call: a token
// makes none that outlives it.
func (people *People) AddToken(ctx context.Context, by access.Actor, bearer, label, only string) (token string, id records.TokenID, err error) {
	if err := access.Decide(by, access.AddToken, access.Object{Kind: "token", Name: label, Owner: by.Name}); err != nil {
		return "", 0, err
	}
	lasts := TokenTime
	switch only {
	case "":
	case records.OnlyCalendar:
		lasts = CalendarTime
	default:
		return "", 0, fmt.Errorf("%w: a token is for everything, or for the calendar alone, not for %q", app.ErrInput, only)
	}
	expires := people.base.Now().Add(lasts)
	if own, err := people.store.TokenExpires(ctx, bearer); err == nil {
		if own.Before(expires) {
			expires = own
		}
	} else if !errors.Is(err, app.ErrNotFound) {
		return "", 0, err
	}
	return people.makeToken(ctx, records.Token{User: by.Name, Label: label, Expires: expires, Only: only})
}

// CalendarTime is how long a token for the calendar alone lives.
const CalendarTime = 366 * 24 * time.Hour

func (people *People) makeToken(ctx context.Context, v records.Token) (string, records.TokenID, error) {
	bearer, err := newBearer()
	if err != nil {
		return "", 0, err
	}
	detail := "ends " + v.Expires.UTC().Format(time.RFC3339)
	if v.Only != "" {
		detail += ", for the " + v.Only + " alone"
	}
	id, err := people.store.AddToken(ctx, bearer, v, ledger.Entry{Actor: v.User, Act: "token.add", Phase: ledger.Outcome, Subject: v.Label, Result: "done", Detail: detail})
	return bearer, id, err
}

// Tokens lists one's own, or all for who may revoke all.
func (people *People) Tokens(ctx context.Context, by access.Actor, q records.Query) (records.Page[records.Token], error) {
	if err := access.Decide(by, access.ListTokens, access.Object{Kind: "token", Owner: by.Name}); err != nil {
		return records.Page[records.Token]{}, err
	}
	of := by.Name
	if access.Decide(by, access.RevokeToken, access.Object{Kind: "token", Name: "of everybody"}) == nil {
		of = ""
	}
	return people.store.Tokens(ctx, of, q)
}

// RevokeToken ends one. Whose it is is not told to who may not revoke it.
func (people *People) RevokeToken(ctx context.Context, by access.Actor, id records.TokenID) error {
	v, err := people.store.Token(ctx, id)
	if err != nil {
		return err
	}
	if err := access.Decide(by, access.RevokeToken, access.Object{Kind: "token", Name: fmt.Sprint(id), Owner: v.User}); err != nil {
		return fmt.Errorf("token %d: %w", id, app.ErrNotFound)
	}
	return people.store.RevokeToken(ctx, id, ledger.Entry{Actor: by.Name, Act: "token.revoke", Phase: ledger.Outcome, Subject: fmt.Sprint(id), Result: "done", Detail: strings.TrimSpace(v.Label + " of " + v.User)})
}
