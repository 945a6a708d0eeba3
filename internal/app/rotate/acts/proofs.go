package acts

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
)

// Asks has the authority judge a value.
func (h *Hands) Asks(ctx context.Context, step rotation.Step, value secret.Value) (connect.Verdict, connect.Target, error) {
	if step.Door != nil {
		verdict, err := h.acts.custody.TryKey(ctx, step.System, *step.Door, value)
		return verdict, connect.Target{Name: step.System}, err
	}
	connector, target, err := h.acts.Able(ctx, step, connect.ActVerify)
	if err != nil {
		return connect.Verdict{}, target, err
	}
	who, err := h.whose(ctx, value)
	if err != nil {
		return connect.Verdict{}, target, err
	}
	verdict, err := connector.Verify(ctx, target, inventory.RefOf(who), value)
	return verdict, target, err
}

// expect proves that a value lets the account in, or that it is refused itself: an
// account that is locked is refused with every value, which proves neither. Proofs
// change nothing: one that fails has certainly had no effect.
func (h *Hands) expect(ctx context.Context, step rotation.Step, value secret.Value, want bool) rotation.Outcome {
	verdict, target, err := h.Asks(ctx, step, value)
	if server, found := behind(verdict); err == nil && want && verdict.Accepted && found {
		return rotation.Outcome{Result: rotation.ResultAway, Words: fmt.Sprintf("%s, %s has not learned of the change yet: %s", step.System, server.Server, server.Words)}
	}
	if err == nil && !want && h.turns() && verdict.Rests() {
		return h.rested(ctx, step, value, verdict)
	}
	if err == nil && !want && verdict.Lingers > 0 && AcceptedAnywhere(verdict) {
		return rotation.Outcome{Result: rotation.ResultLater, Words: fmt.Sprintf("%s still accepts the value that was replaced, as such directories do for up to %d minutes; it is asked again %d minutes after the end", target.Name, int(verdict.Lingers.Minutes()), int(rotation.LookAgainAfter.Minutes()))}
	}
	if err == nil {
		err = Proven(target, verdict, want)
	}
	for _, server := range verdict.Elsewhere {
		if err == nil && server.State == connect.ServerAsked {
			at := target
			at.Name += ", " + server.Server
			err = Proven(at, server.Verdict, want)
		}
	}
	if err != nil {
		return Certainly(err)
	}
	return done(verdict.Words + served(verdict.Elsewhere))
}

// refused proves that a value is refused. Where a sign-in is refused whatever is given,
// that cannot be asked; but a ticket that is given for the value in force proves that the
// other one gets none: an account has one password, and tickets know no former ones.
func (h *Hands) refused(ctx context.Context, step rotation.Step, value, inForce secret.Value) rotation.Outcome {
	outcome := h.expect(ctx, step, value, false)
	if outcome.Result != rotation.ResultFailed || step.Door != nil {
		return outcome
	}
	verdict, _, err := h.Asks(ctx, step, inForce)
	if err != nil || !verdict.Accepted || !verdict.Ticket {
		return outcome
	}
	return done("a sign-in is refused whatever is given, and a ticket is given for the value in force, so that the other one gets none")
}

// AcceptedAnywhere: a server that was asked accepts it.
func AcceptedAnywhere(v connect.Verdict) bool {
	return v.Accepted || slices.ContainsFunc(v.Elsewhere, func(s connect.ServerVerdict) bool { return s.State == connect.ServerAsked && s.Verdict.Accepted })
}

// behind is a further server that has not learned of a change yet. A value that is to be
// accepted is waited for there as a system that is away is: within the plan's patience in
// the way forward, without end while undoing, and nothing is tried with it until then,
// for it would be one more wrong password there each time.
func behind(verdict connect.Verdict) (server connect.ServerVerdict, found bool) {
	at := slices.IndexFunc(verdict.Elsewhere, func(s connect.ServerVerdict) bool { return s.State == connect.ServerBehind })
	if at < 0 {
		return server, false
	}
	return verdict.Elsewhere[at], true
}

// served says at which further servers it was proven too.
func served(list []connect.ServerVerdict) string {
	var asked, gone []string
	for _, s := range list {
		if s.State == connect.ServerAsked {
			asked = append(asked, s.Server)
		} else {
			gone = append(gone, s.Server)
		}
	}
	words := ""
	if len(asked) > 0 {
		words += ", and by " + strings.Join(asked, ", ")
	}
	if len(gone) > 0 {
		words += "; not proven, for away or behind: " + strings.Join(gone, ", ")
	}
	return words
}

