package changes

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"mossledger.example/moss/internal/core/change"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// ownMargin is how far a system's clock may be from ours for a change of a password to
// be the one that was made here. Somebody who changes it within that time of us is told
// from us by the value that is refused from then on.
const ownMargin = 2 * time.Minute

// Account is an account as a look saw it, and what is known of it.
type Account struct {
	*estate.Account
	ID          int64 // 0 for one that is not known
	Known, Gone bool
}

// OfAccounts compares a batch with what is known of it, before it is written. write has
// the batch written and returns the number of each, of new ones too.
func (s *Log) OfAccounts(ctx context.Context, tx *sql.Tx, system records.SystemID, list []Account, look *Look, write func() ([]int64, error)) error {
	b, err := s.readBefore(ctx, tx, system, look, "accounts")
	if err != nil {
		return err
	}
	var ids []int64
	for _, a := range list {
		if a.Known {
			ids = append(ids, a.ID)
		}
	}
	old, err := accountsBefore(ctx, tx, ids)
	if err != nil {
		return fmt.Errorf("read known accounts: %w", err)
	}
	var out []Put
	var at []int
	var set []int64
	for i, a := range list {
		var fields []change.Field
		if a.Known {
			fields = change.Accounts(old[a.ID], *a.Account)
		}
		what := whatBecame(a.Known, a.Gone, b.complete, fields)
		if what == "" {
			continue
		}
		for _, f := range fields {
			if f.Name == change.FieldPasswordChanged {
				set = append(set, a.ID)
			}
		}
		out, at = append(out, Put{Subject: records.SubjectAccount, Name: a.Name, Kind: a.Type, MadeBy: records.ByOthers, What: what, Fields: fields}), append(at, i)
	}
	own, err := setHere(ctx, tx, set)
	if err != nil {
		return err
	}
	turns, err := turnsOn(ctx, tx, system, b)
	if err != nil {
		return err
	}
	written, err := write()
	if err != nil {
		return err
	}
	for i := range out {
		out[i].ID = written[at[i]]
		if nearAny(list[at[i]].PasswordChanged, own[out[i].ID]) {
			out[i].MadeBy = records.ByMossLedger
		}
		if turn := turns[out[i].ID]; turn != 0 && onlyTurned(out[i].Fields) {
			out[i].MadeBy, out[i].Rotation = records.ByMossLedger, turn
		}
	}
	return s.WriteChanges(ctx, tx, system, look.Survey, out)
}

func nearAny(when time.Time, list []time.Time) bool {
	for _, t := range list {
		if d := when.Sub(t); d < ownMargin && d > -ownMargin {
			return true
		}
	}
	return false
}

// setHere returns when Moss Ledger made the values of accounts.
func setHere(ctx context.Context, tx *sql.Tx, ids []int64) (map[int64][]time.Time, error) {
	out := map[int64][]time.Time{}
	if len(ids) == 0 {
		return out, nil
	}
	type row struct {
		id   int64
		when string
	}
	rows, err := database.Collect(ctx, tx, func(rows *sql.Rows) (r row, err error) { return r, rows.Scan(&r.id, &r.when) },
		"SELECT c.account_id, x.created FROM credentials c JOIN secrets x ON x.credential_id = c.id WHERE c.kind = 'password' AND c.verdict <> 'refused' AND c.account_id IN (SELECT value FROM json_each(?)) UNION SELECT account_id, rotated FROM credentials WHERE kind = 'password' AND verdict <> 'refused' AND rotated <> '' AND account_id IN (SELECT value FROM json_each(?))", database.AsJSON(ids), database.AsJSON(ids))
	for _, r := range rows {
		out[r.id] = append(out[r.id], database.TimeOf(r.when))
	}
	return out, err
}

func accountsBefore(ctx context.Context, tx *sql.Tx, ids []int64) (map[int64]estate.Account, error) {
	out := make(map[int64]estate.Account, len(ids))
	if len(ids) == 0 {
		return out, nil
	}
	type row struct {
		id int64
		estate.Account
	}
	rows, err := database.Collect(ctx, tx, func(rows *sql.Rows) (r row, err error) {
		var changed, expires, end, lists string
		err = rows.Scan(&r.id, &r.Name, &r.DN, &r.UPN, &r.SID, &r.Type, &r.DisplayName, &r.Description, &r.Owner, &r.Enabled, &r.Locked, &r.MustChange, &r.NeverExpire, &changed, &expires, &end, &lists)
		l := database.FromJSON[accountLists](lists)
		r.Groups, r.Principals, r.Shell, r.Home = l.Groups, l.Principals, l.Shell, l.Home
		r.PasswordChanged, r.PasswordExpires, r.AccountExpires = database.TimeOf(changed), database.TimeOf(expires), database.TimeOf(end)
		return r, err
	}, "SELECT id, name, dn, upn, sid, type, display_name, description, owner, enabled, locked, must_change, never_expires, password_changed, password_expires, account_expires, lists FROM accounts WHERE id IN (SELECT value FROM json_each(?))", database.AsJSON(ids))
	for _, r := range rows {
		out[r.id] = r.Account
	}
	return out, err
}

// accountLists is what is kept of an account in one column, as far as it is compared.
type accountLists struct {
	Groups     []string `json:"g"`
	Principals []string `json:"p"`
	Shell      string   `json:"s"`
	Home       string   `json:"h"`
}
