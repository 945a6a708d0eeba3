package labels

import (
	"context"
	"database/sql"
	"time"

	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// ToTake are accounts that a rule would have in custody, that have its label, whose password
// is not there yet, and that were not tried since some time. The one whose name comes first
// is told where several rules would. One that a rule had taken and a person released stays
// released.
func (s *Labels) ToTake(ctx context.Context, triedBefore time.Time) ([]records.Taking, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (v records.Taking, err error) {
		var tried string
		err = rows.Scan(&v.AccountID, &v.Account, &v.System, &v.Rule, &v.TakeIn, &v.Unread, &tried, &v.Words)
		v.Tried = database.TimeOf(tried)
		return v, err
	}, `SELECT a.id, a.name, systems.name, MIN(r.name), w.name, r.take_unread, COALESCE(k.tried, ''), COALESCE(k.words, '')
		FROM rules r JOIN windows w ON w.id = r.take_in JOIN rule_matches m ON m.rule_id = r.id JOIN account_labels l ON l.account_id = m.account_id AND l.label = r.label
		JOIN accounts a ON a.id = m.account_id JOIN systems ON systems.id = a.system_id LEFT JOIN takings k ON k.account_id = a.id
		WHERE NOT r.excludes AND a.gone = '' AND COALESCE(k.tried, '') < ? AND NOT (k.account_id IS NOT NULL AND k.words = '') AND NOT EXISTS (SELECT 1 FROM credentials c WHERE c.account_id = a.id AND c.kind = 'password' AND c.state = 'custody')
		GROUP BY a.id ORDER BY a.id`, database.StampOf(triedBefore))
}

// NoteTaking keeps what came of trying to take an account.
func (s *Labels) NoteTaking(ctx context.Context, v records.Taking) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT INTO takings (account_id, rule, tried, words) VALUES (?,?,?,?) ON CONFLICT (account_id) DO UPDATE SET rule=excluded.rule, tried=excluded.tried, words=excluded.words", v.AccountID, v.Rule, database.StampOf(v.Tried), v.Words)
		return err
	})
}

// FailedTakings are those that were tried, are asked for still, and are not in custody.
func (s *Labels) FailedTakings(ctx context.Context) ([]records.Taking, error) {
	all, err := s.ToTake(ctx, s.Now().Add(365*24*time.Hour))
	if err != nil {
		return nil, err
	}
	var out []records.Taking
	for _, v := range all {
		if !v.Tried.IsZero() && v.Words != "" {
			out = append(out, v)
		}
	}
	return out, nil
}