// Proven says why a verdict is no proof of what is wanted: that a value lets the
// account in, or that it is refused.
func Proven(target connect.Target, verdict connect.Verdict, want bool) error {
	switch says := verdict.Says(); {
	case want && verdict.Accepted, !want && says == connect.AnswerNo:
		return nil
	case says == connect.AnswerBlind:
		return target.Unproven(verdict)
	case want:
		return fmt.Errorf("%s refuses the value: %s", target.Name, verdict.Words)
	case !verdict.Accepted:
		return fmt.Errorf("%s still has the other value in force: %s", target.Name, verdict.Words)
	}
	return fmt.Errorf("%s still accepts the other value", target.Name)
}

// prove waits until a unit is active and stays so, then asks the application.
func (h *Hands) prove(ctx context.Context, step rotation.Step) rotation.Outcome {
	connector, target, err := h.acts.Able(ctx, step, connect.ActRestart)
	if err != nil {
		return Certainly(err)
	}
	limit := h.acts.base.Now().Add(settleTime)
	var steadySince time.Time
	var state connect.UnitState
	for {
		before := state.Invocation
		if state, err = connector.UnitState(ctx, target, step.At()); err != nil {
			return Certainly(err)
		}
		now := h.acts.base.Now()
		switch {
		case state.Active == "failed" || state.Sub == "auto-restart":
			return Certainly(fmt.Errorf("%s: %s is %s: %s", step.System, step.Subject, state.Active, cmp.Or(state.Words, state.Result)))
		case state.Active != "active" || state.Invocation != before:
			steadySince = now
		case now.Sub(steadySince) >= steadyTime:
			return h.signedIn(ctx, step, h.applicationCheck(ctx, step, target, state))
		}
		if now.After(limit) {
			return Certainly(fmt.Errorf("%s: %s is still %s after %s", step.System, step.Subject, state.Active, settleTime))
		}
		if err := connect.Wait(ctx, lookEvery); err != nil {
			return Certainly(err)
		}
	}
}

// signInTime is how long is waited for a new session of what was restarted: most sign in
// as they start, and what does so later is not waited for.
const signInTime = time.Second

// sessions finds the authority of a rotation, where it tells of sessions.
func (h *Hands) sessions(ctx context.Context) (connect.Connector, connect.Target, bool) {
	at := slices.IndexFunc(h.Rotation.Plan.Steps, func(s rotation.Step) bool { return s.Kind == rotation.StepSignIn && s.Door == nil })
	if at < 0 {
		return nil, connect.Target{}, false
	}
	authority, server, err := h.acts.on(ctx, h.Rotation.Plan.Steps[at])
	return authority, server, err == nil && slices.Contains(authority.Describe().Scopes, connect.ScopeSessions)
}

func placeKey(step rotation.Step) string { return step.SystemID + "\x00" + step.Subject }

// noteConnections keeps which connections a dependent has before it is restarted: what
// outlives its restart is none that it made anew.
func (h *Hands) noteConnections(ctx context.Context, step rotation.Step) {
	if _, _, tells := h.sessions(ctx); !tells {
		return
	}
	connector, host, err := h.acts.Able(ctx, step, connect.ActObserve)
	if err != nil {
		return
	}
	if list, err := connector.Connections(ctx, host, step.At()); err == nil {
		h.had.Store(placeKey(step), list)
	}
}

// signedIn looks whether what was proven has signed in again: a connection that its system
// shows to be its own, and that it had not before, is a session of the account at the
// authority. Where one of these is not told, nothing is concluded.
func (h *Hands) signedIn(ctx context.Context, step rotation.Step, outcome rotation.Outcome) rotation.Outcome {
	before, noted := h.had.Load(placeKey(step))
	if outcome.Result != rotation.ResultDone || !noted {
		return outcome
	}
	authority, server, tells := h.sessions(ctx)
	connector, host, err := h.acts.Able(ctx, step, connect.ActObserve)
	if err != nil || !tells {
		return outcome
	}
	had, _ := before.([]estate.Socket)
	limit := h.acts.base.Now().Add(signInTime)
	for {
		if from := h.session(ctx, step, had, connector, host, authority, server); from != "" {
			outcome.Words += "; signed in again from " + from
			outcome.Memo = rotation.MemoSignedIn
			return outcome
		}
		if h.acts.base.Now().After(limit) || connect.Wait(ctx, lookEvery) != nil {
			return outcome
		}
	}
}

