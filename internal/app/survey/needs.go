package survey

import (
	"context"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/change"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

// Store is what this package needs of the store.
type Store interface {
	Account(ctx context.Context, id records.AccountID) (records.Account, error)
	AllSystems(ctx context.Context) ([]records.System, error)
	BeginSurvey(ctx context.Context, by string, systems []records.System) (records.SurveyID, []records.Visit, error)
	Changes(ctx context.Context, since, until time.Time, q records.Query) (records.Page[records.SeenChange], error)
	ConfirmAbsence(ctx context.Context, system records.SystemID, entries ...ledger.Entry) (n int64, err error)
	EndScopes(ctx context.Context, system records.SystemID, ends []store.ScopeEnd, tally *records.Tally) ([]records.Held, error)
	EndRights(ctx context.Context, system records.SystemID, seen *store.RightsSeen, reading store.RightsReading) error
	RightsRead(ctx context.Context, system records.SystemID) (records.RightsRead, error)
	EndSurvey(ctx context.Context, id records.SurveyID, state string) error
	Fingerprints(ctx context.Context) ([]string, error)
	MergeIndexes(ctx context.Context) error
	NamesToFind(ctx context.Context, limit int) ([]string, error)
	RestingOn(ctx context.Context, system records.SystemID) ([]string, error)
	PruneChanges(ctx context.Context, before time.Time) error
	PutAccounts(ctx context.Context, system records.SystemID, batch []estate.Account, seen *store.Seen, tally *records.Tally) error
	PutDependents(ctx context.Context, system records.SystemID, batch []estate.Dependent, seen *store.Seen, tally *records.Tally) error
	PutRights(ctx context.Context, system records.SystemID, principals []privilege.Principal, memberships []privilege.Membership, lists []privilege.List, seen *store.RightsSeen) error
	PutSessions(ctx context.Context, system records.SystemID, list []estate.Session) error
	PutSockets(ctx context.Context, system records.SystemID, list []estate.Socket) error
	PutUses(ctx context.Context, system records.SystemID, list []estate.Use) error
	PutWitnesses(ctx context.Context, of map[records.ChangeID]*change.Witnesses) error
	SaveVisit(ctx context.Context, v records.Visit, facts *connect.Facts) error
	SetFindings(ctx context.Context, scope string, list []records.Finding) error
	System(ctx context.Context, idOrName string) (records.System, error)
	Unwitnessed(ctx context.Context, system records.SystemID, survey records.SurveyID, begun map[string]time.Time) ([]records.Unwitnessed, error)
	Vanished(ctx context.Context, system records.SystemID, e store.ScopeEnd) (gone []int64, present int, err error)
	InterruptSurveys(ctx context.Context) error
}
