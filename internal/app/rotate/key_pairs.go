package rotate

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/custody"
	"mossledger.example/moss/internal/app/picture"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/store"
)

// planKey builds the plan of a key pair's rotation: its doors accept both keys
// until every file that holds it has the new one.
func (rotations *Rotations) planKey(ctx context.Context, k store.KeyPair, wish Request) (rotation.Plan, error) {
	switch {
	case len(wish.Assign) > 0 || wish.Start:
		return rotation.Plan{}, fmt.Errorf("%w: a key pair has no log-ons to assign", app.ErrInput)
	case wish.KeyType != "" && !slices.Contains(keys.Types(), wish.KeyType):
		return rotation.Plan{}, fmt.Errorf("%w: keys of type %q cannot be made (%s)", app.ErrInput, wish.KeyType, strings.Join(keys.Types(), ", "))
	}
	if err := rotations.custody.NotOurs(ctx, k); err != nil {
		return rotation.Plan{}, err
	}
	doors, holders, err := rotations.picture.Doors(ctx, k)
	if err != nil {
		return rotation.Plan{}, err
	}
	if len(doors) == 0 {
		return rotation.Plan{}, fmt.Errorf("%w: no entry that lets the holder of %s in is known: survey the systems that it opens", app.ErrRefused, k.Fingerprint)
	}
	p := &planner{
		rotations: rotations, wish: wish, files: map[string]*rotation.File{}, logOns: map[string]bool{}, systems: map[int64]bool{}, runsWith: map[string]string{}, restarted: map[string]bool{},
		input: rotation.Input{
			Account: k.Name, Policy: wish.Policy, When: wish.When, NotBefore: wish.NotBefore, NotAfter: wish.NotAfter, Patience: wish.Patience, Doors: doors,
		},
	}
	var names []string
	for _, d := range doors {
		if !slices.Contains(names, d.System) {
			names = append(names, d.System)
		}
	}
	p.input.Authority = strings.Join(names, ", ")
	for _, d := range holders {
		if d.Key.Encrypted {
			p.note("out of reach: %s on %s: %v", d.Path, d.System, keys.ErrPassphrase)
			continue
		}
		if mode, err := strconv.ParseUint(d.Key.Mode, 8, 32); err == nil && mode&0o077 != 0 {
			p.note("exposed: others than its owner may read %s on %s (mode %s), and the new key in it", d.Path, d.System, d.Key.Mode)
		}
		p.place(d, picture.PrivateAt(d), "")
	}
	if len(p.files) == 0 {
		p.note("out of reach: no file that was read holds the private half of %s", k.Fingerprint)
	}
	plan, err := p.build(ctx)
	plan.KeyID, plan.KeyType = strconv.FormatInt(k.ID, 10), wish.KeyType
	return plan, err
}

// currentKey is the public half of the sealed key.
func currentKey(s custody.Subject, current secret.Value) (string, connect.Checked) {
	line := connect.Checked{What: "the sealed key of " + custody.NameOf(s), Result: connect.CheckFailed}
	if current.Empty() {
		line.Words, line.Next = "the key is not in custody", "take it with 'moss custody take "+custody.Spelled(s)+"'"
		return "", line
	}
	pair, err := keys.PairOf(current)
	if err != nil {
		line.Words = err.Error()
		return "", line
	}
	line.Result = connect.CheckOK
	return pair.Line, line
}

// opensDoors proves the sealed key where a plan will prove the new one.
func (rotations *Rotations) opensDoors(ctx context.Context, plan rotation.Plan, current secret.Value) []connect.Checked {
	var doors []rotation.KeyDoor
	for _, s := range plan.Steps {
		if s.Kind == rotation.StepSignIn {
			doors = append(doors, rotation.KeyDoor{System: s.System, Account: s.Door.Account, Via: s.Door.Via})
		}
	}
	var out []connect.Checked
	for _, k := range rotations.custody.KnockAll(ctx, doors, current) {
		line := connect.Checked{System: k.System, What: "sign in as " + k.Door.Account + " with the sealed key", Result: connect.CheckOK, Words: k.Verdict.Words}
		switch {
		case k.Err != nil:
			line.Result, line.Words = connect.CheckFailed, k.Err.Error()
		case !k.Verdict.Accepted:
			line.Result, line.Next = connect.CheckFailed, "the entry admits other addresses only, or somebody changed it: survey "+k.System
		}
		out = append(out, line)
	}
	return out
}

