// Package lookup finds the accounts that a spelling may mean, among those that are stored.
package lookup

import (
	"context"
	"database/sql"
	"strings"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// Lookup implements naming.Lookup with indexed queries over present accounts.
type Lookup struct {
	ctx     context.Context
	db      *database.Reader
	domains map[records.SystemID][]string
	known   []naming.Domain
}

// New makes one of the systems that there are at a moment.
func New(ctx context.Context, db *database.Reader, all []records.System) *Lookup {
	l := &Lookup{ctx: ctx, db: db, domains: DomainsOf(all)}
	for _, v := range all {
		if kind := estate.Kind(v.Kind); kind.IsHost() || kind.IsDataStore() {
			continue
		}
		l.known = append(l.known, naming.Domain{Names: v.Facts.Domains, SID: sidOf(v.Facts.Identity), ReadBy: v.Name})
		for _, trust := range v.Facts.Trusts {
			l.known = append(l.known, naming.Domain{Names: trust.Names, SID: trust.SID, TrustedBy: v.Name})
		}
	}
	return l
}

// DomainsOf are the names of each system's domains.
func DomainsOf(all []records.System) map[records.SystemID][]string {
	out := map[records.SystemID][]string{}
	for _, v := range all {
		// A host's own name stands before its local accounts like a domain's.
		out[v.ID] = v.Facts.Domains
	}
	return out
}

// sidOf is a system's identity where that is a security identifier.
func sidOf(identity string) string {
	if strings.HasPrefix(identity, "S-1-") {
		return identity
	}
	return ""
}

// Domains implements naming.Lookup.
func (l *Lookup) Domains() ([]naming.Domain, error) { return l.known, nil }

func (l *Lookup) find(where string, args ...any) ([]naming.Known, error) {
	return database.Collect(l.ctx, l.db, func(rows *sql.Rows) (k naming.Known, err error) {
		var id records.AccountID
		var system records.SystemID
		var kind string
		err = rows.Scan(&id, &system, &kind, &k.Name, &k.UPN, &k.DN, &k.SID, &k.UID)
		k.ID, k.System = id.String(), system.String()
		k.Host, k.Store, k.Domains = estate.Kind(kind).IsHost(), estate.Kind(kind).IsDataStore(), l.domains[system]
		return k, err
	}, "SELECT a.id, a.system_id, systems.kind, a.name, a.upn, a.dn, a.sid, a.uid FROM accounts a JOIN systems ON systems.id = a.system_id WHERE a.gone = '' AND "+where+" LIMIT 50", args...)
}

// ByDN implements naming.Lookup.
func (l *Lookup) ByDN(dn string) ([]naming.Known, error) {
	return l.find("a.dn_normal = ? AND a.dn_normal <> ''", dn)
}

// BySID implements naming.Lookup.
func (l *Lookup) BySID(sid string) ([]naming.Known, error) {
	own, err := l.find("a.sid = ? AND a.sid <> ''", sid)
	if err != nil || len(own) > 0 {
		return own, err
	}
	return l.find("a.id IN (SELECT account_id FROM former_sids WHERE sid = ?)", sid)
}

// GoneName implements naming.Lookup.
func (l *Lookup) GoneName(sid string) (string, error) {
	names, err := database.Collect(l.ctx, l.db, database.Single[string], "SELECT a.name || ' on ' || systems.name FROM accounts a JOIN systems ON systems.id = a.system_id WHERE a.sid = ? AND a.gone <> '' ORDER BY a.gone DESC LIMIT 1", sid)
	if err != nil || len(names) == 0 {
		return "", err
	}
	return names[0], nil
}

// ByUPN implements naming.Lookup.
func (l *Lookup) ByUPN(upn string) ([]naming.Known, error) {
	return l.find("a.upn = ? AND a.upn <> ''", upn)
}

// ByName implements naming.Lookup.
func (l *Lookup) ByName(name string, where naming.Where) ([]naming.Known, error) {
	condition, args := "a.folded = ?", []any{name}
	if where.System != "" {
		condition += " AND a.system_id = CAST(? AS INTEGER)"
		args = append(args, where.System)
	}
	condition += ofKinds(where.Host, estate.Kind.IsHost) + ofKinds(where.Store, estate.Kind.IsDataStore)
	if where.Domain != "" {
		var systems []records.SystemID
		for system, domains := range l.domains {
			if (naming.Where{Domain: where.Domain}).Admits(naming.Known{Domains: domains}) {
				systems = append(systems, system)
			}
		}
		condition += " AND a.system_id IN (SELECT value FROM json_each(?))"
		args = append(args, database.AsJSON(systems))
	}
	return l.find(condition, args...)
}

// ofKinds narrows a query to systems of some kinds, or to the others.
func ofKinds(sort naming.Sort, is func(estate.Kind) bool) string {
	if sort == naming.Also {
		return ""
	}
	var kinds []string
	for _, kind := range estate.Kinds() {
		if is(kind) == (sort == naming.Only) {
			kinds = append(kinds, "'"+string(kind)+"'")
		}
	}
	return " AND systems.kind IN (" + strings.Join(kinds, ", ") + ")"
}

// ByUID implements naming.Lookup.
func (l *Lookup) ByUID(system, uid string) ([]naming.Known, error) {
	if system == "" {
		return l.find("a.uid = ? AND a.uid <> '' AND systems.kind <> 'directory'", uid)
	}
	return l.find("a.uid = ? AND a.uid <> '' AND a.system_id = CAST(? AS INTEGER)", uid, system)
}
