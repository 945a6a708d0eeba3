package people

import (
	"context"
	"time"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	PersonsWithRole(ctx context.Context, role, except string) ([]string, error)
	AddSession(ctx context.Context, bearer, user, address string, expires time.Time) error
	EndSessionOf(ctx context.Context, id string, entries ...ledger.Entry) error
	SessionOwner(ctx context.Context, id string) (user string, err error)
	Sessions(ctx context.Context, user, current string, q records.Query) (records.Page[records.Session], error)
	AddToken(ctx context.Context, bearer string, v records.Token, entries ...ledger.Entry) (records.TokenID, error)
	AddUser(ctx context.Context, v records.User, first bool, entries ...ledger.Entry) error
	ChangeUser(ctx context.Context, v records.User, endSessions bool, entries ...ledger.Entry) error
	CountUsers(ctx context.Context) (int, error)
	Meta(ctx context.Context, name string) ([]byte, error)
	Record(ctx context.Context, entries ...ledger.Entry) error
	RevokeToken(ctx context.Context, id records.TokenID, entries ...ledger.Entry) error
	SetMeta(ctx context.Context, name string, value []byte) error
	Token(ctx context.Context, id records.TokenID) (records.Token, error)
	TokenExpires(ctx context.Context, bearer string) (time.Time, error)
	Tokens(ctx context.Context, user string, q records.Query) (records.Page[records.Token], error)
	User(ctx context.Context, name string) (records.User, error)
	UserNames(ctx context.Context) ([]string, error)
}
