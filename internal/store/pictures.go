package store

import (
	"context"
	"database/sql"
	"time"

	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

const day = 24 * time.Hour

// Pictures counts for the drawings of the first page: one pass over each table.
func (s *Store) Pictures(ctx context.Context) (records.Pictures, error) {
	now := s.Now()
	in := func(days int) string { return database.StampOf(now.Add(time.Duration(days) * day)) }
	var out records.Pictures
	for _, picture := range []struct {
		into  *[]records.Share
		query string
		args  []any
	}{
		{&out.Coverage, `SELECT site, CASE WHEN state = 'ok' AND read_completely <> '' THEN 'read' WHEN read_completely <> '' THEN 'before' ELSE 'never' END AS part, COUNT(*) FROM systems GROUP BY site, part`, nil},
		{&out.Ends, `SELECT '', CASE WHEN never_expires THEN 'never' WHEN password_expires = '' THEN 'unknown' WHEN password_expires <= ? THEN 'past' WHEN password_expires <= ? THEN '7'
			WHEN password_expires <= ? THEN '30' WHEN password_expires <= ? THEN '90' ELSE 'later' END AS part, COUNT(*) FROM accounts WHERE gone = '' AND enabled = 'yes' GROUP BY part`, []any{in(0), in(7), in(30), in(90)}},
		{&out.Ages, `SELECT '', CASE WHEN password_changed = '' THEN 'unknown' WHEN password_changed >= ? THEN '30' WHEN password_changed >= ? THEN '90'
			WHEN password_changed >= ? THEN '365' WHEN password_changed >= ? THEN '1095' ELSE 'older' END AS part, COUNT(*) FROM accounts WHERE gone = '' AND enabled = 'yes' GROUP BY part`, []any{in(-30), in(-90), in(-365), in(-1095)}},
		{&out.Findings, `SELECT kind, CASE WHEN raised >= ? THEN '1' WHEN raised >= ? THEN '7' WHEN raised >= ? THEN '30' ELSE 'older' END AS part, COUNT(*) FROM findings WHERE cleared = '' GROUP BY kind, part`, []any{in(-1), in(-7), in(-30)}},
		{&out.Rotations, `SELECT substr(started, 1, 10), CASE WHEN result = '' THEN mode ELSE result END AS part, COUNT(*) FROM rotations WHERE started >= ? GROUP BY 1, part`, []any{in(-30)}},
	} {
		list, err := database.Collect(ctx, s.Read, func(rows *sql.Rows) (v records.Share, err error) {
			return v, rows.Scan(&v.Of, &v.Is, &v.Count)
		}, picture.query+" ORDER BY 1, 2", picture.args...)
		if err != nil {
			return out, err
		}
		*picture.into = append([]records.Share{}, list...)
	}
	return out, nil
}
