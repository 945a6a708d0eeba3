package acts

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/credential"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// What an authority signs about a key is kept by the key's public half, before anything has
// it: so a rotation that was cut off finds it again, and undoing finds the one before.

// withChains gives keys what was signed about them, where a step writes both.
func (h *Hands) withChains(ctx context.Context, step rotation.Step, old, next secret.Value) (_, _ secret.Value, err error) {
	if h.Credential.Kind != credential.Certificate || step.Kind != rotation.StepReplace {
		return old, next, nil
	}
	for _, v := range []*secret.Value{&old, &next} {
		if v.Empty() {
			continue
		}
		chain, _, err := h.chainOf(ctx, *v)
		if err != nil {
			return old, next, err
		}
		*v = keys.With(*v, chain)
	}
	return old, next, nil
}

// chainOf is what was signed about a key.
func (h *Hands) chainOf(ctx context.Context, key secret.Value) (string, records.SystemID, error) {
	pair, err := keys.PairOf(key)
	if err != nil {
		return "", 0, err
	}
	chain, by, err := h.acts.store.Chain(ctx, pair.Fingerprint)
	if errors.Is(err, app.ErrNotFound) {
		err = fmt.Errorf("the certificate of the key %s is not kept: %w", pair.Fingerprint, err)
	}
	return chain, by, err
}

// certify orders a certificate about the new key, and keeps it.
func (h *Hands) certify(ctx context.Context, step rotation.Step, old, next secret.Value) rotation.Outcome {
	if chain, _, err := h.chainOf(ctx, next); err == nil {
		return issued(chain, "issued before")
	} else if !errors.Is(err, app.ErrNotFound) {
		return Certainly(err)
	}
	before, err := h.before(ctx, old)
	if err != nil {
		return Certainly(err)
	}
	names, err := keys.NamesOf(before)
	if err != nil {
		return Certainly(fmt.Errorf("the certificate in force cannot be ordered again: %w", err))
	}
	request, err := keys.Ask(next, before, h.acts.base.Random)
	if err != nil {
		return Certainly(err)
	}
	connector, target, err := h.acts.Able(ctx, step, connect.ActCertify)
	if err != nil {
		return Certainly(err)
	}
	ordered, err := connector.Order(ctx, target, names)
	if err != nil {
		return Certainly(err) // an order that nobody comes back to ends by itself
	}
	end := h.acts.base.Challenges.Put(ordered.Challenges)
	defer end()
	chain, err := connector.Issue(ctx, target, ordered, request)
	if err != nil {
		return Certainly(err) // nobody has it: at worst one more is issued
	}
	list, err := keys.ReadChain(chain)
	if err != nil {
		return Certainly(fmt.Errorf("%s: %w", step.System, err))
	}
	if words := keys.Misfit(list, next, before, h.acts.base.Now()); words != "" {
		return Certainly(fmt.Errorf("%s issued a certificate that cannot take the place of the one before it: %s; nothing has it", step.System, words))
	}
	pair, err := keys.PairOf(next)
	if err == nil {
		err = h.acts.store.KeepChain(ctx, pair.Fingerprint, chain, app.Number[records.SystemID](step.SystemID))
	}
	if err != nil {
		return Certainly(err)
	}
	words := "issued by " + keys.Describe(list[0]).Issuer
	if was := keys.Describe(before).Issuer; was != keys.Describe(list[0]).Issuer {
		words += " (the one before by " + was + ")"
	}
	return issued(chain, words)
}

func issued(chain, words string) rotation.Outcome {
	if list, err := keys.ReadChain(chain); err == nil {
		words += fmt.Sprintf(", good until %s, number %x", list[0].NotAfter.UTC().Format(time.RFC3339), list[0].SerialNumber)
	}
	return done(words)
}

// before is the certificate in force, as the files of the plan have it. It is kept, so that it
// can be put back.
func (h *Hands) before(ctx context.Context, old secret.Value) (*x509.Certificate, error) {
	pair, err := keys.PairOf(old)
	if err != nil {
		return nil, err
	}
	var best []*x509.Certificate
	for _, step := range h.Rotation.Plan.Steps {
		for _, place := range step.Places {
			if step.Kind != rotation.StepReplace || place.Layout != layout.Chain {
				continue
			}
			connector, target, err := h.acts.Able(ctx, step, connect.ActHold)
			if err != nil {
				return nil, err
			}
			state, err := connector.ReadCopies(ctx, target, step.Subject, []held.Locator{place})
			if err != nil {
				return nil, err
			}
			list, err := keys.ReadChain(state.Found[0].RevealString())
			if err != nil || !keys.SameCertificate(state.Found[0], old) {
				return nil, fmt.Errorf("%s: %s does not have the certificate of the key in custody: somebody changed it, and nothing was written", step.System, step.Subject)
			}
			if len(list) > len(best) {
				best = list
			}
		}
	}
	if len(best) == 0 {
		return nil, errors.New("no file of the plan holds the certificate")
	}
	return best[0], h.acts.store.KeepChain(ctx, pair.Fingerprint, keys.Joined(best), 0)
}

// probeCertified: what was issued is kept, or nobody has it.
func (h *Hands) probeCertified(ctx context.Context, next secret.Value) rotation.Finding {
	_, _, err := h.chainOf(ctx, next)
	switch {
	case errors.Is(err, app.ErrNotFound):
		return rotation.Finding{Result: rotation.ProbeAbsent, Words: "no certificate about the new key is kept: what may have been issued, nobody has"}
	case err != nil:
		return NotFoundOut(err)
	}
	return rotation.Finding{Result: rotation.ProbeEffective, Words: "the new certificate is kept"}
}

// takeBack has the authority take a certificate back that nothing has any more. An authority
// that does not is no reason to call the undoing failed: the key of it is sealed here alone.
func (h *Hands) takeBack(ctx context.Context, step rotation.Step, next secret.Value) rotation.Outcome {
	chain, _, err := h.chainOf(ctx, next)
	if errors.Is(err, app.ErrNotFound) {
		return done("none was issued")
	}
	if err != nil {
		return Certainly(err)
	}
	connector, target, err := h.acts.Able(ctx, step, connect.ActCertify)
	if err != nil {
		return Certainly(err)
	}
	switch err = connector.Revoke(ctx, target, chain); {
	case err == nil:
		return done("it is revoked")
	case Away(err):
		return Certainly(err)
	}
	return done("it was not revoked, and is good until its end; its key is sealed here and nowhere else: " + err.Error())
}

// shows waits a little for a port: what listens there may only just have begun.
func (h *Hands) shows(ctx context.Context, step rotation.Step, value secret.Value) rotation.Outcome {
	ends := time.Now().Add(settleTime)
	for {
		outcome := h.expect(ctx, step, value, true)
		if outcome.Result != rotation.ResultFailed || time.Now().After(ends) || connect.Wait(ctx, lookEvery) != nil {
			return outcome
		}
	}
}
