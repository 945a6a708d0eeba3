package custody

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// lookLater notes, with the record that ends a rotation, that it is looked at again;
// one that is taken up once more is not.
func (s *Custody) lookLater(ctx context.Context, tx *sql.Tx, id records.RotationID, mode, result string) error {
	if mode != string(rotation.ModeFinished) || result == rotation.FinishedUndoFailed {
		_, err := tx.ExecContext(ctx, "DELETE FROM looks WHERE rotation_id = ?", id)
		return err
	}
	_, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO looks (rotation_id, due) VALUES (?, ?)", id, database.StampOf(s.Now().Add(rotation.LookAgainAfter)))
	return err
}

const lookColumns = "rotation_id, due, own, looked, checks, refused"

func scanLook(row interface{ Scan(...any) error }) (v records.Look, err error) {
	var due, own, looked, checks, refused string
	err = row.Scan(&v.RotationID, &due, &own, &looked, &checks, &refused)
	v.Due, v.Looked = database.TimeOf(due), database.TimeOf(looked)
	v.Own, v.Checks = database.FromJSON[map[string]time.Time](own), database.FromJSON[[]connect.Checked](checks)
	v.Refused = database.FromJSON[[]int](refused)
	return v, database.OrNotFound(err)
}

// Look returns the later look at a rotation. ErrNotFound where there is none.
func (s *Custody) Look(ctx context.Context, id records.RotationID) (records.Look, error) {
	return scanLook(s.Read.QueryRowContext(ctx, "SELECT "+lookColumns+" FROM looks WHERE rotation_id = ?", id))
}

// DueLooks returns those that are due, the longest due first.
func (s *Custody) DueLooks(ctx context.Context, most int) ([]records.Look, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.Look, error) { return scanLook(rows) },
		"SELECT "+lookColumns+" FROM looks WHERE due <> '' AND due <= ? ORDER BY due LIMIT ?", s.Stamp(), most)
}

// NoteOwnTrials keeps which wrong passwords were our own: by system, the time of the
// latest, as that system tells it.
func (s *Custody) NoteOwnTrials(ctx context.Context, id records.RotationID, own map[string]time.Time) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		return noteOwn(ctx, tx, id, own)
	})
}

// noteOwn adds to what is noted: it is noted right after the end, and by looks, which may
// be at the same time.
func noteOwn(ctx context.Context, tx *sql.Tx, id records.RotationID, own map[string]time.Time) error {
	if len(own) == 0 {
		return nil
	}
	var noted string
	if err := tx.QueryRowContext(ctx, "SELECT own FROM looks WHERE rotation_id = ?", id).Scan(&noted); errors.Is(err, sql.ErrNoRows) {
		return nil // it is taken up once more
	} else if err != nil {
		return err
	}
	all := database.FromJSON[map[string]time.Time](noted)
	if all == nil {
		all = map[string]time.Time{}
	}
	for system, last := range own {
		if before, is := all[system]; !is || last.After(before) {
			all[system] = last
		}
	}
	_, err := tx.ExecContext(ctx, "UPDATE looks SET own = ? WHERE rotation_id = ?", database.AsJSON(all), id)
	return err
}

// EndLook keeps what was seen. One that is not over is due again; one that is over may
// have found the former value refused, which then is retired.
func (s *Custody) EndLook(ctx context.Context, v records.Look, retired records.SecretID, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		due := ""
		if !v.Due.IsZero() {
			due = database.StampOf(v.Due)
		}
		if _, err := tx.ExecContext(ctx, "UPDATE looks SET due = ?, looked = ?, checks = ?, refused = ? WHERE rotation_id = ?", due, s.Stamp(), database.AsJSON(v.Checks), database.AsJSON(v.Refused), v.RotationID); err != nil {
			return err
		}
		if err := noteOwn(ctx, tx, v.RotationID, v.Own); err != nil {
			return err
		}
		if retired != 0 {
			if _, err := tx.ExecContext(ctx, "UPDATE secrets SET state = ? WHERE id = ? AND state = ?", records.SecretRetired, retired, records.SecretPrevious); err != nil {
				return err
			}
		}
		return s.Enter(ctx, tx, entries...)
	})
}
