package picture

import (
	"context"
	"fmt"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

// observedFor is how long a tie that comes from use stays after the use was last
// seen.
const observedFor = 90 * 24 * time.Hour

// Observe joins who was seen signed in with the hosts and units that it came
// from: they become ties, and what no configuration explains a finding.
func (picture *Picture) Observe(ctx context.Context) error {
	if err := picture.placeUses(ctx); err != nil {
		return err
	}
	uses, err := picture.store.SeenUses(ctx, 0)
	if err != nil {
		return err
	}
	w := &weighing{picture: picture, hosts: map[records.SystemID][]records.Dependent{}}
	for _, u := range uses {
		if err := w.weigh(ctx, u); err != nil {
			return err
		}
	}
	if err := picture.store.PutObserved(ctx, w.ties, picture.base.Now().Add(-observedFor)); err != nil {
		return err
	}
	return picture.judge.JudgeUses(ctx, w.unexplained, len(uses) >= store.MostSeenUses)
}

// Unexplained is a use that nothing which is configured explains.
type Unexplained struct {
	Use        records.SeenUse
	Host       string // that it comes from; "" for an address that no known system has
	What, Next string
}

// placeUses finds out whose the recorded uses are.
func (picture *Picture) placeUses(ctx context.Context) error {
	unplaced, err := picture.store.UnplacedUses(ctx)
	if err != nil || len(unplaced) == 0 {
		return err
	}
	lookup, err := picture.store.Lookup(ctx)
	if err != nil {
		return err
	}
	for system, names := range unplaced {
		v, err := picture.store.SystemByID(ctx, system)
		if err != nil {
			return err
		}
		for _, name := range names {
			where := store.ContextOf(v)
			res, err := naming.Resolve(name, where, lookup)
			if err != nil {
				return err
			}
			if res.State == naming.Ambiguous && !where.Host { // of several, the one of that system
				var own []naming.Known
				for _, k := range res.Accounts {
					if k.System == where.System {
						own = append(own, k)
					}
				}
				if len(own) == 1 {
					res.State, res.Accounts = naming.Resolved, own
				}
			}
			if res.State == naming.Resolved {
				if err := picture.store.PlaceUse(ctx, system, name, app.Number[records.AccountID](res.Accounts[0].ID)); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// weighing weighs what was seen against what is configured.
type weighing struct {
	picture     *Picture
	hosts       map[records.SystemID][]records.Dependent
	ties        []records.ObservedTie
	unexplained []Unexplained
}

func (w *weighing) dependents(ctx context.Context, host records.SystemID) ([]records.Dependent, error) {
	list, found := w.hosts[host]
	if found {
		return list, nil
	}
	list, err := w.picture.store.DependentsOfSystem(ctx, host)
	w.hosts[host] = list
	return list, err
}

func from(u records.SeenUse) string {
	where := u.Client
	switch {
	case u.Host != "":
		where = u.Host
	case where == "":
		return u.System + " itself"
	}
	if u.Unit != "" {
		return u.Unit + " on " + where
	}
	if u.Program != "" {
		return u.Program + " on " + where
	}
	return where
}

func (w *weighing) weigh(ctx context.Context, u records.SeenUse) error {
	if u.Failed || u.Client == "" {
		return nil
	}
	detail := fmt.Sprintf("signs in to %s from %s", u.System, from(u))
	if u.Application != "" {
		detail += fmt.Sprintf(", which calls itself %q", u.Application)
	}
	if u.HostID == 0 {
		w.find(u, "", fmt.Sprintf("%s %s, an address that no known system has", u.Account, detail), "add that system and survey it: nothing is known of what would break there")
		return nil
	}
	list, err := w.dependents(ctx, u.HostID)
	if err != nil {
		return err
	}
	var unit *records.Dependent
	explained, mentioned, unread := false, "", ""
	files := map[string]bool{} // that hold the account's value or name it beside one
	for i := range list {
		d := &list[i]
		if d.Kind == estate.DependentUnit && d.Place == u.Unit {
			unit = d
		}
		for _, t := range d.Ties {
			if t.AccountID != u.AccountID || t.Evidence == string(estate.Observed) {
				continue
			}
			if t.Strength == string(estate.StrengthMentions) {
				mentioned = d.Path
				continue
			}
			explained = true
			if d.Copy != nil {
				files[d.Path] = true
			}
		}
		if d.Copy != nil && d.Copy.Unreadable != "" {
			unread = d.Path
		}
	}
	if unit != nil {
		w.ties = append(w.ties, records.ObservedTie{AccountID: u.AccountID, DependentID: unit.ID, Detail: detail, Seen: u.Last})
	}
	if explained {
		return nil
	}
	next := "find out what it signs in with: look at the files that it has open, its environment, and its arguments"
	if unit != nil {
		var parts []string
		if unit.Executable != "" {
			parts = append(parts, "its command "+unit.Executable)
		}
		if len(unit.Uses) > 0 {
			parts = append(parts, "the files that it names: "+strings.Join(unit.Uses, ", "))
		}
		if len(parts) > 0 {
			next = "most likely the password is built into the program or kept where the search does not look; begin with " + strings.Join(parts, " and ")
		}
	}
	switch {
	case unread != "":
		next += "; " + unread + " could not be read"
	case mentioned != "":
		next += "; " + mentioned + " mentions the account"
	}
	w.find(u, u.Host, fmt.Sprintf("%s %s, and nothing that is configured there explains it: it would break", u.Account, detail), next)
	return nil
}

func (w *weighing) find(u records.SeenUse, host, what, next string) {
	w.unexplained = append(w.unexplained, Unexplained{Use: u, Host: host, What: what, Next: next})
}

// TakeUses takes in what a directory recorded of uses, and places it.
func (picture *Picture) TakeUses(ctx context.Context, by access.Actor, v records.System, list []estate.Use) error {
	if err := access.Decide(by, access.ImportUses, access.Object{Kind: "system", Name: v.Name}); err != nil {
		return err
	}
	if kind := estate.Kind(v.Kind); kind.IsHost() || kind.IsDataStore() {
		return fmt.Errorf("%w: %s is a %s: these are records of a directory, and name accounts of its own", app.ErrInput, v.Name, v.Kind)
	}
	entry := ledger.Entry{Actor: by.Name, Act: "use.import", Subject: fmt.Sprintf("%d kinds of use of %s", len(list), v.Name), Phase: ledger.Outcome, Result: "done"}
	if err := picture.base.Record(ctx, entry); err != nil {
		return err
	}
	if err := picture.store.PutUses(ctx, v.ID, list); err != nil {
		return err
	}
	return picture.Observe(ctx)
}
