package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/core/rules"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/changes"
	"mossledger.example/moss/internal/store/database"
	"mossledger.example/moss/internal/store/ends"
)

type accountLists struct {
	Groups     []string `json:"g,omitempty"`
	Principals []string `json:"p,omitempty"`
	Shell      string   `json:"s,omitempty"`
	Home       string   `json:"h,omitempty"`
	KeyVersion int      `json:"v,omitempty"`
	Pair       string   `json:"2,omitempty"`
	PairNot    string   `json:"n,omitempty"`
	FormerSIDs []string `json:"f,omitempty"`
}

const (
	accountFrom    = "accounts a JOIN systems ON systems.id = a.system_id LEFT JOIN credentials c ON c.account_id = a.id AND c.kind = 'password' LEFT JOIN scopes ON scopes.system_id = a.system_id AND scopes.scope = 'accounts'"
	accountColumns = "a.id, a.system_id, systems.name, systems.kind, a.stable_id, a.name, a.dn, a.upn, a.sid, a.uid, a.type, a.display_name, a.description, a.owner, a.enabled, a.locked, a.must_change, a.never_expires, a.password_changed, a.password_expires, a.account_expires, a.last_logon, a.lists, a.ends_unknown, a.first_seen, " + accountSeen + ", a.changed, a.gone, COALESCE(c.state, '') = 'custody', COALESCE(c.verdict, ''), " + accountBuiltIn + ", " + accountTies + ", " + accountLabels
	// A complete reading saw everything that it did not mark as gone: that
	// spares a write for each row that did not change.
	accountSeen    = "CASE WHEN a.gone = '' THEN MAX(a.seen, COALESCE(scopes.completed, '')) ELSE a.seen END"
	accountBuiltIn = database.AccountBuiltIn
	accountLabels  = "COALESCE((SELECT json_group_array(label) FROM account_labels WHERE account_id = a.id), '[]')"
	accountTies    = "(SELECT COUNT(*) FROM ties JOIN dependents d ON d.id = ties.dependent_id WHERE ties.account_id = a.id AND d.gone = '')"
)

func scanAccount(row interface{ Scan(...any) error }, more ...any) (records.Account, error) {
	var v records.Account
	var changed, expires, end, logon, lists, first, seen, altered, gone, labels string
	err := row.Scan(append([]any{&v.ID, &v.SystemID, &v.System, &v.Kind, &v.StableID, &v.Name, &v.DN, &v.UPN, &v.SID, &v.UID, &v.Type, &v.DisplayName, &v.Description, &v.Owner, &v.Enabled, &v.Locked, &v.MustChange, &v.NeverExpire, &changed, &expires, &end, &logon, &lists, &v.EndsUnknown, &first, &seen, &altered, &gone, &v.Custody, &v.Verdict, &v.BuiltIn, &v.Dependents, &labels}, more...)...)
	l := database.FromJSON[accountLists](lists)
	v.Groups, v.Principals, v.Shell, v.Home, v.KeyVersion, v.Pair, v.PairNot, v.FormerSIDs = l.Groups, l.Principals, l.Shell, l.Home, l.KeyVersion, l.Pair, l.PairNot, l.FormerSIDs
	v.PasswordChanged, v.PasswordExpires, v.AccountExpires, v.LastLogOn = database.TimeOf(changed), database.TimeOf(expires), database.TimeOf(end), database.TimeOf(logon)
	v.Labels = append([]string{}, database.FromJSON[[]string](labels)...)
	v.FirstSeen, v.Seen, v.Changed, v.Gone = database.TimeOf(first), database.TimeOf(seen), database.TimeOf(altered), database.TimeOf(gone)
	return v, database.OrNotFound(err)
}

