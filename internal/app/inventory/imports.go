package inventory

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/roster"
	"mossledger.example/moss/internal/records"
)

// Import is what an import did.
type Import struct {
	Added    []string         `json:"added" nullable:"false"`
	Known    []string         `json:"known" nullable:"false" doc:"Already there: left as they are"`
	Problems []roster.Problem `json:"problems" nullable:"false" doc:"Rows that were not taken, by line and column"`
	Warnings []roster.Problem `json:"warnings" nullable:"false" doc:"Taken, but something is odd: a name that does not resolve"`
	Waiting  int              `json:"waiting" doc:"Of those that were added, how many wait for somebody's approval"`
}

// Defaults fill what a list leaves open.
type Defaults struct {
	Kind, Steward, Site, Environment, Owner string
	// For windows hosts among them.
	WindowsSteward, WindowsSignIn, TrustedCA string
}

// ImportList adds the systems of a CSV or plain list.
func (inventory *Inventory) ImportList(ctx context.Context, by access.Actor, in io.Reader, defaults Defaults) (Import, error) {
	if err := access.Decide(by, access.ImportSystems, access.Object{}); err != nil {
		return Import{}, err
	}
	rows, problems, err := roster.Read(in)
	if err != nil {
		return Import{}, fmt.Errorf("%w: %w", app.ErrInput, err)
	}
	return inventory.importRows(ctx, by.Name, rows, problems, defaults)
}

// ImportDirectory adds the computers of a directory subtree.
func (inventory *Inventory) ImportDirectory(ctx context.Context, by access.Actor, from, base string, defaults Defaults) (Import, error) {
	if err := access.Decide(by, access.ImportSystems, access.Object{Kind: "system", Name: from}); err != nil {
		return Import{}, err
	}
	v, err := inventory.store.System(ctx, from)
	if err != nil {
		return Import{}, err
	}
	connector, target, err := inventory.Target(ctx, v)
	if err != nil {
		return Import{}, err
	}
	if !connector.Describe().Can(connect.ActList) {
		return Import{}, fmt.Errorf("%w: %s does not list systems", app.ErrCannot, v.Name)
	}
	var listed []connect.Listed
	err = inventory.base.Act(ctx, ledger.Entry{Actor: by.Name, Act: "system.list", Subject: base, System: v.Name}, func() error {
		listed, err = connector.ListSystems(ctx, target, base)
		return err
	})
	if err != nil {
		return Import{}, err
	}
	var rows []roster.Row
	for i, l := range listed {
		row := roster.Row{Line: i + 1, Name: strings.ToLower(l.Name), Address: l.Address}
		if strings.Contains(strings.ToLower(l.OS), "windows") {
			row.Kind = string(estate.KindWindowsHost)
		}
		rows = append(rows, row)
	}
	return inventory.importRows(ctx, by.Name, rows, nil, defaults)
}

func (inventory *Inventory) importRows(ctx context.Context, by string, rows []roster.Row, problems []roster.Problem, defaults Defaults) (Import, error) {
	out := Import{Added: []string{}, Known: []string{}, Problems: problems, Warnings: []roster.Problem{}}
	if out.Problems == nil {
		out.Problems = []roster.Problem{}
	}
	unresolved := resolveAll(ctx, rows)
	names := make([]string, 0, len(rows))
	for i, row := range rows {
		if unresolved[i] == "" {
			names = append(names, row.Name)
		}
	}
	for i, row := range rows {
		v := records.System{
			Name: row.Name, Kind: cmp.Or(row.Kind, defaults.Kind, string(estate.KindUnixHost)), Address: row.Address, Port: row.Port,
			Steward: cmp.Or(row.Steward, defaults.Steward), Site: cmp.Or(row.Site, defaults.Site), Environment: cmp.Or(row.Environment, defaults.Environment), Owner: cmp.Or(row.Owner, defaults.Owner),
		}
		if row.Paths != "" {
			v.Options = map[string]string{"paths": row.Paths}
		}
		if v.Kind == string(estate.KindWindowsHost) {
			v.Steward, v.TrustedCA = cmp.Or(row.Steward, defaults.WindowsSteward, defaults.Steward), defaults.TrustedCA
			if defaults.WindowsSignIn != "" {
				v.Options = map[string]string{"signin": defaults.WindowsSignIn}
			}
		}
		err := inventory.Valid(ctx, v)
		if err == nil {
			_, err = inventory.add(ctx, by, v)
		}
		switch {
		case errors.Is(err, records.ErrConflict):
			out.Known = append(out.Known, v.Name)
			continue
		case errors.Is(err, app.ErrInput):
			out.Problems = append(out.Problems, roster.Problem{Line: row.Line, Text: row.Name, What: strings.TrimPrefix(err.Error(), app.ErrInput.Error()+": ")})
			continue
		case err != nil:
			return out, err
		}
		out.Added = append(out.Added, v.Name)
		if unresolved[i] != "" {
			what := unresolved[i]
			if near, ok := roster.Nearest(row.Name, names); ok {
				what += "; did you mean " + near + "?"
			}
			out.Warnings = append(out.Warnings, roster.Problem{Line: row.Line, Column: "name", Text: row.Name, What: what})
		}
	}
	var added []records.System
	for _, name := range out.Added {
		v, err := inventory.store.System(context.WithoutCancel(ctx), name)
		if err != nil {
			return out, err
		}
		added = append(added, v)
	}
	waiting, err := inventory.trust(ctx, by, "import", added...)
	out.Waiting = len(waiting)
	return out, err
}

// resolveAll looks all names up at once, bounded, and says what is wrong.
func resolveAll(ctx context.Context, rows []roster.Row) []string {
	out := make([]string, len(rows))
	slots := make(chan struct{}, 32)
	var all sync.WaitGroup
	for i, row := range rows {
		address := cmp.Or(row.Address, row.Name)
		if net.ParseIP(address) != nil {
			continue
		}
		all.Add(1)
		slots <- struct{}{}
		go func() {
			defer func() { <-slots; all.Done() }()
			look, cancel := context.WithTimeout(ctx, connect.ResolveTime)
			defer cancel()
			if _, err := net.DefaultResolver.LookupHost(look, address); err != nil {
				out[i] = address + " does not resolve"
			}
		}()
	}
	all.Wait()
	return out
}
