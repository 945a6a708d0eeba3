package acts

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/naming"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// secrets opens what stands before a step and what shall stand after it.
func (h *Hands) secrets(ctx context.Context, step rotation.Step) (old, next secret.Value, err error) {
	if h.Rotation.Plan.Kind == rotation.KindAssign {
		return h.assigned(ctx, step)
	}
	sealedOld, sealedNext, err := h.acts.sealed.OfRotation(ctx, h.Rotation)
	if err != nil {
		return old, next, err
	}
	if sealedOld == nil {
		return old, next, errors.New("the account's earlier value is not in custody")
	}
	if old, err = h.acts.base.Sealer.Open(sealedOld.Binding(), sealedOld.Sealed); err != nil {
		return old, next, err
	}
	if sealedNext != nil {
		next, err = h.acts.base.Sealer.Open(sealedNext.Binding(), sealedNext.Sealed)
	}
	if err != nil {
		return old, next, err
	}
	return h.withChains(ctx, step, old, next)
}

// assigned is for plans that leave the authority alone: the account's current
// value, and before it the former account's, or an earlier one of its own.
func (h *Hands) assigned(ctx context.Context, step rotation.Step) (old, next secret.Value, err error) {
	own, err := h.acts.sealed.Values(ctx, h.Rotation.CredentialID)
	if err != nil {
		return old, next, err
	}
	if own.Current.Empty() && !h.Rotation.Plan.Managed {
		return old, next, errors.New("the account is not in custody")
	}
	next, old = own.Current, own.Current
	switch {
	case step.Holds != "":
		old, err = h.acts.sealed.Value(own, step.Holds)
	case step.LogOn != nil && step.LogOn.WasID != "":
		old, err = h.acts.PasswordOf(ctx, app.Number[records.AccountID](step.LogOn.WasID))
	case step.LogOn != nil && step.LogOn.Moved:
		old = secret.Value{} // an identity without a password, or one that nobody knows
	}
	return old, next, err
}

// PasswordOf is the current value of an account's password; empty when it is not
// in custody.
func (a *Acts) PasswordOf(ctx context.Context, account records.AccountID) (secret.Value, error) {
	c, err := a.store.PasswordOf(ctx, account)
	if errors.Is(err, app.ErrNotFound) {
		return secret.Value{}, nil
	}
	if err != nil {
		return secret.Value{}, err
	}
	values, err := a.sealed.Values(ctx, c.ID)
	return values.Current, err
}

// on finds the connector and target of a step's system.
func (a *Acts) on(ctx context.Context, step rotation.Step) (connect.Connector, connect.Target, error) {
	// By its number: a name may belong to another system by now.
	v, err := a.store.SystemByID(ctx, app.Number[records.SystemID](step.SystemID))
	if err != nil {
		return nil, connect.Target{}, err
	}
	return a.inventory.Target(ctx, v)
}

// Able finds the connector and target of a step's system, which must be able to do
// what the step is about.
func (a *Acts) Able(ctx context.Context, step rotation.Step, act connect.Act) (connect.Connector, connect.Target, error) {
	connector, target, err := a.on(ctx, step)
	if err == nil && !connector.Describe().Can(act) {
		err = fmt.Errorf("%w: %s does not offer what the step %q needs (%s)", app.ErrCannot, step.System, step.Kind, act)
	}
	return connector, target, err
}

// Observe implements rotation.Hands: a restart needs the invocation before it, a change
// which of several servers takes it, and undoing one which number its keys have.
func (h *Hands) Observe(ctx context.Context, step rotation.Step, undo bool) (string, error) {
	switch {
	case step.Next != "" && undo:
		return "", nil
	case step.Kind == rotation.StepChange && step.Door == nil && undo:
		return h.numberNow(ctx)
	case step.Kind == rotation.StepChange && step.Door == nil:
		return h.server(ctx, step)
	case step.Kind != rotation.StepRestart: // reviving looks for itself
		return "", nil
	}
	connector, target, err := h.acts.Able(ctx, step, connect.ActRestart)
	if err != nil {
		return "", err
	}
	state, err := connector.UnitState(ctx, target, step.At())
	if Away(err) {
		err = errors.Join(rotation.ErrAway, err)
	}
	return state.Invocation, err
}

// server is the address at which an authority is reached that has several.
func (h *Hands) server(ctx context.Context, step rotation.Step) (string, error) {
	connector, target, err := h.acts.on(ctx, step)
	if err != nil {
		return "", err
	}
	if connect.NameOf(target) == "" {
		return "", nil
	}
	if connect.PinOf(ctx, target) == "" {
		// One that cannot be reached is told by the act itself; some are reached in
		// another way.
		if conn, failure := connect.Dial(ctx, target, connector.Describe().Port, connect.NewStopwatch()); failure == nil {
			_ = conn.Close()
		}
	}
	return connect.PinOf(ctx, target), nil
}

