// Package rights keeps who may do what, as systems showed it: principals with what they lie
// in, and lists with their entries. Of a list that is the same as before nothing is
// written; an entry that is no longer there stays, with the time when that was seen.
package rights

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// Rights are the tables of all that.
type Rights struct{ *database.DB }

// RightsSeen is what one reading saw: ids of rows.
type RightsSeen struct{ principals, lists map[int64]bool }

// NewRightsSeen is that of a reading that begins.
func NewRightsSeen() *RightsSeen {
	return &RightsSeen{principals: map[int64]bool{}, lists: map[int64]bool{}}
}

// sliceRows is how many rows one transaction writes.
const sliceRows = 500

func digestOf(v any) []byte {
	raw, err := json.Marshal(v)
	if err != nil {
		panic(fmt.Sprintf("rights: %T: %v", v, err)) // plain values only
	}
	sum := sha256.Sum256(raw)
	return sum[:12]
}

type link struct {
	Group string `json:"g"`
	How   string `json:"h,omitempty"`
	Term  string `json:"t,omitempty"`
	// Until, by this key, is looked for by triggers of the list of ends.
	Until time.Time `json:"u,omitzero"`
}

type member struct {
	privilege.Principal
	links []link
}

// PutRights takes in a part of what a reading saw. All memberships of one principal come in
// one part, and so does each list.
func (s *Rights) PutRights(ctx context.Context, system records.SystemID, principals []privilege.Principal, memberships []privilege.Membership, lists []privilege.List, seen *RightsSeen) error {
	members, at := make([]member, 0, len(principals)), map[string]int{}
	of := func(id string) *member {
		if i, known := at[id]; known {
			return &members[i]
		}
		at[id] = len(members)
		members = append(members, member{Principal: privilege.Principal{ID: id, Kind: privilege.KindUnknown, Name: id}})
		return &members[len(members)-1]
	}
	for _, p := range principals {
		of(p.ID).Principal = p
	}
	for _, m := range memberships {
		one := of(m.Member)
		one.links = append(one.links, link{m.Group, m.How, m.Term, m.Until.UTC()})
	}
	for part := range slices.Chunk(members, sliceRows) {
		if err := s.putPrincipals(ctx, system, part, seen); err != nil {
			return fmt.Errorf("keep principals: %w", err)
		}
	}
	for part := range slices.Chunk(lists, sliceRows) {
		if err := s.putLists(ctx, system, part, seen); err != nil {
			return fmt.Errorf("keep lists of rights: %w", err)
		}
	}
	return nil
}

type known struct {
	id     int64
	digest []byte
}

func readKnown(ctx context.Context, db database.Queryer, table string, system records.SystemID, keys []string) (map[string]known, error) {
	rows, err := db.QueryContext(ctx, "SELECT id, key, digest FROM "+table+" WHERE system_id = ? AND key IN (SELECT value FROM json_each(?))", system, database.AsJSON(keys))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := make(map[string]known, len(keys))
	for rows.Next() {
		var key string
		var k known
		if err := rows.Scan(&k.id, &key, &k.digest); err != nil {
			return nil, err
		}
		out[key] = k
	}
	return out, rows.Err()
}

func (s *Rights) putPrincipals(ctx context.Context, system records.SystemID, part []member, seen *RightsSeen) error {
	keys := make([]string, len(part))
	for i, m := range part {
		keys[i] = m.ID
	}
	have, err := readKnown(ctx, s.Read, "right_principals", system, keys)
	if err != nil {
		return err
	}
	var write []member
	for _, m := range part {
		k, there := have[m.ID]
		if there && string(k.digest) == string(digestOf([]any{m.Principal, m.links})) {
			seen.principals[k.id] = true
			continue
		}
		write = append(write, m)
	}
	if len(write) == 0 {
		return nil
	}
	return s.InTx(ctx, func(tx *sql.Tx) error {
		for _, m := range write {
			var id int64
			if err := tx.QueryRowContext(ctx, `INSERT INTO right_principals (system_id, key, kind, name, dn, lies_in, digest) VALUES (?,?,?,?,?,?,?)
				ON CONFLICT (system_id, key) DO UPDATE SET kind = excluded.kind, name = excluded.name, dn = excluded.dn, lies_in = excluded.lies_in, digest = excluded.digest RETURNING id`,
				system, m.ID, m.Kind, m.Name, m.DN, database.AsJSON(m.links), digestOf([]any{m.Principal, m.links})).Scan(&id); err != nil {
				return err
			}
			seen.principals[id] = true
		}
		return nil
	})
}

