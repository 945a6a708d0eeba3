package changes

import (
	"context"
	"database/sql"
	"fmt"

	"mossledger.example/moss/internal/core/change"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

// scopeOfKind is the scope that a kind of dependent is read in.
func scopeOfKind(kind estate.DependentKind) string {
	switch kind {
	case estate.DependentUnit:
		return "units"
	case estate.DependentCron:
		return "cron"
	case estate.DependentService:
		return "services"
	case estate.DependentTask:
		return "tasks"
	case estate.DependentPool:
		return "pools"
	}
	return "files"
}

// told reports whether what becomes of a dependent is a change at all. Processes come
// and go, and mentions with the names that are looked for.
func told(d *estate.Dependent) bool {
	return d.Kind != estate.DependentProcess && (d.Copy == nil || d.Copy.Format != estate.FormatMention)
}

// Dependent is a dependent as a look saw it, and what is known of it.
type Dependent struct {
	*estate.Dependent
	ID          int64
	Known, Gone bool
	Fingerprint string // of the value that it holds
}

// Dependents is a batch of dependents that is taken in: what was known of them.
type Dependents struct {
	changes *Log
	system  records.SystemID
	look    *Look
	old     map[int64]estate.Dependent
	out     []Put
}

// OfDependents begins a batch. altered are the numbers of known ones that are written again.
func (s *Log) OfDependents(ctx context.Context, tx *sql.Tx, system records.SystemID, look *Look, altered []int64) (*Dependents, error) {
	old, err := dependentsBefore(ctx, tx, altered)
	if err != nil {
		return nil, fmt.Errorf("read known dependents: %w", err)
	}
	return &Dependents{s, system, look, old, nil}, nil
}

// Written compares one that was written with what was known of it.
func (b *Dependents) Written(ctx context.Context, tx *sql.Tx, d Dependent) error {
	if !told(d.Dependent) {
		return nil
	}
	var fields []change.Field
	if d.Known {
		fields = change.Dependents(b.old[d.ID], *d.Dependent)
	}
	earlier, err := b.changes.readBefore(ctx, tx, b.system, b.look, scopeOfKind(d.Kind))
	if err != nil {
		return err
	}
	isNew := false
	if !d.Known {
		if isNew, err = newHere(ctx, tx, earlier, d.Fingerprint); err != nil {
			return err
		}
	}
	what := whatBecame(d.Known, d.Gone, isNew, fields)
	if what == "" {
		return nil
	}
	v := Put{Subject: records.SubjectDependent, Name: d.Place, Kind: string(d.Kind), MadeBy: records.ByOthers, What: what, ID: d.ID, Fields: fields}
	touched, err := b.changes.touched(ctx, tx, b.system, earlier, b.look)
	if err != nil {
		return err
	}
	if v.Rotation = ownChange(d.Dependent, what, fields, touched); v.Rotation != 0 {
		v.MadeBy = records.ByMossLedger
	}
	b.out = append(b.out, v)
	return nil
}

// End keeps what became of the batch.
func (b *Dependents) End(ctx context.Context, tx *sql.Tx) error {
	return b.changes.WriteChanges(ctx, tx, b.system, b.look.Survey, b.out)
}

func dependentsBefore(ctx context.Context, tx *sql.Tx, ids []int64) (map[int64]estate.Dependent, error) {
	out := make(map[int64]estate.Dependent, len(ids))
	if len(ids) == 0 {
		return out, nil
	}
	type row struct {
		id int64
		estate.Dependent
	}
	rows, err := database.Collect(ctx, tx, func(rows *sql.Rows) (r row, err error) {
		var uses, after, requires, copied, key string
		err = rows.Scan(&r.id, &r.Kind, &r.Place, &r.Name, &r.Description, &r.RunsAs, &r.StartMode, &r.Executable, &r.Schedule, &r.Path, &uses, &after, &requires, &copied, &key, &r.Stored)
		r.Uses, r.After, r.Requires = database.FromJSON[[]string](uses), database.FromJSON[[]string](after), database.FromJSON[[]string](requires)
		r.Copy, r.Key = database.FromJSON[*estate.Copy](copied), database.FromJSON[*estate.Key](key)
		return r, err
	}, "SELECT id, kind, place, name, description, runs_as, start_mode, executable, schedule, path, uses, after, requires, copy, key, stored FROM dependents WHERE id IN (SELECT value FROM json_each(?))", database.AsJSON(ids))
	for _, r := range rows {
		out[r.id] = r.Dependent
	}
	return out, err
}

// newHere reports whether a dependent that was not there before is told as new. A copy
// whose value came into custody since the earlier look was only not recognised then.
func newHere(ctx context.Context, tx *sql.Tx, b before, fingerprint string) (bool, error) {
	if !b.complete || fingerprint == "" {
		return b.complete, nil
	}
	var late bool
	err := tx.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM secrets x JOIN credentials c ON c.id = x.credential_id WHERE x.fingerprint = ? AND c.taken > ?)", fingerprint, b.begun).Scan(&late)
	return !late, err
}
