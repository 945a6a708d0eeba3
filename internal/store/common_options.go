package store

import (
	"context"
	"database/sql"
	"fmt"

	"mossledger.example/moss/internal/records"

	"mossledger.example/moss/internal/core/ledger"
)

const commonSystems = "(SELECT COUNT(*) FROM systems WHERE CASE o.field WHEN 'site' THEN site WHEN 'environment' THEN environment WHEN 'owner' THEN owner ELSE kind END = o.value COLLATE NOCASE)"

// CommonOptions lists them.
func (s *Store) CommonOptions(ctx context.Context, q records.Query) (records.Page[records.CommonOption], error) {
	return page(ctx, s.read, listing[records.CommonOption]{
		from: "common_options o", id: "o.id", sort: "value", scan: "o.id, o.field, o.value, o.name, o.setting, " + commonSystems + ", o.set_by, o.changed",
		columns: []column{
			{name: "id", sql: "o.id", number: true},
			{name: "field", sql: "o.field"},
			{name: "value", sql: "o.value"},
			{name: "name", sql: "o.name"},
			{name: "setting", sql: "o.setting"},
			{name: "systems", sql: commonSystems, number: true},
			{name: "set_by", sql: "o.set_by"},
			{name: "changed", sql: "o.changed", hidden: true},
		},
		scanRow: func(rows *sql.Rows) (o records.CommonOption, err error) {
			var changed string
			err = rows.Scan(padded(&o.ID, &o.Field, &o.Value, &o.Name, &o.Setting, &o.Systems, &o.SetBy, &changed)...)
			o.Changed = timeOf(changed)
			return o, err
		},
	}, q)
}

// CommonOptionsOf returns those that a system has, in a lasting order.
func (s *Store) CommonOptionsOf(ctx context.Context, v records.System) ([]records.CommonOption, error) {
	return collect(ctx, s.read, func(rows *sql.Rows) (o records.CommonOption, err error) {
		return o, rows.Scan(&o.ID, &o.Field, &o.Value, &o.Name, &o.Setting)
	}, `SELECT id, field, value, name, setting FROM common_options WHERE field = 'kind' AND value = ? COLLATE NOCASE OR field = 'site' AND value = ? COLLATE NOCASE
		OR field = 'environment' AND value = ? COLLATE NOCASE OR field = 'owner' AND value = ? COLLATE NOCASE ORDER BY id`, v.Kind, v.Site, v.Environment, v.Owner)
}

// SetCommonOption adds one, or replaces its setting.
func (s *Store) SetCommonOption(ctx context.Context, o records.CommonOption, entries ...ledger.Entry) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO common_options (field, value, name, setting, set_by, changed) VALUES (?,?,?,?,?,?)
			ON CONFLICT (field, value, name) DO UPDATE SET setting=excluded.setting, set_by=excluded.set_by, changed=excluded.changed`, o.Field, o.Value, o.Name, o.Setting, o.SetBy, s.stamp())
		if err != nil {
			return err
		}
		return s.record(ctx, tx, entries...)
	})
}

// RemoveCommonOption removes one.
func (s *Store) RemoveCommonOption(ctx context.Context, id int64, entries ...ledger.Entry) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "DELETE FROM common_options WHERE id = ?", id)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return fmt.Errorf("common option %d: %w", id, records.ErrNotFound)
		}
		return s.record(ctx, tx, entries...)
	})
}