func (s *Rights) putLists(ctx context.Context, system records.SystemID, part []privilege.List, seen *RightsSeen) error {
	keys := make([]string, len(part))
	for i, l := range part {
		keys[i] = l.Key
	}
	have, err := readKnown(ctx, s.Read, "right_lists", system, keys)
	if err != nil {
		return err
	}
	var write []privilege.List
	for _, l := range part {
		k, there := have[l.Key]
		if there && string(k.digest) == string(digestOf(l)) {
			seen.lists[k.id] = true
			continue
		}
		write = append(write, l)
	}
	if len(write) == 0 {
		return nil
	}
	now := s.Stamp()
	return s.InTx(ctx, func(tx *sql.Tx) error {
		for _, l := range write {
			var id int64
			var first privilege.Object
			if len(l.Objects) > 0 {
				first = l.Objects[0]
			}
			if err := tx.QueryRowContext(ctx, `INSERT INTO right_lists (system_id, key, decides, objects, shown, object_kind, object, digest, first_seen, changed) VALUES (?,?,?,?,?,?,?,?,?,?)
				ON CONFLICT (system_id, key) DO UPDATE SET decides = excluded.decides, objects = excluded.objects, shown = excluded.shown, object_kind = excluded.object_kind, object = excluded.object, digest = excluded.digest, changed = excluded.changed RETURNING id`,
				system, l.Key, l.Decides, database.AsJSON(l.Objects), privilege.On(l.Objects), first.Kind, first.Name, digestOf(l), now, now).Scan(&id); err != nil {
				return err
			}
			seen.lists[id] = true
			if err := putEntries(ctx, tx, id, l.Entries, now); err != nil {
				return err
			}
		}
		return nil
	})
}

// putEntries writes what a list has now. An entry is known again by what it gives, not by
// where it stands: of two alike the order counts.
func putEntries(ctx context.Context, tx *sql.Tx, list int64, entries []privilege.Entry, now string) error {
	there := map[string][]int64{}
	if _, err := database.Collect(ctx, tx, func(rows *sql.Rows) (none struct{}, err error) {
		var id int64
		var digest []byte
		err = rows.Scan(&id, &digest)
		there[string(digest)] = append(there[string(digest)], id)
		return none, err
	}, "SELECT id, digest FROM right_entries WHERE list_id = ? AND taken = '' ORDER BY seq", list); err != nil {
		return err
	}
	for seq, e := range entries {
		plain := e
		plain.Text, plain.Source = "", ""
		digest := digestOf(plain)
		if ids := there[string(digest)]; len(ids) > 0 {
			there[string(digest)] = ids[1:]
			if _, err := tx.ExecContext(ctx, "UPDATE right_entries SET seq = ?, entry = ? WHERE id = ?", seq, database.AsJSON(e), ids[0]); err != nil {
				return err
			}
			continue
		}
		if _, err := tx.ExecContext(ctx, "INSERT INTO right_entries (list_id, seq, digest, given_to, verb, deny, what, entry, first_seen) VALUES (?,?,?,?,?,?,?,?,?)",
			list, seq, digest, e.To, e.Verb, e.Deny, e.What, database.AsJSON(e), now); err != nil {
			return err
		}
	}
	for _, ids := range there {
		for _, id := range ids {
			if _, err := tx.ExecContext(ctx, "UPDATE right_entries SET taken = ? WHERE id = ?", now, id); err != nil {
				return err
			}
		}
	}
	return nil
}

// Many lists that vanish at once are a question for a person (law 4): so many, and such a
// part of those that were there.
const (
	massLeast = 20
	massPart  = 4 // a quarter
)

// Reading is how one reading of rights ended.
type Reading struct {
	Complete bool     // all that there is was seen
	Whole    bool     // all that is shown was looked at, though it is not all there is
	Why      string   // it is not complete
	Kept     []string // beginnings of keys of lists that were not looked at
	Sight    string   // log-on and options that decide what is seen
}