var accountList = database.Listing[records.Account]{
	From: accountFrom, ID: "a.id", Sort: "name", Scan: accountColumns,
	Columns: []database.Column{
		{Name: "name", Sql: "a.name"},
		{Name: "system", Sql: "systems.name"},
		{Name: "system_kind", Sql: "systems.kind", Hidden: true},
		{Name: "type", Sql: "a.type"},
		{Name: "enabled", Sql: "a.enabled", Hidden: true},
		{Name: "locked", Sql: "a.locked", Hidden: true},
		{Name: "dn", Sql: "a.dn"},
		{Name: "upn", Sql: "a.upn"},
		{Name: "sid", Sql: "a.sid"},
		{Name: "uid", Sql: "a.uid"},
		{Name: "display_name", Sql: "a.display_name"},
		{Name: "description", Sql: "a.description"},
		{Name: "owner", Sql: "a.owner"},
		{Name: "password_changed", Sql: "a.password_changed", Hidden: true},
		{Name: "password_expires", Sql: "a.password_expires", Hidden: true},
		{Name: "account_expires", Sql: "a.account_expires", Hidden: true},
		{Name: "last_logon", Sql: "a.last_logon", Hidden: true},
		{Name: "never_expires", Sql: "a.never_expires", Number: true},
		{Name: "must_change", Sql: "a.must_change", Number: true},
		{Name: "custody", Sql: "COALESCE(c.state, '') = 'custody'", Number: true},
		{Name: "verdict", Sql: "COALESCE(c.verdict, '')", Hidden: true},
		{Name: "built_in", Sql: accountBuiltIn, Number: true},
		{Name: "dependents", Sql: accountTies, Number: true},
		{Name: "labels", Sql: "COALESCE((SELECT group_concat(label, ' ') FROM account_labels WHERE account_id = a.id), '')", Hidden: true},
		{Name: "groups", Sql: "a.lists"},
		{Name: "first_seen", Sql: "a.first_seen", Hidden: true},
		{Name: "seen", Sql: accountSeen, Hidden: true},
		{Name: "changed", Sql: "a.changed", Hidden: true},
		{Name: "gone", Sql: "a.gone", Hidden: true},
		{Name: "id", Sql: "a.id", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (records.Account, error) { return scanAccount(rows, new(any), new(any)) },
}

// Accounts lists accounts.
func (s *Store) Accounts(ctx context.Context, q records.Query) (records.Page[records.Account], error) {
	return s.AccountsLabelled(ctx, "", q)
}

// AccountsLabelled lists those that have a label; all for "".
func (s *Store) AccountsLabelled(ctx context.Context, label string, q records.Query) (records.Page[records.Account], error) {
	l := accountList
	if label != "" {
		if err := rules.CheckLabel(label); err != nil { // it stands in the condition
			return records.Page[records.Account]{}, fmt.Errorf("%w: %w", database.ErrQuery, err)
		}
		l.Where = "a.id IN (SELECT account_id FROM account_labels WHERE label = '" + label + "')"
	}
	return database.PageOf(ctx, s.Read, l, q)
}

// Account returns one by id.
func (s *Store) Account(ctx context.Context, id records.AccountID) (records.Account, error) {
	v, err := scanAccount(s.Read.QueryRowContext(ctx, "SELECT "+accountColumns+" FROM "+accountFrom+" WHERE a.id = ?", id))
	if err != nil {
		return v, fmt.Errorf("account %d: %w", id, err)
	}
	return v, nil
}

// NamesAlike returns the names of present accounts that something uses, and of those
// that begin as a folded name does: enough to tell a slip of the keyboard by. A million
// accounts are not compared.
func (s *Store) NamesAlike(ctx context.Context, folded string) ([]string, error) {
	start := []rune(folded)
	start = start[:min(2, len(start))]
	return database.Collect(ctx, s.Read, database.Single[string], `SELECT name FROM (SELECT name FROM accounts WHERE gone = '' AND id IN (SELECT account_id FROM ties) LIMIT 20000)
		UNION SELECT name FROM (SELECT name FROM accounts WHERE gone = '' AND folded >= ? AND folded < ? LIMIT 20000) ORDER BY name`, string(start), string(start)+"\U0010ffff")
}

// first reports whether a system had no accounts when its visit began: then
// nothing has to be looked up.
func (s *Store) first(ctx context.Context, system records.SystemID, seen *Seen) (bool, error) {
	if !seen.asked {
		err := s.Read.QueryRowContext(ctx, "SELECT NOT EXISTS (SELECT 1 FROM accounts WHERE system_id = ?)", system).Scan(&seen.fresh)
		if err != nil {
			return false, fmt.Errorf("read known accounts: %w", err)
		}
		seen.asked = true
	}
	return seen.fresh, nil
}

type knownRow struct {
	id     int64
	digest []byte
	gone   bool
}

// known reads the rows of a batch by their keys.
func known(ctx context.Context, tx database.Queryer, query string, system records.SystemID, keys []string) (map[string]knownRow, error) {
	rows, err := tx.QueryContext(ctx, query, system, database.AsJSON(keys))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := make(map[string]knownRow, len(keys))
	for rows.Next() {
		var key string
		var k knownRow
		if err := rows.Scan(&k.id, &key, &k.digest, &k.gone); err != nil {
			return nil, err
		}
		out[key] = k
	}
	return out, rows.Err()
}

func digestOf(v any) []byte {
	raw, err := json.Marshal(v)
	if err != nil {
		panic(fmt.Sprintf("store: %T: %v", v, err)) // plain values only
	}
	sum := sha256.Sum256(raw)
	return sum[:12]
}

const accountFields = "id, system_id, stable_id, name, folded, dn, dn_normal, upn, sid, uid, type, display_name, description, owner, enabled, locked, must_change, never_expires, password_changed, password_expires, account_expires, last_logon, lists, ends_unknown, digest, first_seen, seen, changed"

const accountUpdate = " ON CONFLICT (system_id, stable_id) DO UPDATE SET name=excluded.name, folded=excluded.folded, dn=excluded.dn, dn_normal=excluded.dn_normal, upn=excluded.upn, sid=excluded.sid, uid=excluded.uid, type=excluded.type, display_name=excluded.display_name, description=excluded.description, owner=excluded.owner, enabled=excluded.enabled, locked=excluded.locked, must_change=excluded.must_change, never_expires=excluded.never_expires, password_changed=excluded.password_changed, password_expires=excluded.password_expires, account_expires=excluded.account_expires, last_logon=excluded.last_logon, lists=excluded.lists, ends_unknown=excluded.ends_unknown, digest=excluded.digest, seen=excluded.seen, changed=excluded.changed, gone=''"

// rowsAtOnce is how many rows one statement takes: few large statements cost
// less than many small ones.
const (
	rowsAtOnce = 100
	ownFields  = 24 // of each row; the system and the time are bound once
)

// insertAccounts writes the statement for n rows. What is the same in all of
// them (the system, the time, columns that are empty throughout, as mask says)
// stands in the statement itself: fewer values are bound, and binding is what
// large surveys spend their time on.
func insertAccounts(n int, system records.SystemID, now string, mask uint32) string {
	row := fmt.Sprintf("(?,%d", system)
	for f := 1; f < ownFields; f++ {
		if mask>>f&1 == 1 {
			row += ",''"
		} else {
			row += ",?"
		}
	}
	row += fmt.Sprintf(",'%s','%s','%s')", now, now, now)
	return "INSERT INTO accounts (" + accountFields + ") VALUES " + strings.Repeat(row+",", n-1) + row + accountUpdate
}

// emptyThroughout finds the columns that are empty in all rows.
func emptyThroughout(values []any) uint32 {
	mask := uint32(1)<<ownFields - 1
	for i, v := range values {
		if text, ok := v.(string); !ok || text != "" {
			mask &^= 1 << (i % ownFields)
		}
	}
	return mask
}

// PutAccounts takes in a batch of what a visit saw. Rows that did not change
// are not written.
func (s *Store) PutAccounts(ctx context.Context, system records.SystemID, batch []estate.Account, seen *Seen, tally *records.Tally) error {
	if len(batch) == 0 {
		return nil
	}
	keys := make([]string, len(batch))
	for i, a := range batch {
		keys[i] = a.StableID
	}
	first, err := s.first(ctx, system, seen)
	if err != nil {
		return err
	}
	have := map[string]knownRow{}
	if !first {
		// Reading needs no writer: an unchanged batch ends here.
		if have, err = known(ctx, s.Read, "SELECT id, stable_id, digest, gone <> '' FROM accounts WHERE system_id = ? AND stable_id IN (SELECT value FROM json_each(?))", system, keys); err != nil {
			return fmt.Errorf("read known accounts: %w", err)
		}
	}
	var write []putAccount
	for i := range batch {
		a := &batch[i]
		digest := accountDigest(a)
		k, found := have[a.StableID]
		if found && !k.gone && string(k.digest) == string(digest) {
			seen.add(k.id)
			continue
		}
		tally.AccountsTouched = true
		if found { // one that comes back is not new
			tally.Altered++
		} else {
			tally.Added++
		}
		write = append(write, putAccount{a, k.id, digest})
	}
	if len(write) == 0 {
		return nil
	}
	seenNow := make([]changes.Account, len(write))
	for i, a := range write {
		k, found := have[a.StableID]
		seenNow[i] = changes.Account{Account: a.Account, ID: a.id, Known: found, Gone: k.gone}
	}
	return s.InTx(ctx, func(tx *sql.Tx) error {
		return s.OfAccounts(ctx, tx, system, seenNow, &seen.Look, func() ([]int64, error) {
			err := s.writeAccounts(ctx, tx, system, write, seen)
			ids := make([]int64, len(write))
			for i := range write {
				ids[i] = write[i].id
			}
			return ids, err
		})
	})
}

type putAccount struct {
	*estate.Account
	id     int64 // 0 for a new row
	digest []byte
}

func (s *Store) writeAccounts(ctx context.Context, tx *sql.Tx, system records.SystemID, list []putAccount, seen *Seen) error {
	var last int64
	if err := tx.QueryRowContext(ctx, "SELECT COALESCE(MAX(id), 0) FROM accounts").Scan(&last); err != nil {
		return err
	}
	now := s.Stamp()
	prepared := map[uint32]*sql.Stmt{} // of full groups, by their mask
	defer func() {
		for _, stmt := range prepared {
			_ = stmt.Close()
		}
	}()
	var err error
	written, existed := list, map[int64]bool{}
	for _, a := range list {
		if a.id != 0 {
			existed[a.id] = true
		}
	}
	args := make([]any, 0, rowsAtOnce*ownFields)
	for len(list) > 0 {
		some := list[:min(rowsAtOnce, len(list))]
		list = list[len(some):]
		args = args[:0]
		for i := range some {
			a := &some[i]
			if a.id == 0 {
				last++
				a.id = last
			}
			seen.add(int64(a.id))
			args = append(args, a.id, a.StableID, a.Name, naming.Fold(a.Name), a.DN, database.NormalDN(a.DN), naming.Fold(a.UPN), a.SID, a.UID, a.Type, a.DisplayName, a.Description, a.Owner, string(a.Enabled), string(a.Locked), a.MustChange, a.NeverExpire,
				database.StampOf(a.PasswordChanged), database.StampOf(a.PasswordExpires), database.StampOf(a.AccountExpires), database.StampOf(a.LastLogOn), a.lists(), a.EndsUnknown, a.digest)
		}
		mask := emptyThroughout(args)
		bound := args[:0]
		for i, v := range args {
			if mask>>(i%ownFields)&1 == 0 {
				bound = append(bound, v)
			}
		}
		if len(some) < rowsAtOnce {
			_, err = tx.ExecContext(ctx, insertAccounts(len(some), system, now, mask), bound...)
		} else {
			if prepared[mask] == nil {
				if prepared[mask], err = tx.PrepareContext(ctx, insertAccounts(rowsAtOnce, system, now, mask)); err != nil { //nolint:sqlclosecheck // the transaction closes its statements
					return err
				}
			}
			_, err = prepared[mask].ExecContext(ctx, bound...)
		}
		if err != nil {
			return fmt.Errorf("accounts from %s on: %w", some[0].Name, err)
		}
	}
	if err := writeEnds(ctx, tx, written, existed); err != nil {
		return err
	}
	return writeFormerSIDs(ctx, tx, written, existed)
}

// writeEnds derives when accounts end. Of new ones nothing has to be replaced.
func writeEnds(ctx context.Context, tx *sql.Tx, list []putAccount, existed map[int64]bool) error {
	sorted, plain := map[bool][]int64{}, true
	for _, a := range list {
		sorted[existed[a.id]] = append(sorted[existed[a.id]], a.id)
		plain = plain && a.AccountExpires.IsZero() && a.EndsUnknown == "" && a.Type != estate.TypeServiceIdentity
	}
	for known, ids := range sorted {
		if err := ends.OfAccounts(ctx, tx, ids, known, plain); err != nil {
			return err
		}
	}
	return nil
}

// writeFormerSIDs keeps them where they are looked up. Few accounts have any.
func writeFormerSIDs(ctx context.Context, tx *sql.Tx, list []putAccount, existed map[int64]bool) error {
	var before []int64
	for _, a := range list {
		if existed[a.id] {
			before = append(before, a.id)
		}
	}
	if len(before) > 0 {
		if _, err := tx.ExecContext(ctx, "DELETE FROM former_sids WHERE account_id IN (SELECT value FROM json_each(?))", database.AsJSON(before)); err != nil {
			return err
		}
	}
	for _, a := range list {
		for _, sid := range a.FormerSIDs {
			if _, err := tx.ExecContext(ctx, "INSERT OR IGNORE INTO former_sids (sid, account_id) VALUES (?, ?)", sid, a.id); err != nil {
				return err
			}
		}
	}
	return nil
}

func (a putAccount) lists() string {
	if a.Groups == nil && a.Principals == nil && a.Shell == "" && a.Home == "" && a.KeyVersion == 0 && a.Pair == "" && a.PairNot == "" && a.FormerSIDs == nil {
		return "{}"
	}
	return database.AsJSON(accountLists{a.Groups, a.Principals, a.Shell, a.Home, a.KeyVersion, a.Pair, a.PairNot, a.FormerSIDs})
}

// accountDigest tells whether anything about an account changed.
func accountDigest(a *estate.Account) []byte {
	raw := make([]byte, 0, 512)
	for _, field := range []string{a.Name, a.DN, a.UPN, a.SID, a.UID, a.Type, a.DisplayName, a.Description, a.Owner, string(a.Enabled), string(a.Locked), a.Shell, a.Home} {
		raw = append(append(raw, field...), 0)
	}
	for _, list := range [][]string{a.Groups, a.Principals} {
		raw = append(raw, 1)
		for _, field := range list {
			raw = append(append(raw, field...), 0)
		}
	}
	for _, t := range []time.Time{a.PasswordChanged, a.PasswordExpires, a.AccountExpires, a.LastLogOn} {
		raw = binary.BigEndian.AppendUint64(raw, uint64(t.UnixMilli()))
	}
	raw = append(raw, bit(a.MustChange), bit(a.NeverExpire))
	if a.KeyVersion != 0 {
		raw = binary.BigEndian.AppendUint64(append(raw, 3), uint64(a.KeyVersion))
	}
	if a.Pair != "" || a.PairNot != "" {
		raw = append(append(append(append(raw, 2), a.Pair...), 0), a.PairNot...)
	}
	if a.EndsUnknown != "" {
		raw = append(append(append(raw, 5), a.EndsUnknown...), 0)
	}
	for _, sid := range a.FormerSIDs {
		raw = append(append(append(raw, 4), sid...), 0)
	}
	sum := sha256.Sum256(raw)
	return sum[:12]
}

func bit(b bool) byte {
	if b {
		return 1
	}
	return 0
}

// AccountsWithTies returns the accounts that something depends on; who was seen signed in as one that rests, does not.
func (s *Store) AccountsWithTies(ctx context.Context) ([]records.Account, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.Account, error) { return scanAccount(rows) },
		"SELECT "+accountColumns+" FROM "+accountFrom+" WHERE a.id IN (SELECT account_id FROM ties t JOIN dependents d ON d.id = dependent_id WHERE d.gone = '' AND NOT (t.strength IN ('signs in', 'mentions') AND EXISTS (SELECT 1 FROM tandems n JOIN credentials c ON c.id = n.resting WHERE c.account_id = t.account_id AND n.rests))) ORDER BY a.id")
}

