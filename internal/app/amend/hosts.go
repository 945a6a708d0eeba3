package amend

import (
	"context"
	"fmt"
	"strings"
	"time"

	"mossledger.example/moss/internal/app/findings"
	"mossledger.example/moss/internal/app/rotate/acts"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// A host is restarted as a whole where it has to learn the groups that it is in. Since when it is up
// tells one run of it from another; it is not restarted once more when the rest is undone.

func ofHost(step rotation.Step) bool { return step.Dependent == estate.DependentHost }

// checkHost says what a restart of a host takes down, and what would not come back.
func (a *Amendments) checkHost(ctx context.Context, step rotation.Step) []connect.Checked {
	system, connector, target, err := a.reach(ctx, step)
	if err == nil && !connector.Describe().Can(connect.ActRestartHost) {
		err = target.Fail(connect.StageRestart, connect.CodeCannot, "systems of the kind "+system.Kind+" are not restarted from here", "restart it by hand", nil)
	}
	if err != nil {
		line, _ := stands(step, connect.Standing{}, err)
		return []connect.Checked{line}
	}
	lines := connector.Rehearse(ctx, target, []connect.Intention{{Restart: step.At()}})
	found, err := a.store.Findings(ctx, false, records.Query{Filters: []string{"kind=" + findings.KindLatent, "system=" + system.Name}, Limit: 100})
	if err != nil {
		return append(lines, connect.Checked{System: system.Name, What: "what would not come back", Result: connect.CheckFailed, Words: err.Error()})
	}
	for _, f := range found.Items {
		lines = append(lines, connect.Checked{System: system.Name, What: f.Subject + " comes back when the host is restarted", Result: connect.CheckFailed, Words: f.What, Next: "repair it first: " + f.Next})
	}
	return lines
}

// up is the state of a host.
func (h *hands) up(ctx context.Context, step rotation.Step) (connect.UnitState, error) {
	_, connector, target, err := h.amendments.reach(ctx, step)
	if err != nil {
		return connect.UnitState{}, err
	}
	return connector.UnitState(ctx, target, step.At())
}

func (h *hands) observeHost(ctx context.Context, step rotation.Step) (string, error) {
	state, err := h.up(ctx, step)
	if acts.Away(err) {
		err = fmt.Errorf("%w: %w", rotation.ErrAway, err)
	}
	return state.Invocation, err
}

// Two times since which a host is up are those of two runs of it when they are bootsApart, for it
// works the time out from its clock, which is set now and then; or when the later one is about when
// it was asked to restart: clocks are no further apart than clocksApart where sign-in works.
const (
	bootsApart  = 5 * time.Second
	clocksApart = 5 * time.Minute
)

// asking is the latest request to restart a host: since when it was up then, and when that was.
type asking struct {
	before string
	at     time.Time
}

func (h *hands) asking(ctx context.Context, restart int) (a asking, err error) {
	journal, err := h.amendments.store.AmendmentJournal(ctx, h.id)
	for _, r := range journal {
		if r.Event == rotation.EventIntent && r.Step == restart {
			a = asking{r.Memo, r.Time}
		}
	}
	return a, err
}

// anew: a host is up since another time than when it was asked to restart.
func (a asking) anew(now string) bool {
	was, err := time.Parse(time.RFC3339, strings.TrimPrefix(a.before, connect.UpSince))
	is, failed := time.Parse(time.RFC3339, strings.TrimPrefix(now, connect.UpSince))
	if err != nil || failed != nil {
		return a.before != now
	}
	return is.Sub(was) > bootsApart || is.After(was) && is.After(a.at.Add(-clocksApart))
}

func (h *hands) doHost(ctx context.Context, step rotation.Step) rotation.Outcome {
	if step.Kind == rotation.StepProve {
		return h.proveHost(ctx, step)
	}
	_, connector, target, err := h.amendments.reach(ctx, step)
	if err != nil {
		return acts.Certainly(err)
	}
	words, err := connector.Restart(ctx, target, step.At())
	if err != nil {
		return acts.Failed(err)
	}
	return rotation.Outcome{Result: rotation.ResultDone, Words: words}
}

// proveHost: it is up, and not since before it was asked to restart. It answers for a while before
// it goes down: so long it is waited for, as while it is away.
func (h *hands) proveHost(ctx context.Context, step rotation.Step) rotation.Outcome {
	asked, err := h.asking(ctx, step.Needs[0])
	if err != nil {
		return acts.Certainly(err)
	}
	state, err := h.up(ctx, step)
	switch {
	case err != nil:
		return acts.Certainly(err)
	case !asked.anew(state.Invocation):
		return rotation.Outcome{Result: rotation.ResultAway, Words: step.System + " has not gone down yet: it is " + state.Invocation}
	}
	return rotation.Outcome{Result: rotation.ResultDone, Words: "it is " + state.Invocation}
}

// probeHost finds out whether it restarted since it was asked to. A proof that was cut off is made
// again.
func (h *hands) probeHost(ctx context.Context, step rotation.Step) rotation.Finding {
	if step.Kind == rotation.StepProve {
		switch is := h.proveHost(ctx, step); is.Result {
		case rotation.ResultDone:
			return rotation.Finding{Result: rotation.ProbeEffective, Words: is.Words}
		case rotation.ResultAway:
			return rotation.Finding{Result: rotation.ProbeAway, Words: is.Words}
		default:
			return rotation.Finding{Result: rotation.ProbeNeither, Words: is.Words}
		}
	}
	asked, err := h.asking(ctx, step.Index)
	if err != nil {
		return acts.NotFoundOut(err)
	}
	state, err := h.up(ctx, step)
	switch {
	case err != nil:
		return acts.NotFoundOut(err)
	case !asked.anew(state.Invocation):
		return rotation.Finding{Result: rotation.ProbeAbsent, Words: "it is " + state.Invocation}
	}
	return rotation.Finding{Result: rotation.ProbeEffective, Words: "it is " + state.Invocation}
}
