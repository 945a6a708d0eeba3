package operate

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/roster"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/store"
)

// SaveLogOn seals and stores a log-on.
func (o *Operator) SaveLogOn(ctx context.Context, by, name, account string, password, key secret.Value) error {
	if name == "" || account == "" || password.Empty() && key.Empty() {
		return fmt.Errorf("%w: a log-on needs a name, an account, and a password or a private key", ErrInput)
	}
	// A name in another letter case is the same one, and sealed under that.
	if have, err := o.Store.LogOn(ctx, name); err == nil {
		name = have.Name
	} else if !errors.Is(err, ErrNotFound) {
		return err
	}
	sealedPassword, err := o.seal("logon/"+name+"/password", password)
	if err != nil {
		return err
	}
	sealedKey, err := o.seal("logon/"+name+"/key", key)
	if err != nil {
		return err
	}
	return o.Store.SaveLogOn(ctx, store.LogOn{Name: name, Account: account, SealedPassword: sealedPassword, SealedKey: sealedKey},
		ledger.Entry{Actor: by, Act: "logon.save", Phase: ledger.Outcome, Subject: name, Result: "done"})
}

// ValidSystem checks what a person may give.
func (o *Operator) ValidSystem(ctx context.Context, v store.System) error {
	if err := roster.CheckName(v.Name); err != nil {
		return fmt.Errorf("%w: name: %w", ErrInput, err)
	}
	if err := roster.CheckName(v.Address); v.Address != "" && err != nil {
		return fmt.Errorf("%w: address: %w", ErrInput, err)
	}
	if _, ok := connect.For(estate.Kind(v.Kind)); !ok {
		return fmt.Errorf("%w: unknown kind %q (known: %v)", ErrInput, v.Kind, connect.Kinds())
	}
	if v.Port < 0 || v.Port > 65535 {
		return fmt.Errorf("%w: port %d is outside 1 to 65535", ErrInput, v.Port)
	}
	if v.LogOn != "" {
		if _, err := o.Store.LogOn(ctx, v.LogOn); err != nil {
			return fmt.Errorf("%w: %w: add it with 'moss logon add'", ErrInput, err)
		}
	}
	return validOptions(v)
}

// optionsOf are the options that systems of a kind have.
var optionsOf = map[estate.Kind][]string{
	estate.KindDirectory:   {"base", "servers"},
	estate.KindUnixHost:    {"paths", "setpw", "search", "search-exclude"},
	estate.KindWindowsHost: {"signin", "realm", "kdc", "service"},
	estate.KindPostgreSQL:  {"tls", "database"},
	estate.KindMariaDB:     {"tls", "procedure"},
	estate.KindRedis:       {"tls"},
}

func validOptions(v store.System) error {
	for _, name := range []string{"paths", "search", "search-exclude"} {
		for _, p := range strings.Split(v.Options[name], ";") {
			if p = strings.TrimSpace(p); p != "" && !path.IsAbs(p) && !(name == "search" && p == "off") {
				return fmt.Errorf("%w: option %s: %q is not an absolute path", ErrInput, name, p)
			}
		}
	}
	if tls := v.Options["tls"]; tls != "" && tls != "off" && tls != "on" {
		return fmt.Errorf("%w: option tls: on or off, not %q", ErrInput, tls)
	}
	if _, err := roster.Addresses(v.Options["servers"]); err != nil {
		return fmt.Errorf("%w: option servers: %w", ErrInput, err)
	}
	known := optionsOf[estate.Kind(v.Kind)]
	for name := range v.Options {
		if !slices.Contains(known, name) {
			return fmt.Errorf("%w: unknown option %q (known for a %s: %s)", ErrInput, name, v.Kind, strings.Join(known, ", "))
		}
	}
	switch v.Options["signin"] {
	case "", "kerberos", "ntlm", "basic":
	default:
		return fmt.Errorf("%w: option signin: %q is none of kerberos, ntlm and basic", ErrInput, v.Options["signin"])
	}
	return nil
}

// AddSystem adds one system.
func (o *Operator) AddSystem(ctx context.Context, by string, v store.System) (int64, error) {
	if err := o.ValidSystem(ctx, v); err != nil {
		return 0, err
	}
	id, err := o.addSystem(ctx, by, v)
	if err != nil {
		return 0, err
	}
	if v, err = o.Store.System(ctx, v.Name); err != nil {
		return id, err
	}
	_, err = o.trust(ctx, by, "", v)
	return id, err
}

func (o *Operator) addSystem(ctx context.Context, by string, v store.System) (int64, error) {
	return o.Store.AddSystem(ctx, v, ledger.Entry{Actor: by, Act: "system.add", Phase: ledger.Outcome, Subject: v.Name, System: v.Name, Result: "done", Changes: systemChanges(store.System{}, v)})
}

