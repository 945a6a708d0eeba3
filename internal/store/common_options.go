package store

import (
	"context"
	"database/sql"
	"fmt"

	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

const commonSystems = "(SELECT COUNT(*) FROM systems WHERE CASE o.field WHEN 'site' THEN site WHEN 'environment' THEN environment WHEN 'owner' THEN owner ELSE kind END = o.value COLLATE NOCASE)"

// CommonOptions lists them.
func (s *Store) CommonOptions(ctx context.Context, q records.Query) (records.Page[records.CommonOption], error) {
	return database.PageOf(ctx, s.Read, database.Listing[records.CommonOption]{
		From: "common_options o", ID: "o.id", Sort: "value", Scan: "o.id, o.field, o.value, o.name, o.setting, " + commonSystems + ", o.set_by, o.changed",
		Columns: []database.Column{
			{Name: "id", Sql: "o.id", Number: true},
			{Name: "field", Sql: "o.field"},
			{Name: "value", Sql: "o.value"},
			{Name: "name", Sql: "o.name"},
			{Name: "setting", Sql: "o.setting"},
			{Name: "systems", Sql: commonSystems, Number: true},
			{Name: "set_by", Sql: "o.set_by"},
			{Name: "changed", Sql: "o.changed", Hidden: true},
		},
		ScanRow: func(rows *sql.Rows) (o records.CommonOption, err error) {
			var changed string
			err = rows.Scan(database.Padded(&o.ID, &o.Field, &o.Value, &o.Name, &o.Setting, &o.Systems, &o.SetBy, &changed)...)
			o.Changed = database.TimeOf(changed)
			return o, err
		},
	}, q)
}

// CommonOptionsOf returns those that a system has, in a lasting order.
func (s *Store) CommonOptionsOf(ctx context.Context, v records.System) ([]records.CommonOption, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (o records.CommonOption, err error) {
		return o, rows.Scan(&o.ID, &o.Field, &o.Value, &o.Name, &o.Setting)
	}, `SELECT id, field, value, name, setting FROM common_options WHERE field = 'kind' AND value = ? COLLATE NOCASE OR field = 'site' AND value = ? COLLATE NOCASE
		OR field = 'environment' AND value = ? COLLATE NOCASE OR field = 'owner' AND value = ? COLLATE NOCASE ORDER BY id`, v.Kind, v.Site, v.Environment, v.Owner)
}

// SetCommonOption adds one, or replaces its setting.
func (s *Store) SetCommonOption(ctx context.Context, o records.CommonOption, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO common_options (field, value, name, setting, set_by, changed) VALUES (?,?,?,?,?,?)
			ON CONFLICT (field, value, name) DO UPDATE SET setting=excluded.setting, set_by=excluded.set_by, changed=excluded.changed`, o.Field, o.Value, o.Name, o.Setting, o.SetBy, s.Stamp())
		if err != nil {
			return err
		}
		return s.Enter(ctx, tx, entries...)
	})
}

// RemoveCommonOption removes one.
func (s *Store) RemoveCommonOption(ctx context.Context, id records.CommonOptionID, entries ...ledger.Entry) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "DELETE FROM common_options WHERE id = ?", id)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return fmt.Errorf("common option %d: %w", id, records.ErrNotFound)
		}
		return s.Enter(ctx, tx, entries...)
	})
}
