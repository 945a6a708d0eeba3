package changes

import (
	"context"
	"database/sql"
	"slices"

	"mossledger.example/moss/internal/core/change"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// What a rotation does to a place is seen by the next survey like everything else. It
// is told from what others did by the plan: the place stands in it, the rotation did not
// end before the last complete look, and nothing changed there but what rotations change.

// touch is a place that a rotation worked on.
type touch struct {
	id   records.RotationID
	turn bool // two accounts took turns: the names there changed as well
}

// touched returns the places of a system that rotations worked on since the last
// complete look at a scope, with the latest rotation.
func (s *Log) touched(ctx context.Context, tx database.Queryer, system records.SystemID, b before, look *Look) (map[string]touch, error) {
	if look.touched != nil {
		return look.touched, nil
	}
	type row struct {
		touch
		subject string
	}
	rows, err := database.Collect(ctx, tx, func(rows *sql.Rows) (r row, err error) { return r, rows.Scan(&r.id, &r.subject, &r.turn) },
		`SELECT r.id, json_extract(step.value, '$.subject'), COALESCE(json_extract(step.value, '$.next'), '') <> '' FROM rotations r, json_each(r.plan, '$.steps') step
			WHERE (r.mode <> 'finished' OR r.ended >= ?) AND json_extract(step.value, '$.system_id') = ? ORDER BY r.id`, b.completed, system.String())
	if err != nil {
		return nil, err
	}
	look.touched = make(map[string]touch, len(rows))
	for _, r := range rows {
		look.touched[r.subject] = r.touch
	}
	return look.touched, nil
}

// rotated are the fields that a rotation changes at a dependent.
var rotated = []string{change.FieldValue, change.FieldRunsAs, "fingerprint", "key version", "mode", "comment"}

// keyKinds are places of keys. A rotation takes the entry of the old one away and adds
// another: the one is gone and the other new.
var keyKinds = []estate.DependentKind{estate.DependentKey, estate.DependentAuthorized, estate.DependentKeytab}

// ownChange says which rotation made what was seen of a dependent; 0 for none.
func ownChange(d *estate.Dependent, what change.What, fields []change.Field, touched map[string]touch) records.RotationID {
	for _, place := range []string{d.Place, d.Path, d.Name} {
		if by := touched[place]; by.id != 0 && place != "" && by.makes(d.Kind, what, fields) {
			return by.id
		}
	}
	return 0
}

// makes: a rotation does nothing else to a place. Where two accounts take turns, one of them
// may stand in the name of a place.
func (t touch) makes(kind estate.DependentKind, what change.What, fields []change.Field) bool {
	if what != change.Changed && !slices.Contains(keyKinds, kind) && !(t.turn && kind == estate.DependentFile) {
		return false
	}
	return !slices.ContainsFunc(fields, func(f change.Field) bool {
		return !slices.Contains(rotated, f.Name) && !(t.turn && f.Name == change.FieldNames)
	})
}

// noteOwnGone tells of entries of keys that went because a rotation took them away.
func (s *Log) noteOwnGone(ctx context.Context, tx *sql.Tx, system records.SystemID, scope string, look *Look, ids string) error {
	if scope != "files" {
		return nil
	}
	b, err := s.readBefore(ctx, tx, system, look, scope)
	if err != nil {
		return err
	}
	touched, err := s.touched(ctx, tx, system, b, look)
	if err != nil {
		return err
	}
	for place, by := range touched {
		kinds := keyKinds
		if by.turn {
			kinds = append(slices.Clone(keyKinds), estate.DependentFile)
		}
		if _, err := tx.ExecContext(ctx, "UPDATE changes SET made_by = ?, rotation_id = ? WHERE survey_id = ? AND what = 'gone' AND made_by = 'others' AND kind IN (SELECT value FROM json_each(?)) AND dependent_id IN (SELECT d.id FROM json_each(?) j JOIN dependents d ON d.id = j.value WHERE d.path = ? OR d.place = ?)",
			records.ByMossLedger, by.id, look.Survey, database.AsJSON(kinds), ids, place, place); err != nil {
			return err
		}
	}
	return nil
}

// NoteGone tells of rows that a complete look did not show any more.
func (s *Log) NoteGone(ctx context.Context, tx *sql.Tx, system records.SystemID, scope, table string, look *Look, ids string) error {
	name, kind, more := "t.name", "t.type", ""
	subject := records.SubjectAccount
	if table == "dependents" {
		subject, name, kind = records.SubjectDependent, "t.place", "t.kind"
		more = " AND COALESCE(json_extract(t.copy, '$.format'), '') <> '" + estate.FormatMention + "'"
	}
	//nolint:gosec // names of tables are our own
	_, err := tx.ExecContext(ctx, `INSERT INTO changes (at, subject, what, name, kind, system, made_by, survey_id, system_id, `+subject+`_id)
		SELECT ?, ?, 'gone', `+name+`, `+kind+`, systems.name, 'others', ?, systems.id, t.id FROM `+table+` t JOIN systems ON systems.id = t.system_id WHERE t.id IN (SELECT value FROM json_each(?))`+more,
		s.Stamp(), subject, look.Survey, ids)
	if err != nil {
		return err
	}
	return s.noteOwnGone(ctx, tx, system, scope, look, ids)
}

// turned are fields that a turn changes at the two accounts: one may sign in and the other
// may not any more, and both are in the same groups.
var turned = []string{change.FieldEnabled, change.FieldGroups, change.FieldPasswordChanged, change.FieldPasswordExpires, change.FieldAccountExpires, change.FieldNeverExpires}

// turnsOn returns the accounts of a system that took turns since the last complete look,
// with the latest rotation.
func turnsOn(ctx context.Context, tx *sql.Tx, system records.SystemID, b before) (map[int64]records.RotationID, error) {
	type row struct {
		account int64
		id      records.RotationID
	}
	rows, err := database.Collect(ctx, tx, func(rows *sql.Rows) (r row, err error) { return r, rows.Scan(&r.account, &r.id) },
		`SELECT c.account_id, r.id FROM rotations r JOIN credentials c ON c.id IN (r.credential_id, r.next_credential_id) JOIN accounts a ON a.id = c.account_id
			WHERE r.next_credential_id IS NOT NULL AND (r.mode <> 'finished' OR r.ended >= ?) AND a.system_id = ? ORDER BY r.id`, b.completed, system)
	out := make(map[int64]records.RotationID, len(rows))
	for _, r := range rows {
		out[r.account] = r.id
	}
	return out, err
}

// onlyTurned: nothing changed but what a turn changes.
func onlyTurned(fields []change.Field) bool {
	return len(fields) > 0 && !slices.ContainsFunc(fields, func(f change.Field) bool { return !slices.Contains(turned, f.Name) })
}
