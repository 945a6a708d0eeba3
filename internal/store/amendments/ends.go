package amendments

import (
	"context"
	"database/sql"

	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// EndsMade are the changes of ends from here that were done and stand, of an account and of keys
// by their numbers or fingerprints, in the order in which they were made.
func (s *Kept) EndsMade(ctx context.Context, account records.AccountID, keys []string) ([]records.EndMade, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (v records.EndMade, err error) {
		var at, end string
		err = rows.Scan(&v.AmendmentID, &at, &v.By, &v.Reason, &v.Act, &v.Of, &v.KeyID, &end)
		v.At, v.End = database.TimeOf(at), database.FromJSON[expiry.End](end)
		return v, err
	}, `SELECT m.id, m.ended, m.requested_by, m.reason, json_extract(p.value, '$.end.act'), json_extract(p.value, '$.end.of'),
			COALESCE(json_extract(p.value, '$.end.key_id'), json_extract(p.value, '$.end.fingerprint'), ''), COALESCE(json_extract(p.value, '$.end.end'), '{}')
		FROM amendments m, json_each(m.plan, '$.steps') p WHERE m.result = 'done' AND json_extract(p.value, '$.kind') = 'end'
			AND (json_extract(p.value, '$.end.account') = CAST(?1 AS TEXT) OR COALESCE(json_extract(p.value, '$.end.key_id'), json_extract(p.value, '$.end.fingerprint'), '') IN (SELECT value FROM json_each(?2)))
		ORDER BY m.ended, m.id, p.key`, account, database.AsJSON(keys))
}