// Stay has acts reach the servers that took the changes, as the journal has them: also
// after the service was started again.
func (h *Hands) Stay(ctx context.Context, state rotation.State) {
	for i, step := range h.Rotation.Plan.Steps {
		if step.Kind != rotation.StepChange || step.Door != nil || state.Steps[i].Memo == "" {
			continue
		}
		if _, target, err := h.acts.on(ctx, step); err == nil { // otherwise the act itself tells
			connect.Pin(ctx, target, state.Steps[i].Memo)
		}
	}
}

// Reach implements rotation.Hands.
func (h *Hands) Reach(ctx context.Context, step rotation.Step) rotation.Finding {
	connector, target, err := h.acts.on(ctx, step)
	if err != nil {
		return rotation.Finding{Result: rotation.ProbeHere, Words: err.Error()} // no matter of reaching it
	}
	for _, stage := range connector.Check(ctx, target).Stages {
		switch stage.Code {
		case connect.CodeUnknownName, connect.CodeUnreachable, connect.CodeTimeout:
			if !stage.OK {
				return rotation.Finding{Result: rotation.ProbeAway, Words: step.System + ": " + string(stage.Stage) + ": " + stage.Detail}
			}
		}
	}
	return rotation.Finding{Result: rotation.ProbeHere, Words: step.System + " answers"}
}

// unchanged makes sure that what is about to be replaced at a point is what was
// current: somebody else may have set another value since, for instance when the
// service was restored from a backup.
func (h *Hands) unchanged(ctx context.Context, step rotation.Step, old, next secret.Value) (rotation.Outcome, bool) {
	if step.Door != nil {
		is, err := h.asked(ctx, step, old, next)
		if err != nil {
			return Certainly(err), false
		}
		if is.Old != connect.AnswerYes && is.New != connect.AnswerYes {
			return Certainly(fmt.Errorf("%s: %s lets neither key in: somebody changed the file, and nothing was written", step.System, step.Subject)), false
		}
		if is.Old != connect.AnswerYes {
			return Certainly(fmt.Errorf("%s: %s does not let the old key in: somebody removed it, and nothing was written", step.System, step.Subject)), false
		}
		return rotation.Outcome{}, true
	}
	connector, target, err := h.acts.Able(ctx, step, connect.ActVerify)
	if err != nil {
		return rotation.Outcome{}, true // changing it tells
	}
	verdict, err := connector.Verify(ctx, target, inventory.RefOf(h.Account), old)
	if err != nil {
		return Certainly(err), false
	}
	if !verdict.Accepted && (verdict.Code == connect.VerdictWrong || verdict.Code == connect.VerdictNotKnown) {
		return Certainly(fmt.Errorf("%s: %s does not accept the value that is in custody (%s): somebody else changed it, and nothing was set", step.System, h.Account.Name, verdict.Words)), false
	}
	return rotation.Outcome{}, true
}

// Do implements rotation.Hands.
func (h *Hands) Do(ctx context.Context, step rotation.Step, _ string) rotation.Outcome {
	if step.Kind == rotation.StepSeal {
		return h.prepare(ctx)
	}
	old, next, err := h.secrets(ctx, step)
	if err != nil {
		return Certainly(err)
	}
	switch step.Kind {
	case rotation.StepChange:
		if step.Door != nil && step.Door.Certifies {
			return h.certify(ctx, step, old, next)
		}
		if outcome, as := h.unchanged(ctx, step, old, next); !as {
			return outcome
		}
		if step.Overlap {
			return h.accept(ctx, step, old, next, connect.AcceptBoth)
		}
		return h.accept(ctx, step, old, next, connect.AcceptNew)
	case rotation.StepRetire:
		return h.accept(ctx, step, old, next, connect.AcceptNew)
	}
	return h.apply(ctx, step, old, next, false)
}

// point is where a step changes what is accepted, with the values as the point has
// them: a file of entries has public halves.
func (h *Hands) point(step rotation.Step, old, next secret.Value) (connect.Point, connect.Values, error) {
	if step.Door == nil {
		point := connect.Point{Account: inventory.RefOf(h.Account)}
		if h.turns() {
			point.Next = inventory.RefOf(h.Next)
		}
		return point, connect.Values{Old: old, New: next}, nil
	}
	was, will, err := lines(old, next)
	if err == nil && step.Door.Issuer {
		will, err = h.introduced(step, next)
	}
	return connect.Point{Account: connect.AccountRef{Name: step.Door.Account}, Path: step.Subject}, connect.Values{Old: secret.New(was), New: secret.New(will)}, err
}

