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

// Begun is when the looks before this one began, by scope, as far as they saw all with the
// same sight.
func (l *Look) Begun() map[string]time.Time {
	out := map[string]time.Time{}
	for scope, b := range l.before {
		if b.complete && b.begun != "" {
			out[scope] = database.TimeOf(b.begun)
		}
	}
	return out
}

// mostUnwitnessed bounds how many changes of one visit are asked for.
const mostUnwitnessed = 5000

// Unwitnessed returns what a visit saw of changes that others made, as far as it is known
// since when.
func (s *Log) Unwitnessed(ctx context.Context, system records.SystemID, survey records.SurveyID, begun map[string]time.Time) ([]records.Unwitnessed, error) {
	if len(begun) == 0 {
		return nil, nil
	}
	type row struct {
		records.Unwitnessed
		subject, kind, name, dn string
	}
	rows, err := database.Collect(ctx, s.Read, func(rows *sql.Rows) (r row, err error) {
		return r, rows.Scan(&r.ID, &r.subject, &r.kind, &r.name, &r.dn)
	}, `SELECT x.id, x.subject, x.kind, x.name, COALESCE(a.dn, '') FROM changes x LEFT JOIN accounts a ON a.id = x.account_id
		WHERE x.system_id = ? AND x.survey_id = ? AND x.made_by = '`+records.ByOthers+`' AND x.subject <> 'system' AND x.witnesses = '' ORDER BY x.id LIMIT ?`, system, survey, mostUnwitnessed)
	if err != nil {
		return nil, fmt.Errorf("changes that others made: %w", err)
	}
	var out []records.Unwitnessed
	for _, r := range rows {
		scope := "accounts"
		if r.subject == records.SubjectAccount {
			r.Names = []string{r.name, r.dn}
		} else {
			scope = scopeOfKind(estate.DependentKind(r.kind))
		}
		if r.Since = begun[scope]; !r.Since.IsZero() {
			out = append(out, r.Unwitnessed)
		}
	}
	return out, nil
}

// kept is what is written: with the words that people filter by.
type kept struct {
	*change.Witnesses
	Words string `json:"words"`
}

// PutWitnesses keeps what a log told of changes.
func (s *Log) PutWitnesses(ctx context.Context, of map[records.ChangeID]*change.Witnesses) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		put, err := tx.PrepareContext(ctx, "UPDATE changes SET witnesses = ? WHERE id = ?")
		if err != nil {
			return err
		}
		defer put.Close()
		for id, w := range of {
			if _, err := put.ExecContext(ctx, database.AsJSON(kept{w, w.Words()}), id); err != nil {
				return fmt.Errorf("witnesses of change %d: %w", id, err)
			}
		}
		return nil
	})
}
