package acts

import (
	"context"
	"fmt"
	"net"
	"strconv"
	"strings"

	"mossledger.example/moss/internal/app/inventory"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// turns: two accounts take turns.
func (h *Hands) turns() bool { return h.Next.ID != 0 }

// whose says which of two accounts a value is for. Where that cannot be told, nobody is
// asked: the other one's value is refused, which would look like a proof.
func (h *Hands) whose(ctx context.Context, value secret.Value) (records.Account, error) {
	if !h.turns() {
		return h.Account, nil
	}
	_, next, err := h.secrets(ctx, rotation.Step{})
	if err == nil && next.Equal(value) {
		return h.Next, nil
	}
	return h.Account, err
}

// turned says what is so once a point accepts what is wanted.
func (h *Hands) turned(want connect.Accepted) string {
	switch want {
	case connect.AcceptBoth:
		return h.Next.Name + " is in step, and both may sign in"
	case connect.AcceptOld:
		return h.Next.Name + " rests again"
	}
	return h.Account.Name + " rests"
}

// Facing are the places of copies for going forward or back: where two accounts take
// turns, the names beside the values change over.
func Facing(places []held.Locator, undo bool) []held.Locator {
	if !undo {
		return places
	}
	out := make([]held.Locator, len(places))
	for i, l := range places {
		out[i] = l.Turned()
	}
	return out
}

func (h *Hands) facing(places []held.Locator, undo bool) []held.Locator {
	return Facing(places, undo && h.turns())
}

// rested is the proof that an account rests: it is refused although the value is given that
// it had. Sessions that it has still are told: they end when they end.
func (h *Hands) rested(ctx context.Context, step rotation.Step, value secret.Value, verdict connect.Verdict) rotation.Outcome {
	for _, server := range verdict.Elsewhere {
		if server.State == connect.ServerAsked && server.Verdict.Accepted {
			return rotation.Outcome{Result: rotation.ResultLater, Words: fmt.Sprintf("%s, %s still lets it sign in: it has not learned of the change", step.System, server.Server)}
		}
	}
	who, err := h.whose(ctx, value)
	if err != nil {
		return Certainly(err)
	}
	words := who.Name + " rests: " + verdict.Words + served(verdict.Elsewhere)
	if open := h.sessionsOf(ctx, who); len(open) > 0 {
		words += fmt.Sprintf("; %d sessions of it are open still, and end when they end: %s", len(open), strings.Join(open[:min(len(open), 5)], ", "))
	}
	outcome := done(words)
	if who.ID == h.Account.ID && h.formerRefused(ctx, step) {
		outcome.Memo = rotation.MemoFormerRefused
	}
	return outcome
}

// formerRefused: the value that the account whose turn began had before is refused too.
func (h *Hands) formerRefused(ctx context.Context, step rotation.Step) bool {
	own, err := h.acts.sealed.Values(ctx, h.Rotation.Next())
	if err != nil || own.Current.Empty() {
		return false
	}
	connector, target, err := h.acts.Able(ctx, step, connect.ActVerify)
	if err != nil {
		return false
	}
	verdict, err := connector.Verify(ctx, target, inventory.RefOf(h.Next), own.Current)
	return err == nil && verdict.Says() == connect.AnswerNo && !AcceptedAnywhere(verdict)
}

// sessionsOf are the sessions that an account has at its authority, where that tells them.
func (h *Hands) sessionsOf(ctx context.Context, who records.Account) (out []string) {
	authority, server, tells := h.sessions(ctx)
	if !tells {
		return nil
	}
	_, err := authority.Visit(ctx, server, connect.VisitRequest{Resting: []string{who.StableID}}, func(b connect.Batch) error {
		for _, s := range b.Sessions {
			if s.StableID == who.StableID {
				from := s.Client
				if s.Port != 0 {
					from = net.JoinHostPort(s.Client, strconv.Itoa(s.Port))
				}
				out = append(out, strings.TrimSpace(s.Application+" from "+from))
			}
		}
		return nil
	})
	if err != nil {
		return nil
	}
	return out
}