// accept has a step's point accept exactly what is wanted.
func (h *Hands) accept(ctx context.Context, step rotation.Step, old, next secret.Value, want connect.Accepted) rotation.Outcome {
	point, values, err := h.point(step, old, next)
	if err != nil {
		return Certainly(err)
	}
	connector, target, err := h.acts.Able(ctx, step, connect.ActAccept)
	if err != nil {
		return Certainly(err)
	}
	if point.Path != "" {
		free, err := h.acts.turns.Take(ctx, step.SystemID+":"+point.Path)
		if err != nil {
			return Certainly(err)
		}
		defer free()
	}
	if err := connector.Accept(ctx, target, point, values, want); err != nil {
		return Failed(err)
	}
	if h.turns() {
		return done(h.turned(want))
	}
	word := h.Credential.Kind.Word()
	switch {
	case want == connect.AcceptBoth:
		return done("both " + word + "s are accepted")
	case want == connect.AcceptOld:
		return done("only the old " + word + " is accepted")
	case step.Kind == rotation.StepChange:
		return done("changed")
	}
	return done("only the new " + word + " is accepted")
}

// asked asks a step's point which of two values it accepts.
func (h *Hands) asked(ctx context.Context, step rotation.Step, old, next secret.Value) (connect.Probed, error) {
	point, values, err := h.point(step, old, next)
	if err != nil {
		return connect.Probed{}, err
	}
	connector, target, err := h.acts.Able(ctx, step, connect.ActAccept)
	if err != nil {
		return connect.Probed{}, err
	}
	return connector.Probe(ctx, target, point, values)
}

// Undo implements rotation.Hands: the same with the values changed over.
func (h *Hands) Undo(ctx context.Context, step rotation.Step, _ string) rotation.Outcome {
	if step.Kind == rotation.StepSeal && h.turns() {
		return done("it stays sealed: " + h.Next.Name + ", which rests, has it or the one before")
	}
	if step.Kind == rotation.StepSeal {
		return done("the new value is given up; it stays sealed as retired")
	}
	old, next, err := h.secrets(ctx, step)
	if err != nil {
		return Certainly(err)
	}
	switch step.Kind {
	case rotation.StepChange:
		if step.Door != nil && step.Door.Certifies {
			return h.takeBack(ctx, step, next)
		}
		// A file of entries is itself what is true. An authority is always told: one of
		// several servers may not know yet of the change, and would say that there is
		// nothing to undo.
		if step.Door != nil {
			if is, err := h.asked(ctx, step, old, next); err == nil && is.Old == connect.AnswerYes && is.New == connect.AnswerNo {
				return done("the old " + h.Credential.Kind.Word() + " alone is accepted")
			}
		}
		return h.accept(ctx, step, old, next, connect.AcceptOld)
	case rotation.StepRetire:
		return h.accept(ctx, step, old, next, connect.AcceptBoth)
	}
	if step.Kind == rotation.StepLogOn {
		if step.LogOn.Moved {
			return h.giveLogOn(ctx, step, step.LogOn.Account, step.LogOn.Former(), old)
		}
		// The same account: only its value goes back.
		return h.giveLogOn(ctx, step, step.LogOn.Was, step.LogOn.Account, old)
	}
	return h.apply(ctx, step, next, old, true)
}

// giveLogOn gives a dependent a log-on.
func (h *Hands) giveLogOn(ctx context.Context, step rotation.Step, was, account string, value secret.Value) rotation.Outcome {
	connector, target, err := h.acts.Able(ctx, step, connect.ActLogOns)
	if err != nil {
		return Certainly(err)
	}
	if naming.IdentityOf(account) != estate.IdentityNamed {
		value = secret.Value{}
	}
	words, err := connector.ReplaceLogOn(ctx, target, connect.LogOnChange{Place: step.At(), Was: was, Account: account, Value: value})
	if err != nil {
		return Failed(err)
	}
	return done(words)
}

// ProbeLogOn reads a log-on as far as its system shows it.
func (h *Hands) ProbeLogOn(ctx context.Context, step rotation.Step, old, next secret.Value) rotation.Finding {
	connector, target, err := h.acts.Able(ctx, step, connect.ActLogOns)
	if err != nil {
		return NotFoundOut(err)
	}
	state, err := connector.ReadLogOn(ctx, target, step.At())
	switch moved := step.LogOn.Moved; {
	case connect.CodeOf(err) == connect.CodeGone:
		return rotation.Finding{Result: rotation.ProbeNeither, Words: err.Error()}
	case err != nil:
		return NotFoundOut(err)
	case moved && (strings.EqualFold(state.Account, step.LogOn.Was) || strings.EqualFold(state.Account, step.LogOn.Former())):
		return rotation.Finding{Result: rotation.ProbeAbsent, Words: "it logs on as " + state.Account}
	case !strings.EqualFold(state.Account, step.LogOn.Account) && !strings.EqualFold(state.Account, step.LogOn.Was):
		return rotation.Finding{Result: rotation.ProbeNeither, Words: "it logs on as " + state.Account + ": somebody changed it"}
	case state.Shown && state.Value.Equal(next) || moved && !state.Shown:
		// Account and password are stored by one call.
		return rotation.Finding{Result: rotation.ProbeEffective, Words: "it has the new log-on"}
	case state.Shown && state.Value.Equal(old):
		return rotation.Finding{Result: rotation.ProbeAbsent, Words: "it has the old log-on"}
	case state.Shown:
		return rotation.Finding{Result: rotation.ProbeNeither, Words: "it has another password stored"}
	}
	return rotation.Finding{Result: rotation.ProbeBlind, Words: "the stored password cannot be read: giving it again is harmless"}
}

