package picture

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/core/roster"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

// FindAccount takes an account in any spelling, or its number, to one account.
// An ambiguous spelling is an error that lists the candidates.
func (picture *Picture) FindAccount(ctx context.Context, spelling string) (records.Account, naming.Resolution, error) {
	var res naming.Resolution
	if id, found := strings.CutPrefix(spelling, "id:"); found {
		a, err := picture.store.Account(ctx, app.Number[records.AccountID](id))
		return a, res, err
	}
	lookup, err := picture.store.Lookup(ctx)
	if err != nil {
		return records.Account{}, res, err
	}
	context := naming.Context{}
	// system/name picks an account of one system.
	if system, name, found := strings.Cut(spelling, "/"); found && !strings.ContainsAny(system, `=\@`) {
		if v, err := picture.store.System(ctx, system); err == nil {
			context, spelling = store.ContextOf(v), name
			res, err = naming.Resolve(spelling, context, onSystem{lookup, context.System})
			if err != nil {
				return records.Account{}, res, err
			}
			return picture.resolved(ctx, spelling, res)
		}
	}
	if res, err = naming.Resolve(spelling, context, lookup); err != nil {
		return records.Account{}, res, err
	}
	return picture.resolved(ctx, spelling, res)
}

// onSystem narrows a lookup to one system.
type onSystem struct {
	naming.Lookup
	system string
}

// ByName implements naming.Lookup.
func (l onSystem) ByName(name string, where naming.Where) ([]naming.Known, error) {
	where.System = l.system
	return l.Lookup.ByName(name, where)
}

// ByUID implements naming.Lookup.
func (l onSystem) ByUID(_, uid string) ([]naming.Known, error) { return l.Lookup.ByUID(l.system, uid) }

func (picture *Picture) resolved(ctx context.Context, spelling string, res naming.Resolution) (records.Account, naming.Resolution, error) {
	switch res.State {
	case naming.Resolved:
		a, err := picture.store.Account(ctx, app.Number[records.AccountID](res.Accounts[0].ID))
		return a, res, err
	case naming.Ambiguous:
		var names []string
		for _, k := range res.Accounts {
			v, err := picture.store.Account(ctx, app.Number[records.AccountID](k.ID))
			if err == nil {
				names = append(names, fmt.Sprintf("id:%d (%s on %s)", v.ID, cmp.Or(v.DN, v.Name), v.System))
			}
		}
		return records.Account{}, res, fmt.Errorf("%w: %q is ambiguous: %s", app.ErrInput, spelling, strings.Join(names, ", "))
	case naming.BuiltIn:
		return records.Account{}, res, fmt.Errorf("%w: %q is %s", app.ErrInput, spelling, res.Why)
	}
	why := res.Why
	if near, err := picture.NearNames(ctx, spelling); err == nil && len(near) > 0 {
		why += "; did you mean " + strings.Join(near, " or ") + "?"
	}
	return records.Account{}, res, fmt.Errorf("account %q: %w: %s", spelling, app.ErrNotFound, why)
}

// mostNear is how many names that somebody may have meant are told.
const mostNear = 3

// NearNames returns the names of known accounts that differ from a spelling's by a slip
// of the keyboard. Only names that something uses, or that begin alike, are looked at.
func (picture *Picture) NearNames(ctx context.Context, spelling string) ([]string, error) {
	if _, name, found := strings.Cut(spelling, "/"); found {
		spelling = name
	}
	ref, err := naming.Parse(spelling)
	if err != nil || ref.Name == "" || ref.Form == naming.FormSID || ref.Form == naming.FormUID || len(ref.Name) < 4 {
		return []string{}, nil //nolint:nilerr // what is no name resembles none
	}
	known, err := picture.store.NamesAlike(ctx, ref.Name)
	if err != nil {
		return nil, err
	}
	return append([]string{}, roster.Near(ref.Name, known, mostNear)...), nil
}