// prepareKey makes and seals the new key.
func (h *acts) prepareKey(ctx context.Context) rotation.Outcome {
	own, err := h.rotations.sealed.Values(ctx, h.rotation.Credential())
	if err != nil {
		return certainly(err)
	}
	value, err := keys.Generate(own.Current, h.rotation.Plan.KeyType, h.rotations.base.Random)
	if err != nil {
		return certainly(err)
	}
	pair, err := keys.PairOf(value)
	if err != nil {
		return certainly(err)
	}
	sealed, err := h.rotations.sealed.NewSecret(h.rotation.Credential(), 0, h.rotation.ID, value)
	if err != nil {
		return certainly(err)
	}
	sealed.Public = pair.Fingerprint
	if err := h.rotations.store.AddCandidate(ctx, sealed); err != nil {
		return certainly(err)
	}
	return done(pair.Type + " " + pair.Fingerprint + ", sealed and on disk")
}

// lines are the public halves of two keys.
func lines(old, next secret.Value) (string, string, error) {
	a, err := keys.PairOf(old)
	if err != nil {
		return "", "", err
	}
	b, err := keys.PairOf(next)
	return a.Line, b.Line, err
}

// changeDoor changes the entries of a door, when the step is about that.
func (h *acts) changeDoor(ctx context.Context, step rotation.Step, old, next secret.Value, undo bool) (rotation.Outcome, bool) {
	if step.Door == nil || step.Kind != rotation.StepChange && step.Kind != rotation.StepRetire {
		return rotation.Outcome{}, false
	}
	was, will, err := lines(old, next)
	if err != nil {
		return certainly(err), true
	}
	change, words := connect.EntryChange{Path: step.Subject}, ""
	switch {
	case step.Kind == rotation.StepChange && !undo:
		change.Stays, change.Admit, words = was, will, "both keys are let in"
	case step.Kind == rotation.StepChange:
		change.Stays, change.Remove, words = was, will, "only the old key is let in"
	case !undo:
		change.Stays, change.Remove, words = will, was, "only the new key is let in"
	default:
		change.Stays, change.Admit, words = will, was, "both keys are let in"
	}
	admitter, target, err := capability[connect.Admitter](ctx, h, step)
	if err != nil {
		return certainly(err), true
	}
	free, err := h.rotations.turns.take(ctx, step.SystemID+":"+step.Subject)
	if err != nil {
		return certainly(err), true
	}
	defer free()
	if err := admitter.ChangeEntries(ctx, target, change); err != nil {
		return failed(err), true
	}
	return done(words), true
}

// probeDoor reads the entries of a door.
func (h *acts) probeDoor(ctx context.Context, step rotation.Step, old, next secret.Value) rotation.Finding {
	was, will, err := lines(old, next)
	if err != nil {
		return notFoundOut(err)
	}
	admitter, target, err := capability[connect.Admitter](ctx, h, step)
	if err != nil {
		return notFoundOut(err)
	}
	is, err := admitter.ReadEntries(ctx, target, step.Subject, []string{was, will})
	switch {
	case connect.CodeOf(err) == connect.CodeGone:
		return rotation.Finding{Result: rotation.ProbeNeither, Words: err.Error()}
	case err != nil:
		return notFoundOut(err)
	case !is[0] && !is[1]:
		return rotation.Finding{Result: rotation.ProbeNeither, Words: "neither key is let in: somebody changed the file"}
	}
	effective, words := is[1], "the new key is let in"
	if step.Kind == rotation.StepRetire {
		if !is[1] {
			return rotation.Finding{Result: rotation.ProbeNeither, Words: "the new key is not let in: somebody changed the file"}
		}
		effective, words = !is[0], "the old key is not let in"
	}
	if effective {
		return rotation.Finding{Result: rotation.ProbeEffective, Words: words}
	}
	return rotation.Finding{Result: rotation.ProbeAbsent, Words: "not so yet"}
}

// keyEffect notes which key a holder has and a door lets in, so that the
// picture is right without reading it again.
func (j *journal) keyEffect(ctx context.Context, step rotation.Step, status rotation.Status) (effects store.Effects, err error) {
	if step.Kind != rotation.StepReplace && step.Kind != rotation.StepRetire || status != rotation.Done && status != rotation.Undone {
		return effects, nil
	}
	was, is, err := j.rotations.sealed.OfRotation(ctx, j.rotation)
	if err != nil || was == nil || is == nil {
		return effects, err
	}
	if status == rotation.Undone {
		was, is = is, was
	}
	from, err := j.rotations.sealed.KeyPair(*was)
	if err != nil {
		return effects, err
	}
	to, err := j.rotations.sealed.KeyPair(*is)
	if err != nil {
		return effects, err
	}
	effects.Keys = append(effects.Keys, store.KeyIs{SystemID: app.Number(step.SystemID), Path: step.Subject, Door: step.Door != nil, From: *from, To: *to})
	return effects, nil
}