// EndRights ends a reading: what one that looked at all did not see is there no longer, if it
// had the sight of before. What was not looked at stays. One that may have seen less says how
// it would be otherwise.
func (s *Rights) EndRights(ctx context.Context, system records.SystemID, seen *RightsSeen, r Reading) error {
	held := 0
	if r.Complete || r.Whole {
		var why string
		var err error
		if held, why, err = s.doubtful(ctx, system, seen, r); err != nil {
			return fmt.Errorf("what was not seen: %w", err)
		}
		if held > 0 {
			r.Complete, r.Whole, r.Why = false, false, why
		}
	}
	if r.Complete || r.Whole {
		if err := s.takeUnseen(ctx, system, seen, r.Kept); err != nil {
			return fmt.Errorf("what was not seen: %w", err)
		}
	}
	return s.InTx(ctx, func(tx *sql.Tx) error {
		if r.Whole && len(r.Kept) == 0 {
			if _, err := tx.ExecContext(ctx, `INSERT INTO scopes (system_id, scope, completed, why) VALUES (?,'rights-whole',?,'')
				ON CONFLICT (system_id, scope) DO UPDATE SET completed = excluded.completed`, system, s.Stamp()); err != nil {
				return err
			}
		}
		if r.Complete {
			_, err := tx.ExecContext(ctx, `INSERT INTO scopes (system_id, scope, completed, why, sight) VALUES (?,'rights',?,'',?)
				ON CONFLICT (system_id, scope) DO UPDATE SET completed = excluded.completed, why = '', sight = excluded.sight, held = 0, confirmed = 0`, system, s.Stamp(), r.Sight)
			return err
		}
		if r.Whole {
			_, err := tx.ExecContext(ctx, `INSERT INTO scopes (system_id, scope, why, sight) VALUES (?,'rights',?,?)
				ON CONFLICT (system_id, scope) DO UPDATE SET why = excluded.why, sight = excluded.sight, held = 0, confirmed = 0`, system, r.Why, r.Sight)
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO scopes (system_id, scope, why, held) VALUES (?,'rights',?,?)
			ON CONFLICT (system_id, scope) DO UPDATE SET why = excluded.why, held = excluded.held`, system, r.Why, held)
		return err
	})
}

// keptOf is a condition that leaves out lists that were not looked at.
func keptOf(kept []string) (condition string, args []any) {
	for _, prefix := range kept {
		condition += " AND substr(key, 1, ?) <> ?"
		args = append(args, len(prefix), prefix)
	}
	return condition, args
}

// doubtful counts the lists that were there and were not seen now, where it takes a person
// to say that they are gone, and says why.
func (s *Rights) doubtful(ctx context.Context, system records.SystemID, seen *RightsSeen, r Reading) (int, string, error) {
	type list struct {
		id     int64
		shared bool
	}
	without, args := keptOf(r.Kept)
	present, err := database.Collect(ctx, s.Read, func(rows *sql.Rows) (l list, err error) {
		return l, rows.Scan(&l.id, &l.shared)
	}, "SELECT id, key GLOB ? FROM right_lists WHERE system_id = ? AND EXISTS (SELECT 1 FROM right_entries WHERE list_id = right_lists.id AND taken = '')"+without, append([]any{privilege.SharedKey + "*", system}, args...)...)
	if err != nil {
		return 0, "", err
	}
	gone, vanished := 0, 0
	for _, l := range present {
		if !seen.lists[l.id] {
			gone++
			if !l.shared { // one that is known by what it says is another one once it says something else
				vanished++
			}
		}
	}
	var before string
	var confirmed bool
	err = s.Read.QueryRowContext(ctx, "SELECT sight, confirmed FROM scopes WHERE system_id = ? AND scope = 'rights'", system).Scan(&before, &confirmed)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return 0, "", err
	}
	switch {
	case gone == 0 || confirmed:
		return 0, "", nil
	case before != "" && r.Sight != "" && before != r.Sight:
		return gone, fmt.Sprintf("%d lists of rights that were there before are not seen with the log-on, base or options of now: whether they are gone, or only out of sight, is for a person to say", gone), nil
	case vanished >= massLeast && vanished*massPart > len(present):
		return vanished, fmt.Sprintf("%d of %d lists of rights vanished at once: whether they are gone, or the steward sees less than before, is for a person to say", vanished, len(present)), nil
	}
	return 0, "", nil
}

func (s *Rights) takeUnseen(ctx context.Context, system records.SystemID, seen *RightsSeen, kept []string) error {
	without, args := keptOf(kept)
	for _, t := range []struct {
		ids  string
		args []any
		ends []string
		seen map[int64]bool
	}{
		{"SELECT id FROM right_lists WHERE system_id = ?" + without, append([]any{system}, args...), []string{"UPDATE right_entries SET taken = '" + s.Stamp() + "' WHERE taken = '' AND list_id IN (SELECT value FROM json_each(?))"}, seen.lists},
		{"SELECT id FROM right_principals WHERE system_id = ?", []any{system}, []string{
			// Whom a list names that was not looked at stays, and lies in nothing any more.
			"UPDATE right_principals SET lies_in = '[]', digest = x'' WHERE id IN (SELECT value FROM json_each(?))",
			"DELETE FROM right_principals WHERE id IN (SELECT value FROM json_each(?)) AND NOT EXISTS (SELECT 1 FROM right_entries e JOIN right_lists l ON l.id = e.list_id WHERE l.system_id = right_principals.system_id AND e.given_to = right_principals.key AND e.taken = '')",
		}, seen.principals},
	} {
		ids, err := database.Collect(ctx, s.Read, database.Single[int64], t.ids, t.args...)
		if err != nil {
			return err
		}
		ids = slices.DeleteFunc(ids, func(id int64) bool { return t.seen[id] })
		for part := range slices.Chunk(ids, sliceRows) {
			if err := s.InTx(ctx, func(tx *sql.Tx) error {
				for _, end := range t.ends {
					if _, err := tx.ExecContext(ctx, end, database.AsJSON(part)); err != nil {
						return err
					}
				}
				return nil
			}); err != nil {
				return err
			}
		}
	}
	// A list without entries is seen as changed when it comes back.
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE right_lists SET digest = x'' WHERE system_id = ? AND NOT EXISTS (SELECT 1 FROM right_entries WHERE list_id = right_lists.id AND taken = '')", system)
		return err
	})
}

// RightsOf returns all that is known of one system.
func (s *Rights) RightsOf(ctx context.Context, system records.SystemID) (principals []privilege.Principal, memberships []privilege.Membership, lists []privilege.List, err error) {
	_, err = database.Collect(ctx, s.Read, func(rows *sql.Rows) (none struct{}, err error) {
		var p privilege.Principal
		var links string
		if err := rows.Scan(&p.ID, &p.Kind, &p.Name, &p.DN, &links); err != nil {
			return none, err
		}
		principals = append(principals, p)
		for _, l := range database.FromJSON[[]link](links) {
			memberships = append(memberships, privilege.Membership{Member: p.ID, Group: l.Group, How: l.How, Term: l.Term, Until: l.Until})
		}
		return none, nil
	}, "SELECT key, kind, name, dn, lies_in FROM right_principals WHERE system_id = ? ORDER BY id", system)
	if err != nil {
		return nil, nil, nil, err
	}
	at := map[int64]int{}
	_, err = database.Collect(ctx, s.Read, func(rows *sql.Rows) (none struct{}, err error) {
		var id int64
		var key, decides, objects, entry string
		if err := rows.Scan(&id, &key, &decides, &objects, &entry); err != nil {
			return none, err
		}
		i, begun := at[id]
		if !begun {
			i = len(lists)
			at[id] = i
			lists = append(lists, privilege.List{Key: key, Decides: privilege.Decides(decides), Objects: database.FromJSON[[]privilege.Object](objects)})
		}
		lists[i].Entries = append(lists[i].Entries, database.FromJSON[privilege.Entry](entry))
		return none, nil
	}, "SELECT l.id, l.key, l.decides, l.objects, e.entry FROM right_lists l JOIN right_entries e ON e.list_id = l.id WHERE l.system_id = ? AND e.taken = '' ORDER BY l.key, e.seq", system)
	return principals, memberships, lists, err
}

// RightsRead says how much of a system was read.
func (s *Rights) RightsRead(ctx context.Context, system records.SystemID) (v records.RightsRead, err error) {
	var completed string
	err = s.Read.QueryRowContext(ctx, "SELECT completed, why FROM scopes WHERE system_id = ? AND scope = 'rights'", system).Scan(&completed, &v.Why)
	if errors.Is(err, sql.ErrNoRows) {
		return records.RightsRead{Never: true}, nil
	}
	if err != nil {
		return v, err
	}
	v.Completed = database.TimeOf(completed)
	var whole string // "" where nothing is left out of readings of its kind
	_, err = database.Found(s.Read.QueryRowContext(ctx, "SELECT completed FROM scopes WHERE system_id = ? AND scope = 'rights-whole'", system).Scan(&whole))
	v.Whole = database.TimeOf(whole)
	return v, err
}

// SystemsNaming returns the systems that know somebody by a name of somewhere else, such as
// DOMAIN\name or name@domain.
func (s *Rights) SystemsNaming(ctx context.Context, account string) ([]records.SystemID, error) {
	return database.Collect(ctx, s.Read, database.Single[records.SystemID], `SELECT DISTINCT system_id FROM right_principals WHERE substr(key, 1, 5) = 'name:'
		AND (substr(key, instr(key, '\') + 1) = lower(?) AND instr(key, '\') > 0 OR substr(key, 6, instr(key, '@') - 6) = lower(?) AND instr(key, '@') > 0) ORDER BY system_id`, account, account)
}

// AccountsByKey returns the accounts of a system that is known by their stable ids.
func (s *Rights) AccountsByKey(ctx context.Context, system records.SystemID, keys []string) (map[string]records.AccountID, error) {
	out := make(map[string]records.AccountID, len(keys))
	_, err := database.Collect(ctx, s.Read, func(rows *sql.Rows) (none struct{}, err error) {
		var key string
		var id records.AccountID
		err = rows.Scan(&key, &id)
		out[key] = id
		return none, err
	}, "SELECT stable_id, id FROM accounts WHERE system_id = ? AND stable_id IN (SELECT value FROM json_each(?))", system, database.AsJSON(keys))
	return out, err
}
