package people

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"

	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// MostSettings a person may have.
const MostSettings = 200

// Settings are what a person has set for themselves, as JSON values under names.
func (s *People) Settings(ctx context.Context, user string) (map[string]json.RawMessage, error) {
	type setting struct{ name, value string }
	list, err := database.Collect(ctx, s.Read, func(rows *sql.Rows) (v setting, err error) {
		return v, rows.Scan(&v.name, &v.value)
	}, "SELECT name, value FROM settings WHERE user = ? ORDER BY name", user)
	out := make(map[string]json.RawMessage, len(list))
	for _, v := range list {
		out[v.name] = json.RawMessage(v.value)
	}
	return out, err
}

// KeepSetting keeps one; null takes it away.
func (s *People) KeepSetting(ctx context.Context, user, name string, value json.RawMessage) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		if string(value) == "null" {
			_, err := tx.ExecContext(ctx, "DELETE FROM settings WHERE user = ? AND name = ?", user, name)
			return err
		}
		var others int
		if err := tx.QueryRowContext(ctx, "SELECT COUNT(*) FROM settings WHERE user = ? AND name <> ?", user, name).Scan(&others); err != nil {
			return err
		}
		if others >= MostSettings {
			return fmt.Errorf("%s has %d settings already, more are not kept: %w", user, others, records.ErrConflict)
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO settings (user, name, value) VALUES (?,?,?) ON CONFLICT (user, name) DO UPDATE SET value = excluded.value", user, name, string(value))
		return err
	})
}