// ChangeSystem replaces what a person may change of a system. When that decides
// where its secrets go, nothing secret goes there until somebody else approves.
func (o *Operator) ChangeSystem(ctx context.Context, by string, before, after store.System, revision int64) error {
	if err := o.ValidSystem(ctx, after); err != nil {
		return err
	}
	entry := ledger.Entry{Actor: by, Act: "system.change", Phase: ledger.Outcome, Subject: after.Name, System: after.Name, Result: "done", Changes: systemChanges(before, after)}
	if err := o.Store.ChangeSystem(ctx, after, revision, entry); err != nil {
		return err
	}
	now, err := o.Store.SystemByID(context.WithoutCancel(ctx), after.ID)
	if err != nil {
		return err
	}
	_, err = o.trust(ctx, by, "", now)
	return err
}

func systemChanges(before, after store.System) []ledger.Change {
	port := func(n int) string {
		if n == 0 {
			return ""
		}
		return fmt.Sprint(n)
	}
	fields := [][3]string{
		{"kind", before.Kind, after.Kind},
		{"address", before.Address, after.Address},
		{"port", port(before.Port), port(after.Port)},
		{"log-on", before.LogOn, after.LogOn},
		{"site", before.Site, after.Site},
		{"environment", before.Environment, after.Environment},
		{"owner", before.Owner, after.Owner},
		{"CA", before.TrustedCA, after.TrustedCA},
	}
	names := map[string]bool{}
	for name := range before.Options {
		names[name] = true
	}
	for name := range after.Options {
		names[name] = true
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		fields = append(fields, [3]string{"option " + name, before.Options[name], after.Options[name]})
	}
	return ledger.Diff(fields...)
}

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
	Kind, LogOn, Site, Environment, Owner string
	// For windows hosts among them.
	WindowsLogOn, WindowsSignIn, TrustedCA string
}

// ImportList adds the systems of a CSV or plain list.
func (o *Operator) ImportList(ctx context.Context, by string, in io.Reader, defaults Defaults) (Import, error) {
	rows, problems, err := roster.Read(in)
	if err != nil {
		return Import{}, fmt.Errorf("%w: %w", ErrInput, err)
	}
	return o.importRows(ctx, by, rows, problems, defaults)
}