// session is where a dependent's session of the account comes from, or "".
func (h *Hands) session(ctx context.Context, step rotation.Step, had []estate.Socket, connector connect.Connector, host connect.Target, authority connect.Connector, server connect.Target) string {
	own, err := connector.Connections(ctx, host, step.At())
	own = slices.DeleteFunc(own, func(c estate.Socket) bool {
		return slices.ContainsFunc(had, func(h estate.Socket) bool { return h.Local == c.Local && h.LocalPort == c.LocalPort })
	})
	if err != nil || len(own) == 0 {
		return ""
	}
	found := ""
	_, err = authority.Visit(ctx, server, connect.VisitRequest{}, func(b connect.Batch) error {
		for _, s := range b.Sessions {
			if (s.StableID == h.Account.StableID || h.turns() && s.StableID == h.Next.StableID) && s.Port != 0 && slices.ContainsFunc(own, func(c estate.Socket) bool { return c.Local == s.Client && c.LocalPort == s.Port }) {
				found = net.JoinHostPort(s.Client, strconv.Itoa(s.Port))
			}
		}
		return nil
	})
	if err != nil {
		return ""
	}
	return found
}

// revive starts a unit that was taken down with another one, unless it runs.
func (h *Hands) revive(ctx context.Context, step rotation.Step) rotation.Outcome {
	connector, target, err := h.acts.Able(ctx, step, connect.ActRestart)
	if err != nil {
		return Certainly(err)
	}
	state, err := connector.UnitState(ctx, target, step.At())
	if err != nil {
		return Certainly(err)
	}
	if state.Active != "active" && state.Active != "activating" {
		if _, err := connector.Restart(ctx, target, step.At()); err != nil {
			return Failed(err)
		}
	}
	return h.prove(ctx, step)
}

// applicationCheck asks the application until it answers as it should.
func (h *Hands) applicationCheck(ctx context.Context, step rotation.Step, target connect.Target, state connect.UnitState) rotation.Outcome {
	words := strings.TrimSuffix(cmp.Or(state.Sub, state.Active)+", "+state.Invocation, ", ")
	if step.Check == nil {
		return done(words)
	}
	limit := h.acts.base.Now().Add(settleTime)
	for {
		said, err := h.acts.CheckOnce(ctx, step, target)
		if err == nil {
			return done(words + "; " + said)
		}
		if h.acts.base.Now().After(limit) {
			return Certainly(fmt.Errorf("%s is active, but its own check fails: %w", step.Subject, err))
		}
		if err := connect.Wait(ctx, lookEvery); err != nil {
			return Certainly(err)
		}
	}
}

// CheckOnce asks the application once.
func (a *Acts) CheckOnce(ctx context.Context, step rotation.Step, target connect.Target) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	check := step.Check
	switch check.Kind {
	case "tcp":
		conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", check.Target)
		if err != nil {
			return "", err
		}
		return check.Target + " accepts connections", conn.Close()
	case "http":
		request, err := http.NewRequestWithContext(ctx, http.MethodGet, check.Target, nil)
		if err != nil {
			return "", err
		}
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			return "", err
		}
		defer response.Body.Close()
		body, err := io.ReadAll(io.LimitReader(response.Body, 1<<20))
		if err != nil {
			return "", err
		}
		if response.StatusCode != http.StatusOK || !strings.Contains(string(body), check.Contains) {
			return "", fmt.Errorf("%s answers %s without %q", check.Target, response.Status, check.Contains)
		}
		return check.Target + " answers as expected", nil
	}
	connector, _, err := a.Able(ctx, step, connect.ActCommand)
	if err != nil {
		return "", err
	}
	output, exit, err := connector.RunCheck(ctx, target, check.Target)
	if err != nil {
		return "", err
	}
	if exit != 0 || !strings.Contains(output, check.Contains) {
		return "", fmt.Errorf("the check command ended with %d", exit)
	}
	return "the check command succeeded", nil
}
