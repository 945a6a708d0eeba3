package people

import (
	"context"
	"fmt"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// Sessions lists one's own, or all for who may end all. bearer is that of the call.
func (people *People) Sessions(ctx context.Context, by access.Actor, bearer string, q records.Query) (records.Page[records.Session], error) {
	if err := access.Decide(by, access.ListSessions, access.Object{Kind: "session", Owner: by.Name}); err != nil {
		return records.Page[records.Session]{}, err
	}
	of := by.Name
	if access.Decide(by, access.EndSession, access.Object{Kind: "session", Name: "of everybody"}) == nil {
		of = ""
	}
	return people.store.Sessions(ctx, of, bearer, q)
}

// EndSession ends one, wherever it is open. Whose it is is not told to who may not.
func (people *People) EndSession(ctx context.Context, by access.Actor, id string) error {
	owner, err := people.store.SessionOwner(ctx, id)
	if err != nil {
		return err
	}
	if err := access.Decide(by, access.EndSession, access.Object{Kind: "session", Name: id, Owner: owner}); err != nil {
		return fmt.Errorf("session %q: %w", id, app.ErrNotFound)
	}
	return people.store.EndSessionOf(ctx, id, ledger.Entry{Actor: by.Name, Act: "session.end", Phase: ledger.Outcome, Subject: owner, Result: "done"})
}
