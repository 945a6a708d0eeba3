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

// touched returns the places of a system that rotations worked on since the last
// complete look at a scope, with the latest rotation.
func (s *Log) touched(ctx context.Context, tx database.Queryer, system records.SystemID, b before, look *Look) (map[string]records.RotationID, error) {
	if look.touched != nil {
		return look.touched, nil
	}
	type row struct {
		id      records.RotationID
		subject string
	}
	rows, err := database.Collect(ctx, tx, func(rows *sql.Rows) (r row, err error) { return r, rows.Scan(&r.id, &r.subject) },
		`SELECT r.id, json_extract(step.value, '$.subject') FROM rotations r, json_each(r.plan, '$.steps') step
			WHERE (r.mode <> 'finished' OR r.ended >= ?) AND json_extract(step.value, '$.system_id') = ? ORDER BY r.id`, b.completed, system.String())
	if err != nil {
		return nil, err
	}
	look.touched = make(map[string]records.RotationID, len(rows))
	for _, r := range rows {
		look.touched[r.subject] = r.id
	}
	return look.touched, nil
}

// rotated are the fields that a rotation changes at a dependent.
var rotated = []string{change.FieldValue, change.FieldRunsAs, "fingerprint", "key version", "mode", "comment"}

// keyKinds are places of keys. A rotation takes the entry of the old one away and adds
// another: the one is gone and the other new.
var keyKinds = []estate.DependentKind{estate.DependentKey, estate.DependentAuthorized, estate.DependentKeytab}

// ownChange says which rotation made what was seen of a dependent; 0 for none.
func ownChange(d *estate.Dependent, what change.What, fields []change.Field, touched map[string]records.RotationID) records.RotationID {
	if what != change.Changed && !slices.Contains(keyKinds, d.Kind) {
		return 0
	}
	for _, f := range fields {
		if !slices.Contains(rotated, f.Name) {
			return 0
		}
	}
	for _, place := range []string{d.Place, d.Path, d.Name} {
		if id := touched[place]; id != 0 && place != "" {
			return id
		}
	}
	return 0
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
	for place, id := range touched {
		if _, err := tx.ExecContext(ctx, "UPDATE changes SET made_by = ?, rotation_id = ? WHERE survey_id = ? AND what = 'gone' AND made_by = 'others' AND kind IN (SELECT value FROM json_each(?)) AND dependent_id IN (SELECT d.id FROM json_each(?) j JOIN dependents d ON d.id = j.value WHERE d.path = ? OR d.place = ?)",
			records.ByMossLedger, id, look.Survey, database.AsJSON(keyKinds), ids, place, place); err != nil {
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