// Replaced returns accounts that bear the name of one that vanished from the
// same system, where something depends on the name or the former one is in
// custody.
func (s *Store) Replaced(ctx context.Context) ([]records.ReplacedAccount, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (r records.ReplacedAccount, err error) {
		var gone, first string
		err = rows.Scan(&r.NewID, &r.OldID, &r.Name, &r.System, &gone, &first, &r.Custody)
		r.Gone, r.First = database.TimeOf(gone), database.TimeOf(first)
		return r, err
	}, `SELECT n.id, MAX(o.id), n.name, systems.name, MAX(o.gone), n.first_seen, MAX(EXISTS (SELECT 1 FROM credentials c WHERE c.account_id = o.id AND c.state = 'custody'))
		FROM accounts o JOIN accounts n ON n.folded = o.folded AND n.system_id = o.system_id AND n.id <> o.id JOIN systems ON systems.id = n.system_id
		WHERE o.gone <> '' AND n.gone = '' AND n.first_seen > o.first_seen
		AND (EXISTS (SELECT 1 FROM credentials c WHERE c.account_id = o.id AND c.state = 'custody') OR EXISTS (SELECT 1 FROM ties t JOIN dependents d ON d.id = t.dependent_id WHERE t.account_id IN (n.id, o.id) AND d.gone = ''))
		GROUP BY n.id ORDER BY n.id`)
}

// CustodyGone returns accounts in custody that are no longer there.
func (s *Store) CustodyGone(ctx context.Context) ([]records.Account, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.Account, error) { return scanAccount(rows) },
		"SELECT "+accountColumns+" FROM "+accountFrom+" WHERE a.gone <> '' AND a.id IN (SELECT account_id FROM credentials WHERE state = 'custody') ORDER BY a.id")
}
