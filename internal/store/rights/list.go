package rights

import (
	"context"
	"database/sql"

	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

const (
	from = `right_entries e JOIN right_lists l ON l.id = e.list_id JOIN systems ON systems.id = l.system_id
		LEFT JOIN right_principals p ON p.system_id = l.system_id AND p.key = e.given_to LEFT JOIN accounts a ON a.system_id = l.system_id AND a.stable_id = e.given_to`
	columns = "e.id, systems.name, l.system_id, COALESCE(p.name, a.name, e.given_to), COALESCE(p.kind, 'unknown'), COALESCE(a.id, 0), l.shown, l.object_kind, l.object, e.entry, e.first_seen, e.taken"
)

var listing = database.Listing[records.GivenRight]{
	From: from, ID: "e.id", Sort: "id", Scan: columns,
	Columns: []database.Column{
		{Name: "system", Sql: "systems.name"},
		{Name: "to", Sql: "COALESCE(p.name, a.name, e.given_to)"},
		{Name: "to_kind", Sql: "COALESCE(p.kind, 'unknown')", Values: []string{"account", "group", "role", "everyone", "unknown"}},
		{Name: "verb", Sql: "e.verb"},
		{Name: "what", Sql: "e.what"},
		{Name: "deny", Sql: "e.deny", Number: true},
		{Name: "on", Sql: "l.shown"},
		{Name: "object", Sql: "l.object"},
		{Name: "object_kind", Sql: "l.object_kind"},
		{Name: "as", Sql: "COALESCE(json_extract(e.entry, '$.as'), '')"},
		{Name: "text", Sql: "COALESCE(json_extract(e.entry, '$.text'), '')"},
		{Name: "source", Sql: "COALESCE(json_extract(e.entry, '$.source'), '')"},
		{Name: "unsure", Sql: "COALESCE(json_extract(e.entry, '$.unsure'), '')"},
		{Name: "first_seen", Sql: "e.first_seen", Hidden: true},
		{Name: "taken", Sql: "e.taken", Hidden: true},
		{Name: "account_id", Sql: "COALESCE(a.id, 0)", Number: true},
		{Name: "system_id", Sql: "l.system_id", Number: true},
		{Name: "id", Sql: "e.id", Number: true},
	},
	ScanRow: func(rows *sql.Rows) (v records.GivenRight, err error) {
		var entry, first, taken string
		if err := rows.Scan(&v.ID, &v.System, &v.SystemID, &v.To, &v.ToKind, &v.AccountID, &v.On, &v.ObjectKind, &v.Object, &entry, &first, &taken, new(any), new(any)); err != nil {
			return v, err
		}
		e := database.FromJSON[privilege.Entry](entry)
		v.Verb, v.Deny, v.As, v.What, v.Terms, v.Unsure, v.Text, v.Source = e.Verb, e.Deny, e.As, e.What, e.Terms, e.Unsure, e.Text, e.Source
		if e.Through != "" {
			v.Terms = append(v.Terms, "by those who lie in it "+e.Through)
		}
		v.May = privilege.May(v.Verb, v.Deny, v.Unsure)
		v.FirstSeen, v.Taken = database.TimeOf(first), database.TimeOf(taken)
		return v, nil
	},
}

// GivenRights lists entries: those that are there, or with taken those that were taken back.
func (s *Rights) GivenRights(ctx context.Context, taken bool, q records.Query) (records.Page[records.GivenRight], error) {
	l := listing
	l.Where = "e.taken = ''"
	if taken {
		l.Where = "e.taken <> ''"
	}
	return database.PageOf(ctx, s.Read, l, q)
}
