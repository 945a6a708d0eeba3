package store

import (
	"context"
	"database/sql"
	"strconv"
	"time"

	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// NamesToFind returns the names of accounts that programs use and that cannot
// be mistaken for a word, for a search in files: those in custody first.
func (s *Store) NamesToFind(ctx context.Context, limit int) ([]string, error) {
	return database.Collect(ctx, s.Read, database.Single[string], `SELECT name FROM (
		SELECT a.name, MAX(EXISTS (SELECT 1 FROM credentials c WHERE c.account_id = a.id AND c.state = 'custody')) AS kept, MAX(EXISTS (SELECT 1 FROM ties t WHERE t.account_id = a.id AND t.strength <> 'mentions')) AS tied,
			MAX(a.never_expires OR a.folded LIKE 'svc%') AS likely
		FROM accounts a WHERE a.gone = '' AND a.type NOT IN ('computer', 'system') AND LENGTH(a.name) >= 5 AND a.name GLOB '*[^A-Za-z]*' GROUP BY a.folded
	) WHERE kept OR tied OR likely ORDER BY kept DESC, tied DESC, name LIMIT ?`, limit)
}

// MostUnused is how many unused accounts are read at once; whoever gets so many
// says that there may be more.
const MostUnused = 2000

// UnusedAccounts returns accounts for programs that nothing is known to use and
// that did not sign in since a moment. The stewards of Moss Ledger are left out.
func (s *Store) UnusedAccounts(ctx context.Context, since time.Time) ([]records.Account, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.Account, error) { return scanAccount(rows) }, "SELECT "+accountColumns+" FROM "+accountFrom+` WHERE a.gone = '' AND a.enabled <> 'no' AND a.type NOT IN ('computer', 'system', 'managed')
		AND (EXISTS (SELECT 1 FROM credentials c WHERE c.account_id = a.id AND c.state = 'custody') OR a.folded LIKE 'svc%')
		AND NOT EXISTS (SELECT 1 FROM ties t WHERE t.account_id = a.id AND t.strength <> 'mentions') AND NOT EXISTS (SELECT 1 FROM uses u WHERE u.account_id = a.id AND u.failed = 0)
		AND NOT EXISTS (SELECT 1 FROM sessions_seen x WHERE x.system_id = a.system_id AND x.stable_id = a.stable_id)
		AND (a.last_logon = '' OR a.last_logon < ?) AND NOT EXISTS (SELECT 1 FROM stewards l WHERE l.account = a.name OR l.account = a.dn) ORDER BY systems.name, a.name LIMIT `+strconv.Itoa(MostUnused), database.StampOf(since))
}