// ImportDirectory adds the computers of a directory subtree.
func (o *Operator) ImportDirectory(ctx context.Context, by, from, base string, defaults Defaults) (Import, error) {
	v, err := o.Store.System(ctx, from)
	if err != nil {
		return Import{}, err
	}
	connector, target, err := o.target(ctx, v)
	if err != nil {
		return Import{}, err
	}
	lister, ok := connector.(connect.Lister)
	if !ok {
		return Import{}, fmt.Errorf("%w: %s does not list systems", ErrCannot, v.Name)
	}
	var listed []connect.Listed
	err = o.act(ctx, ledger.Entry{Actor: by, Act: "system.list", Subject: base, System: v.Name}, func() error {
		listed, err = lister.ListSystems(ctx, target, base)
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
	return o.importRows(ctx, by, rows, nil, defaults)
}

func (o *Operator) importRows(ctx context.Context, by string, rows []roster.Row, problems []roster.Problem, defaults Defaults) (Import, error) {
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
		v := store.System{
			Name: row.Name, Kind: or(row.Kind, defaults.Kind, string(estate.KindUnixHost)), Address: row.Address, Port: row.Port,
			LogOn: or(row.LogOn, defaults.LogOn), Site: or(row.Site, defaults.Site), Environment: or(row.Environment, defaults.Environment), Owner: or(row.Owner, defaults.Owner),
		}
		if row.Paths != "" {
			v.Options = map[string]string{"paths": row.Paths}
		}
		if v.Kind == string(estate.KindWindowsHost) {
			v.LogOn, v.TrustedCA = or(row.LogOn, defaults.WindowsLogOn, defaults.LogOn), defaults.TrustedCA
			if defaults.WindowsSignIn != "" {
				v.Options = map[string]string{"signin": defaults.WindowsSignIn}
			}
		}
		err := o.ValidSystem(ctx, v)
		if err == nil {
			_, err = o.addSystem(ctx, by, v)
		}
		switch {
		case errors.Is(err, store.ErrConflict):
			out.Known = append(out.Known, v.Name)
			continue
		case errors.Is(err, ErrInput):
			out.Problems = append(out.Problems, roster.Problem{Line: row.Line, Text: row.Name, What: strings.TrimPrefix(err.Error(), ErrInput.Error()+": ")})
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
	var added []store.System
	for _, name := range out.Added {
		v, err := o.Store.System(context.WithoutCancel(ctx), name)
		if err != nil {
			return out, err
		}
		added = append(added, v)
	}
	waiting, err := o.trust(ctx, by, "import", added...)
	out.Waiting = len(waiting)
	return out, err
}

// resolveAll looks all names up at once, bounded, and says what is wrong.
func resolveAll(ctx context.Context, rows []roster.Row) []string {
	out := make([]string, len(rows))
	slots := make(chan struct{}, 32)
	var all sync.WaitGroup
	for i, row := range rows {
		address := or(row.Address, row.Name)
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

func or(values ...string) string {
	for _, v := range values {
		if v != "" {
			return v
		}
	}
	return ""
}

// CheckSystem goes through the stages of reaching a system. With approve, the
// host key with that fingerprint is approved first, if it is the one offered.
func (o *Operator) CheckSystem(ctx context.Context, by, idOrName, approve string) (store.System, connect.CheckReport, error) {
	v, err := o.Store.System(ctx, idOrName)
	if err != nil {
		return v, connect.CheckReport{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	if approve != "" {
		if err := o.approveHostKey(ctx, by, v, approve); err != nil {
			return v, connect.CheckReport{}, err
		}
		if v, err = o.Store.System(ctx, v.Name); err != nil {
			return v, connect.CheckReport{}, err
		}
	}
	connector, target, err := o.target(ctx, v)
	var unapproved *Unapproved
	if errors.As(err, &unapproved) {
		// How far it is reached can be seen without anything secret.
		connector, target, err = o.place(ctx, v)
	}
	if err != nil {
		return v, connect.CheckReport{}, err
	}
	var report connect.CheckReport
	err = o.act(ctx, ledger.Entry{Actor: by, Act: "system.check", Subject: v.Name, System: v.Name}, func() error {
		report = connector.Check(ctx, target)
		if unapproved != nil {
			report.Stages = untilSignIn(report.Stages, unapproved)
		}
		redactAll(o.redactor(ctx), &report)
		if f := o.claim(ctx, v, report.Facts); f != nil {
			report.Facts.Identity = "" // it is the other's
			report.Stages = append(report.Stages, connect.StageResult{Stage: f.Stage, Detail: f.Words, Next: f.Next, Code: f.Code})
		}
		return nil
	})
	if err != nil {
		return v, report, err
	}
	if err := o.Store.SaveCheck(context.WithoutCancel(ctx), v.ID, report); err != nil {
		return v, report, err
	}
	v, err = o.Store.System(context.WithoutCancel(ctx), fmt.Sprint(v.Name))
	return v, report, err
}

// untilSignIn is a check that had nothing to sign in with.
func untilSignIn(stages []connect.StageResult, why *Unapproved) []connect.StageResult {
	var out []connect.StageResult
	for _, stage := range stages {
		if stage.Stage == connect.StageSignIn {
			break
		}
		out = append(out, stage)
		if !stage.OK {
			return out
		}
	}
	return append(out, connect.StageResult{Stage: connect.StageSignIn, Detail: why.Error(), Next: "nothing secret was sent", Code: connect.CodeNotPermitted})
}

// approveHostKey pins a host key. It must be the key that the host offers right
// now: approving what one has read elsewhere and something else being pinned is
// what this prevents. Who pins the key of a host that somebody else asked for
// has approved it.
func (o *Operator) approveHostKey(ctx context.Context, by string, v store.System, fingerprint string) error {
	connector, target, err := o.place(ctx, v)
	if err != nil {
		return err
	}
	target.HostKeys = nil
	offered := connector.Check(ctx, target).Facts.Fingerprint
	if offered == "" {
		return fmt.Errorf("%w: %s offers no host key now: check it without --approve first", ErrRefused, v.Name)
	}
	if offered != fingerprint {
		return fmt.Errorf("%w: %s offers the host key %s, not %s", ErrRefused, v.Name, offered, fingerprint)
	}
	waits, waitErr := o.Store.WaitsFor(ctx, v.ID)
	before := strings.Join(v.HostKeys, " ")
	entry := ledger.Entry{Actor: by, Act: "system.approve-host-key", Phase: ledger.Outcome, Subject: fingerprint, System: v.Name, Result: "done", Changes: ledger.Diff([3]string{"host key", before, fingerprint})}
	if err := o.Store.ApproveHostKey(ctx, v.ID, fingerprint, by, entry); err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx)
	if v, err = o.Store.System(ctx, v.Name); err != nil {
		return err
	}
	// A key takes the place of another only as any change of an endpoint does.
	if waitErr == nil && before == "" && !strings.EqualFold(waits.AskedBy, by) {
		words := fmt.Sprintf("asked by %s, approved by %s with its host key", waits.AskedBy, by)
		entry := ledger.Entry{Actor: by, Act: "endpoint.trust", Phase: ledger.Outcome, Subject: v.Name, System: v.Name, Result: "done", Detail: words, Ref: fmt.Sprintf("approval/%d", waits.ID), Changes: waits.Changes}
		if err := o.Store.DecideApproval(ctx, waits.ID, store.ApprovalApproved, by, "with its host key"); err != nil {
			return err
		}
		return o.sealEndpoints(ctx, []store.System{v}, words, entry)
	}
	_, err = o.trust(ctx, by, "host key", v)
	return err
}
