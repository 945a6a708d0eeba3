package lookup

import (
	"database/sql"
	"strconv"
	"strings"

	"mossledger.example/moss/internal/core/ties"
	"mossledger.example/moss/internal/store/database"
)

// Owners implements ties.Known.
func (l *Lookup) Owners(fingerprint string) ([]ties.Owner, error) {
	return database.Collect(l.ctx, l.db, func(rows *sql.Rows) (o ties.Owner, err error) {
		var id int64
		err = rows.Scan(&id, &o.Current)
		o.Account = strconv.FormatInt(id, 10)
		return o, err
	}, "SELECT c.account_id, x.state = 'current' FROM secrets x JOIN credentials c ON c.id = x.credential_id WHERE x.fingerprint = ? AND c.state = 'custody' AND c.account_id IS NOT NULL ORDER BY 2 DESC", fingerprint)
}

// Authorized implements ties.Known.
func (l *Lookup) Authorized(fingerprint string) ([]ties.Door, error) {
	return database.Collect(l.ctx, l.db, func(rows *sql.Rows) (d ties.Door, err error) {
		var id int64
		var name, system, options string
		err = rows.Scan(&id, &name, &system, &options)
		d.Account, d.Detail = strconv.FormatInt(id, 10), "opens "+name+" on "+system
		if list := database.FromJSON[[]string](options); len(list) > 0 {
			d.Detail += ", only with " + strings.Join(list, ", ")
		}
		return d, err
	}, `SELECT a.id, a.name, systems.name, COALESCE(json_extract(d.key, '$.options'), 'null') FROM dependents d JOIN accounts a ON a.system_id = d.system_id AND a.folded = moss_fold(json_extract(d.key, '$.lets')) AND a.gone = ''
		JOIN systems ON systems.id = d.system_id WHERE d.kind = 'authorized key' AND d.gone = '' AND json_extract(d.key, '$.fingerprint') = ? ORDER BY systems.name, a.name`, fingerprint)
}

// Issued implements ties.Known.
func (l *Lookup) Issued(keyID string) ([]ties.Door, error) {
	return database.Collect(l.ctx, l.db, func(rows *sql.Rows) (d ties.Door, err error) {
		var id int64
		var name, system, state string
		err = rows.Scan(&id, &name, &system, &state)
		d.Account, d.Detail = strconv.FormatInt(id, 10), "proves "+name+" on "+system
		if state != "enabled" {
			d.Detail += ", and is " + state
		}
		return d, err
	}, `SELECT a.id, a.name, systems.name, d.state FROM dependents d JOIN accounts a ON a.system_id = d.system_id AND a.folded = moss_fold(json_extract(d.key, '$.lets')) AND a.gone = ''
		JOIN systems ON systems.id = d.system_id WHERE d.kind = 'issued key' AND d.gone = '' AND json_extract(d.key, '$.key_id') = ? ORDER BY systems.name, a.name`, keyID)
}

// InCustody implements ties.Known.
func (l *Lookup) InCustody(account string) (bool, error) {
	var n int
	err := l.db.QueryRowContext(l.ctx, "SELECT COUNT(*) FROM credentials WHERE state = 'custody' AND account_id = CAST(? AS INTEGER)", account).Scan(&n)
	return n > 0, err
}
