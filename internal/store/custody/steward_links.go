package custody

import (
	"context"
	"database/sql"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// StewardLinkOf returns the link of a system, or ErrNotFound.
func (s *Custody) StewardLinkOf(ctx context.Context, system records.SystemID) (v records.StewardLink, err error) {
	err = s.Read.QueryRowContext(ctx, "SELECT system_id, steward, account_id, sealed FROM steward_links WHERE system_id = ?", system).Scan(&v.SystemID, &v.Steward, &v.AccountID, &v.Sealed)
	return v, database.OrNotFound(err)
}

// StewardLinks returns the links of an account.
func (s *Custody) StewardLinks(ctx context.Context, account records.AccountID) ([]records.StewardLink, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (v records.StewardLink, err error) {
		return v, rows.Scan(&v.SystemID, &v.Steward, &v.AccountID, &v.Sealed)
	}, "SELECT system_id, steward, account_id, sealed FROM steward_links WHERE account_id = ? ORDER BY system_id", account)
}

// LinkStewards stores links.
func (s *Custody) LinkStewards(ctx context.Context, links []records.StewardLink, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		for _, v := range links {
			if _, err := tx.ExecContext(ctx, "INSERT INTO steward_links (system_id, steward, account_id, sealed) VALUES (?,?,?,?) ON CONFLICT (system_id) DO UPDATE SET steward = excluded.steward, account_id = excluded.account_id, sealed = excluded.sealed", v.SystemID, v.Steward, v.AccountID, v.Sealed); err != nil {
				return err
			}
		}
		return s.Enter(ctx, tx, entries...)
	})
}