// prepare makes and seals the new value.
func (h *Hands) prepare(ctx context.Context) rotation.Outcome {
	_, next, err := h.acts.sealed.OfRotation(ctx, h.Rotation)
	if err != nil {
		return Certainly(err)
	}
	if next != nil {
		return done("sealed before")
	}
	of := h.Credential
	if after := h.Rotation.Next(); after != 0 {
		if of, err = h.acts.store.Credential(ctx, after); err != nil {
			return Certainly(err)
		}
	}
	value, err := h.newValue(ctx, of)
	if err != nil {
		return Certainly(err)
	}
	made, err := h.acts.sealed.NewSecret(of, h.Rotation.ID, value)
	if err != nil {
		return Certainly(err)
	}
	if err := h.acts.store.AddCandidate(ctx, made); err != nil {
		return Certainly(err)
	}
	h.acts.base.ForgetKnown()
	if public, err := h.acts.sealed.Public(made); err == nil && public != nil {
		return done(public.Type + " " + public.Fingerprint + ", sealed and on disk")
	}
	return done(fmt.Sprintf("%d characters, sealed and on disk", len([]rune(value.RevealString()))))
}

// newValue is the one that a person gave, or one that is made.
func (h *Hands) newValue(ctx context.Context, of records.Credential) (secret.Value, error) {
	plan := h.Rotation.Plan
	if plan.Given != "" {
		return h.acts.sealed.Given(ctx, h.Rotation.CredentialID, plan.Given)
	}
	own, err := h.acts.sealed.Values(ctx, of.ID)
	if err != nil {
		return secret.Value{}, err
	}
	return h.acts.custody.Make(ctx, of, credential.Wanted{Like: own.Current, Type: plan.Type, Length: plan.Length, Without: plan.Without, Limits: plan.Limits})
}

// apply makes from into to.
func (h *Hands) apply(ctx context.Context, step rotation.Step, from, to secret.Value, undo bool) rotation.Outcome {
	switch step.Kind {
	case rotation.StepSignIn:
		return h.expect(ctx, step, to, true)
	case rotation.StepShow:
		return h.shows(ctx, step, to)
	case rotation.StepRefuse:
		return h.refused(ctx, step, from, to)
	case rotation.StepReplace:
		connector, target, err := h.acts.Able(ctx, step, connect.ActHold)
		if err != nil {
			return Certainly(err)
		}
		free, err := h.acts.turns.Take(ctx, step.SystemID+":"+step.Subject)
		if err != nil {
			return Certainly(err)
		}
		defer free()
		places, err := h.numbered(ctx, step, undo)
		if err != nil {
			return Certainly(err)
		}
		if err := connector.ReplaceCopies(ctx, target, step.Subject, places, from, to); err != nil {
			return Failed(err)
		}
		if len(step.Places) > 1 {
			return done(fmt.Sprintf("%d places replaced and read back", len(step.Places)))
		}
		return done("replaced and read back")
	case rotation.StepLogOn:
		return h.giveLogOn(ctx, step, step.LogOn.Was, step.LogOn.Account, to)
	case rotation.StepRestart:
		return h.restart(ctx, step, undo)
	case rotation.StepStop:
		connector, target, err := h.acts.Able(ctx, step, connect.ActRestart)
		if err != nil {
			return Certainly(err)
		}
		words, err := connector.Stop(ctx, target, step.At())
		if err != nil {
			return Failed(err)
		}
		return done(words)
	case rotation.StepSteward:
		return h.stillIn(ctx, step)
	case rotation.StepProve:
		return h.prove(ctx, step)
	case rotation.StepRevive:
		return h.revive(ctx, step)
	}
	return Certainly(fmt.Errorf("unknown step %q", step.Kind))
}

// settleTime is how long a unit gets to come up, and steadyTime how long it
// must then stay up with the same invocation.
const (
	settleTime = 30 * time.Second
	steadyTime = 1200 * time.Millisecond
	lookEvery  = 200 * time.Millisecond
)
