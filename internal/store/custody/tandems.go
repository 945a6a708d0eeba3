package custody

import (
	"context"
	"database/sql"
	"fmt"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// rotating is a rotation of a credential that is not finished, also one in which its account
// takes the place of another one; it is given the credential twice.
const rotating = "EXISTS (SELECT 1 FROM rotations WHERE credential_id = ? AND mode <> 'finished') OR EXISTS (SELECT 1 FROM rotations WHERE next_credential_id = ? AND mode <> 'finished')"

const tandemFrom = "tandems n JOIN credentials w ON w.id = n.working JOIN accounts wa ON wa.id = w.account_id JOIN credentials r ON r.id = n.resting JOIN accounts ra ON ra.id = r.account_id JOIN systems s ON s.id = wa.system_id"

const tandemState = "CASE WHEN EXISTS (SELECT 1 FROM rotations x WHERE x.credential_id = n.working AND x.mode <> 'finished' AND x.next_credential_id IS NOT NULL) OR EXISTS (SELECT 1 FROM rotations x WHERE x.next_credential_id = n.working AND x.mode <> 'finished') THEN 'turning' WHEN n.rests THEN 'rests' ELSE 'ready' END"

const tandemColumns = "n.id, s.name, n.working, wa.id, wa.name, n.resting, ra.id, ra.name, " + tandemState + ", n.turned, n.reason, n.added, n.added_by"

var tandemList = database.Listing[records.Tandem]{
	From: tandemFrom, ID: "n.id", Sort: "working", Scan: tandemColumns,
	Columns: []database.Column{
		{Name: "id", Sql: "n.id", Number: true},
		{Name: "system", Sql: "s.name"},
		{Name: "working", Sql: "wa.name"},
		{Name: "resting", Sql: "ra.name"},
		{Name: "state", Sql: tandemState, Values: []string{records.TandemReady, records.TandemRests, records.TandemTurning}},
		{Name: "turned", Sql: "n.turned", Hidden: true},
		{Name: "reason", Sql: "n.reason"},
		{Name: "added", Sql: "n.added", Hidden: true},
		{Name: "added_by", Sql: "n.added_by"},
		{Name: "working_credential_id", Sql: "n.working", Number: true},
		{Name: "resting_credential_id", Sql: "n.resting", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (records.Tandem, error) { return scanTandem(rows, new(any), new(any)) },
}

func scanTandem(row interface{ Scan(...any) error }, more ...any) (v records.Tandem, err error) {
	var turned, added string
	err = row.Scan(append([]any{&v.ID, &v.System, &v.Working.CredentialID, &v.Working.AccountID, &v.Working.Account, &v.Resting.CredentialID, &v.Resting.AccountID, &v.Resting.Account, &v.State, &turned, &v.Reason, &added, &v.AddedBy}, more...)...)
	v.Turned, v.Added = database.TimeOf(turned), database.TimeOf(added)
	return v, database.OrNotFound(err)
}

// Tandems lists accounts that take turns.
func (s *Custody) Tandems(ctx context.Context, q records.Query) (records.Page[records.Tandem], error) {
	return database.PageOf(ctx, s.Read, tandemList, q)
}

// Tandem returns one by id.
func (s *Custody) Tandem(ctx context.Context, id records.TandemID) (records.Tandem, error) {
	v, err := scanTandem(s.Read.QueryRowContext(ctx, "SELECT "+tandemColumns+" FROM "+tandemFrom+" WHERE n.id = ?", id))
	if err != nil {
		return v, fmt.Errorf("tandem %d: %w", id, err)
	}
	return v, nil
}

// TandemOf returns the one that a credential belongs to; ErrNotFound when it takes turns
// with none.
func (s *Custody) TandemOf(ctx context.Context, id records.CredentialID) (records.Tandem, error) {
	return scanTandem(s.Read.QueryRowContext(ctx, "SELECT "+tandemColumns+" FROM "+tandemFrom+" WHERE n.working = ? OR n.resting = ?", id, id))
}

// RestingOn are the stable ids of the accounts of a system that rest.
func (s *Custody) RestingOn(ctx context.Context, system records.SystemID) ([]string, error) {
	return database.Collect(ctx, s.Read, database.Single[string], `SELECT a.stable_id FROM tandems n JOIN credentials c ON c.id IN (n.working, n.resting) JOIN accounts a ON a.id = c.account_id WHERE a.system_id = ? ORDER BY 1`, system)
}

// AddTandem has two accounts take turns. ErrConflict where one of them does already, is not
// in custody any more, or is being rotated.
func (s *Custody) AddTandem(ctx context.Context, v records.Tandem, entries ...ledger.Entry) (id records.TandemID, err error) {
	err = s.InTx(ctx, func(tx *sql.Tx) error {
		for _, side := range []records.TandemSide{v.Working, v.Resting} {
			var taken, open, kept bool
			if err := tx.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM tandems WHERE working = ?1 OR resting = ?1), EXISTS (SELECT 1 FROM credentials WHERE id = ?1 AND state = 'custody')", side.CredentialID).Scan(&taken, &kept); err != nil {
				return err
			}
			if err := tx.QueryRowContext(ctx, "SELECT "+rotating, side.CredentialID, side.CredentialID).Scan(&open); err != nil {
				return err
			}
			switch {
			case taken:
				return database.InUse(side.Account + " takes turns with another account already")
			case !kept:
				return database.InUse(side.Account + " is not in custody any more")
			case open:
				return database.InUse("a rotation of " + side.Account + " is not finished")
			}
		}
		res, err := tx.ExecContext(ctx, "INSERT INTO tandems (working, resting, reason, added, added_by) VALUES (?, ?, ?, ?, ?)", v.Working.CredentialID, v.Resting.CredentialID, v.Reason, s.Stamp(), v.AddedBy)
		if err != nil {
			return err
		}
		if id, err = database.Made[records.TandemID](res); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM turns WHERE credential_id = ?", v.Resting.CredentialID); err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
	return id, err
}

// RemoveTandem has two accounts take turns no more. ErrConflict while they do.
func (s *Custody) RemoveTandem(ctx context.Context, v records.Tandem, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		for _, side := range []records.CredentialID{v.Working.CredentialID, v.Resting.CredentialID} {
			var open bool
			if err := tx.QueryRowContext(ctx, "SELECT "+rotating, side, side).Scan(&open); err != nil {
				return err
			}
			if open {
				return database.InUse("a rotation of it is not finished")
			}
		}
		res, err := tx.ExecContext(ctx, "DELETE FROM tandems WHERE id = ? AND working = ?", v.ID, v.Working.CredentialID)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return database.InUse("they changed places, or take turns no more: look again")
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// TandemRests notes that the account that rests was seen refused.
func (s *Custody) TandemRests(ctx context.Context, v records.Tandem) error {
	if v.State == records.TandemRests {
		return nil
	}
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE tandems SET rests = 1 WHERE id = ? AND resting = ?", v.ID, v.Resting.CredentialID)
		return err
	})
}

// mayTurn makes sure, at the beginning of a rotation, that two accounts still take turns as
// its plan has it, and that neither is being rotated.
func mayTurn(ctx context.Context, tx *sql.Tx, id, next records.CredentialID, name string) error {
	for _, c := range []records.CredentialID{id, next} {
		if c == 0 {
			continue
		}
		var open bool
		if err := tx.QueryRowContext(ctx, "SELECT "+rotating, c, c).Scan(&open); err != nil {
			return err
		}
		if open {
			return database.InUse("another rotation of " + name + " is not finished")
		}
	}
	if next == 0 {
		return nil
	}
	var there bool
	if err := tx.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM tandems WHERE working = ? AND resting = ?)", id, next).Scan(&there); err != nil {
		return err
	}
	if !there {
		return database.InUse("the two accounts do not take turns like this any more: rehearse again")
	}
	return nil
}

// tandemIs notes what a rotation made of a tandem.
func (s *Custody) tandemIs(ctx context.Context, tx *sql.Tx, v records.TandemIs) error {
	var id int64
	var working records.CredentialID
	found, err := database.Found(tx.QueryRowContext(ctx, "SELECT id, working FROM tandems WHERE working IN (?1, ?2) AND resting IN (?1, ?2)", v.Working, v.Resting).Scan(&id, &working))
	if err != nil || !found {
		return err
	}
	if v.Rests {
		if _, err := tx.ExecContext(ctx, "UPDATE credentials SET verified = ?, verdict = 'rests', words = 'it rests, as the rotation proved' WHERE id = ? AND state = 'custody'", s.Stamp(), v.Resting); err != nil {
			return err
		}
	}
	if working == v.Working {
		_, err = tx.ExecContext(ctx, "UPDATE tandems SET rests = ? WHERE id = ?", v.Rests, id)
		return err
	}
	_, err = tx.ExecContext(ctx, "UPDATE tandems SET working = ?, resting = ?, rests = ?, turned = ? WHERE id = ?", v.Working, v.Resting, v.Rests, s.Stamp(), id)
	return err
}
