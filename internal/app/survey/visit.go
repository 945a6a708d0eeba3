package survey

import (
	"context"
	"errors"
	"fmt"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/store"
)

// visitTime bounds one system's visit.
const visitTime = 10 * time.Minute

var scopeTables = map[string][2]string{
	connect.ScopeAccounts:  {"accounts", "1"},
	connect.ScopeUnits:     {"dependents", "kind = 'unit'"},
	connect.ScopeCron:      {"dependents", "kind = 'cron'"},
	connect.ScopeProcesses: {"dependents", "kind = 'process'"},
	connect.ScopeFiles:     {"dependents", "kind IN ('file', 'key', 'authorized key', 'key tab', 'certificate', 'cloud key')"},
	connect.ScopeServices:  {"dependents", "kind = 'service'"},
	connect.ScopeTasks:     {"dependents", "kind = 'task'"},
	connect.ScopePools:     {"dependents", "kind = 'pool'"},
}

const maxProblems = 200

// visit reads one system and takes in what it shows.
func (surveys *Surveys) visit(ctx context.Context, v store.System, visit store.Visit, request connect.VisitRequest, begun time.Time) (touched, read bool) {
	save := func(facts *connect.Facts) {
		if err := surveys.store.SaveVisit(context.WithoutCancel(ctx), visit, facts); err != nil {
			surveys.base.Log.Error("a visit could not be stored", "system", v.Name, "error", err)
		}
		surveys.base.Topics.Wake(app.SurveyTopic(visit.SurveyID), "all")
	}
	if ctx.Err() != nil {
		visit.State, visit.Words, visit.Ended = "cancelled", "the survey ended before this visit began", surveys.base.Now()
		save(nil)
		return false, false
	}
	visit.State, visit.Started, visit.Problems = "running", surveys.base.Now(), []connect.Unread{}
	save(nil)
	limited, cancel := context.WithTimeout(ctx, visitTime)
	defer cancel()
	clean := surveys.base.Redactor(context.WithoutCancel(ctx))
	var coverage connect.Coverage
	seen := map[string]*store.Seen{"accounts": store.NewSeen(), "dependents": store.NewSeen()}
	var tally store.Tally
	var accountTally store.Tally
	accounts := newIntake(func(batch []estate.Account) error {
		return surveys.store.PutAccounts(context.WithoutCancel(ctx), v.ID, batch, seen["accounts"], &accountTally)
	})
	defer func() { _ = accounts.end() }()
	connector, target, err := surveys.inventory.Target(ctx, v)
	if err == nil {
		if !connector.Describe().Can(connect.ActVisit) {
			err = fmt.Errorf("%w: systems of the kind %s are not read", app.ErrCannot, v.Kind)
		} else {
			untold := 0
			coverage, err = connector.Visit(limited, target, request, func(b connect.Batch) error {
				app.RedactAll(clean, &b)
				if b.Facts != nil {
					if f := surveys.inventory.Claim(context.WithoutCancel(ctx), v, *b.Facts); f != nil {
						return f
					}
				}
				room := min(max(maxProblems-len(visit.Problems), 0), len(b.Problems))
				visit.Problems = append(visit.Problems, b.Problems[:room]...)
				untold += len(b.Problems) - room
				// What arrived is kept although the survey is cancelled.
				keep := context.WithoutCancel(ctx)
				if b.Sessions != nil {
					if err := surveys.store.PutSessions(keep, v.ID, b.Sessions); err != nil {
						return err
					}
				}
				if b.Sockets != nil {
					if err := surveys.store.PutSockets(keep, v.ID, b.Sockets); err != nil {
						return err
					}
				}
				if err := surveys.store.PutUses(keep, v.ID, b.Uses); err != nil {
					return err
				}
				if err := accounts.add(b.Accounts); err != nil {
					return err
				}
				return surveys.store.PutDependents(keep, v.ID, b.Dependents, seen["dependents"], &tally)
			})
			if untold > 0 {
				visit.Problems = append(visit.Problems, connect.Unread{Stage: connect.StageRead, Place: v.Name, What: fmt.Sprintf("%d more could not be read: the first %d are listed", untold, maxProblems), Next: "mend what the listed ones have in common, and survey again"})
			}
			if putErr := accounts.end(); putErr != nil {
				err = errors.Join(err, putErr)
				coverage.Complete[connect.ScopeAccounts] = false
			}
			tally.Added, tally.Altered, tally.AccountsTouched = tally.Added+accountTally.Added, tally.Altered+accountTally.Altered, accountTally.AccountsTouched
		}
	}
	var ends []store.ScopeEnd
	for scope := range coverage.Complete {
		table := scopeTables[scope]
		if table[0] == "" {
			continue
		}
		end := store.ScopeEnd{Scope: scope, Table: table[0], Condition: table[1], Complete: coverage.Complete[scope], Why: coverage.Why[scope], Seen: seen[table[0]], Sight: surveys.sightOf(target), Begun: begun, Fleeting: scope == connect.ScopeProcesses}
		if scope == connect.ScopeAccounts && end.Complete {
			if askErr := surveys.askForVanished(limited, v, connector, target, &end); askErr != nil {
				end.Complete, end.Why = false, "what was not seen could not be asked for: "+askErr.Error()
				coverage.Complete[scope], coverage.Why[scope] = false, end.Why
			} else if n := len(end.Stays); n > 0 {
				// What is there was not shown: the reading was not complete.
				coverage.Complete[scope], coverage.Why[scope] = false, fmt.Sprintf("%d accounts that are there, or that nobody can see, were not shown: the steward sees less than before", n)
			}
		}
		ends = append(ends, end)
	}
	held, endErr := surveys.store.EndScopes(context.WithoutCancel(ctx), v.ID, ends, &tally)
	if endErr != nil {
		err = errors.Join(err, endErr)
	}
	for _, h := range held {
		coverage.Complete[h.Scope] = false
		if coverage.Why == nil {
			coverage.Why = map[string]string{}
		}
		coverage.Why[h.Scope] = h.Why
	}
	app.RedactAll(clean, &coverage)
	visit.Stages, visit.Counts, visit.Why = coverage.Stages, coverage.Counts, coverage.Why
	visit.Added, visit.Altered, visit.Vanished, visit.Ended = tally.Added, tally.Altered, tally.Vanished, surveys.base.Now()
	visit.State = "done"
	var f *connect.Failure
	switch {
	case errors.As(err, &f):
		visit.State, visit.Stage, visit.Words, visit.Next = "failed", string(f.Stage), f.Words, f.Next
		for _, complete := range coverage.Complete {
			if complete { // something was read to its end
				visit.State = "incomplete"
			}
		}
	case err != nil:
		visit.State, visit.Words = "failed", err.Error()
	case len(coverage.Why) > 0:
		visit.State = "incomplete"
		for _, scope := range connect.Scopes() {
			if why := coverage.Why[scope]; why != "" {
				visit.Stage, visit.Words = string(connect.StageRead), scope+": "+why
				break
			}
		}
	}
	visit.Words = clean.Text(visit.Words)
	if ctx.Err() != nil && err != nil {
		visit.State, visit.Words = "cancelled", "the survey was cancelled during this visit; what was read is kept"
	}
	save(&coverage.Facts)
	return tally.AccountsTouched, len(coverage.Complete) > 0
}
