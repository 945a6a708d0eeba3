package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"mossledger.example/moss/internal/app/rotate"
	"mossledger.example/moss/internal/app/rotate/planning"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/answers"
	"mossledger.example/moss/internal/service/routing"
)

// StepNow is a step with where it stands.
type StepNow struct {
	rotation.Step
	Title    string `json:"title"`
	Status   string `json:"status" enum:"pending,waiting,doing,done,later,failed,unclear,skipped,undoing,undo-unclear,undone,undo-failed"`
	Attempts int    `json:"attempts"`
	Words    string `json:"words" doc:"The system's own words"`
}

// RotationNow is a rotation with where it stands.
type RotationNow struct {
	routing.Waiting
	Rotation  records.Rotation `json:"rotation"`
	Steps     []StepNow        `json:"steps" nullable:"false"`
	UndoUntil time.Time        `json:"undo_until,omitzero" doc:"Of one that ended: until when it can be undone, for so long the value that it replaced is kept; absent where that has no end, or is over"`
	// Decisions are checked again when one is made: by then it may stand elsewhere.
	Decisions []string      `json:"decisions" nullable:"false" doc:"What a person may decide about it where it stands: stop, resume, go-on, undo, leave-away"`
	Proven    string        `json:"proven,omitempty" doc:"What is known of its dependents, the weakest first: a unit that runs is not one that works"`
	Look      *records.Look `json:"look,omitempty" doc:"The later look at one that ended with a new value in force"`
	Halted    string        `json:"halted,omitempty" doc:"Why it does not go on: it cannot be written down, or everything is frozen"`
	WaitsFor  string        `json:"waits_for,omitempty" doc:"The window that everything which is left waits for"`
	WaitsTill time.Time     `json:"waits_till,omitzero" doc:"When that opens"`
	// Interruptions are measured when it has ended.
	Interruptions []records.Interruption `json:"interruptions" nullable:"false" doc:"How long its dependents stood still, the longest first"`
}

// RehearsalAnswer is a rehearsal with what it means in words.
type RehearsalAnswer struct {
	Rehearsal    records.Rehearsal `json:"rehearsal"`
	Steps        []string          `json:"steps" nullable:"false" doc:"What will happen, in order"`
	Interruption string            `json:"interruption"`
}

func rehearsalAnswer(v records.Rehearsal, err error) (*body[RehearsalAnswer], error) {
	out := RehearsalAnswer{Rehearsal: v, Steps: []string{}, Interruption: v.Plan.Interruption()}
	for _, s := range v.Plan.Steps {
		switch {
		case s.Kind == rotation.StepAll:
		case v.Plan.UndoOf != 0:
			out.Steps = append([]string{s.UndoTitle()}, out.Steps...)
		default:
			out.Steps = append(out.Steps, s.Title())
		}
	}
	return answer(out, err)
}

// RotationRequest is what a person asks of a rotation. The same must be asked of the
// rehearsal and of the rotation after it.
type RotationRequest struct {
	OnFailure   string                `json:"on_failure,omitempty" enum:"stop,continue,undo" default:"undo" doc:"What to do when a step fails"`
	Restart     string                `json:"restart,omitempty" enum:"now,window,leave" default:"now" doc:"When dependents are restarted; leave: not at all, each is a latent breakage until somebody does"`
	NotBefore   time.Time             `json:"not_before,omitzero" doc:"Beginning of the window"`
	NotAfter    time.Time             `json:"not_after,omitzero" doc:"End of the window"`
	Patience    int                   `json:"patience,omitempty" minimum:"0" maximum:"2592000" doc:"Seconds for which a system that is away is waited for before that counts as a failure; half an hour when it is 0"`
	Assign      []records.DependentID `json:"assign,omitempty" maxItems:"5000" doc:"Dependents that shall log on as the account with its current value; the authority is left alone"`
	Where       []string              `json:"where,omitempty" doc:"The same, chosen by filters of the list of dependents"`
	Search      string                `json:"search,omitempty" doc:"And by part of a name, place, program, description, what it runs as, system or account"`
	Repair      bool                  `json:"repair,omitempty" doc:"The same, for all that have not stored the current value, or are down"`
	Type        string                `json:"type,omitempty" doc:"Of a new key: ssh-ed25519, ecdsa-sha2-nistp256 or ssh-rsa; that of the old one by default. Issuers take the last two"`
	LastsDays   int                   `json:"lasts_days,omitempty" minimum:"-1" maximum:"7300" doc:"Of a new key that an issuer accepts: days until it ends; -1 for never, and as long as the one before it when it is 0"`
	NoReload    bool                  `json:"no_reload,omitempty" doc:"Of a certificate: restart also what could read its files again while it runs"`
	Authority   string                `json:"authority,omitempty" maxLength:"100" doc:"Of a certificate: the system that issues the new one, by name or number; the one that issued the one before, or the only one, when empty"`
	StopFirst   bool                  `json:"stop_first,omitempty" doc:"Stop what would go on with the old value before the change, and start it with the new one; needs the policy undo and restarts that are now"`
	Length      int                   `json:"length,omitempty" minimum:"0" maximum:"256" doc:"Characters of a new password; the usual number when it is 0"`
	Without     string                `json:"without,omitempty" maxLength:"100" doc:"Characters that a new password must not have"`
	AnyTime     bool                  `json:"any_time,omitempty" doc:"No window counts: what has one is changed and restarted at any time"`
	AtWindowEnd string                `json:"at_window_end,omitempty" enum:"pause,undo," doc:"What becomes of one that is not done when its window closes: it goes on in the next, or is undone; pause when empty"`
	FirstAlone  bool                  `json:"first_alone,omitempty" doc:"One dependent is changed and proven before all others"`
	Way         string                `json:"way,omitempty" enum:"any,replace,overlap,alternate," doc:"overlap: only if both values are accepted for a time; replace: never so; alternate: only if another account takes its place; any when empty"`
	NoAcceptors string                `json:"no_acceptors,omitempty" maxLength:"500" doc:"Why service principal names for which neither a key tab nor a service was found do not matter; without it the rehearsal fails"`
	Start       bool                  `json:"start,omitempty" doc:"Also bring up what is down although it starts by itself"`
}

const mostAssigned = 5000

// chooseDependents looks up the dependents that a request chooses by what they are.
func (s *Service) chooseDependents(ctx context.Context, c records.Credential, b RotationRequest, w *planning.Request) error {
	if b.Repair {
		a, err := s.store.Account(ctx, c.AccountID)
		if err != nil {
			return err
		}
		w.Assign, err = s.app.Diagnoses.RepairTargets(ctx, a)
		w.Start = true
		return err
	}
	if len(b.Where) == 0 && b.Search == "" {
		return nil
	}
	q := records.Query{Filters: append([]string{"gone="}, b.Where...), Search: b.Search, Limit: 500}
	for {
		page, err := s.store.Dependents(ctx, 0, q)
		if err != nil {
			return err
		}
		if page.Total > mostAssigned {
			return huma.Error400BadRequest(fmt.Sprintf("%d dependents match: at most %d at a time", page.Total, mostAssigned))
		}
		for _, d := range page.Items {
			w.Assign = append(w.Assign, d.ID)
		}
		if q.Cursor = page.Next; q.Cursor == "" {
			break
		}
	}
	if len(w.Assign) == 0 {
		return huma.Error400BadRequest("no dependent matches")
	}
	return nil
}

type rehearseInput struct {
	CredentialInput
	Body RotationRequest
}

type startRotationInput struct {
	CredentialInput
	Keyed
	Body struct {
		RotationRequest
		Reason    string `json:"reason" minLength:"1" maxLength:"500"`
		Emergency string `json:"emergency,omitempty" maxLength:"500" doc:"Why it does not wait for the second person that it needs; everybody who is told anything is told of it"`
	}
}

type overrideInput struct {
	CredentialInput
	Keyed
	Body struct {
		RotationRequest
		Reason   string `json:"reason" minLength:"1" maxLength:"500"`
		Override string `json:"override" minLength:"1" maxLength:"500" doc:"Why it is started without a rehearsal that passed"`
	}
}

type decideInput struct {
	IDInput
	Body struct {
		Decision string `json:"decision" enum:"stop,resume,go-on,undo,leave-away" doc:"leave-away: undo without the places that are away"`
		Reason   string `json:"reason,omitempty" maxLength:"500"`
	}
}

func (s *Service) registerRotations() {
	add(s, http.MethodGet, "/rotations", "list-rotations", "List rotations", func(ctx context.Context, in *ListInput) (*body[records.Page[records.Rotation]], error) {
		return answer(s.store.Rotations(ctx, in.Query()))
	})
	add(s, http.MethodGet, "/rotations/{id}", "get-rotation", "Show a rotation with its steps", func(ctx context.Context, in *IDInput) (*body[RotationNow], error) {
		return answer(s.rotationNow(ctx, records.RotationID(in.ID)))
	})
	add(s, http.MethodGet, "/rotations/{id}/journal", "list-journal", "Show the journal of a rotation", func(ctx context.Context, in *IDInput) (*body[[]JournalRecord], error) {
		r, _, records, err := s.app.Rotations.State(ctx, records.RotationID(in.ID))
		return answer(answers.Titled(r.Plan, records), err)
	})
	add(s, http.MethodPost, "/rotations/{id}/decision", "decide-rotation", "Stop, resume, go on without failed steps, or undo", func(ctx context.Context, in *decideInput) (*body[RotationNow], error) {
		if err := s.app.Rotations.Decide(ctx, who(ctx), records.RotationID(in.ID), in.Body.Decision, in.Body.Reason); err != nil {
			return nil, err
		}
		return answer(s.rotationNow(ctx, records.RotationID(in.ID)))
	})
	add(s, http.MethodPost, "/rotations/{id}/rehearsals", "rehearse-undo", "Check everything about undoing a finished rotation without changing anything", func(ctx context.Context, in *IDInput) (*body[RehearsalAnswer], error) {
		return rehearsalAnswer(s.app.Rotations.RehearseUndo(ctx, who(ctx), records.RotationID(in.ID)))
	})
	add(s, http.MethodPost, "/rotations/{id}/look", "look-again", "Look again, now, at what a rotation that has ended did and proved", func(ctx context.Context, in *IDInput) (*body[records.Look], error) {
		return answer(s.app.Looks.LookNow(ctx, who(ctx), records.RotationID(in.ID)))
	})
	s.registerWatchRotation()
}

func (s *Service) startRotation(ctx context.Context, in *startRotationInput) (*body[RotationNow], error) {
	c, request, err := s.requested(ctx, in.ID, in.Body.RotationRequest)
	if err != nil {
		return nil, err
	}
	id, err := once(ctx, s, in.Key, "rotation/"+c.ID.Ref(), in.Body, func(ctx context.Context) (int64, error) {
		if in.Body.Emergency != "" {
			id, err := s.app.Rotations.StartInEmergency(ctx, who(ctx), c, request, in.Body.Reason, in.Body.Emergency)
			return int64(id), err
		}
		id, err := s.app.Rotations.Start(ctx, who(ctx), c, request, in.Body.Reason, "")
		var waits *rotate.WaitsError
		if errors.As(err, &waits) && waits.Refused == "" {
			return -int64(waits.Approval), nil
		}
		return int64(id), err
	})
	if err != nil {
		return nil, err
	}
	if id < 0 {
		return answer(RotationNow{Waiting: routing.Waiting{Approval: records.ApprovalID(-id)}, Steps: []StepNow{}, Decisions: []string{}, Interruptions: []records.Interruption{}}, nil)
	}
	return answer(s.rotationNow(ctx, records.RotationID(id)))
}

// Overridden is a rotation that was started without a rehearsal, or the
// approval that it waits for.
type Overridden struct {
	routing.Waiting
	Rotation *records.Rotation `json:"rotation,omitempty"`
}

func (s *Service) overrideRotation(ctx context.Context, in *overrideInput) (*body[Overridden], error) {
	c, request, err := s.requested(ctx, in.ID, in.Body.RotationRequest)
	if err != nil {
		return nil, err
	}
	var out Overridden
	id, err := once(ctx, s, in.Key, "override/"+c.ID.Ref(), in.Body, func(ctx context.Context) (int64, error) {
		rotation, approval, err := s.app.Rotations.Override(ctx, who(ctx), c, request, in.Body.Reason, in.Body.Override)
		return int64(rotation) - int64(approval), err
	})
	if err != nil {
		return nil, err
	}
	if id < 0 {
		out.Approval = records.ApprovalID(-id)
		return answer(out, nil)
	}
	r, err := s.store.Rotation(ctx, records.RotationID(id))
	out.Rotation = &r
	return answer(out, err)
}

func (s *Service) rotationNow(ctx context.Context, id records.RotationID) (RotationNow, error) {
	r, state, _, err := s.app.Rotations.State(ctx, id)
	if err != nil {
		return RotationNow{}, err
	}
	out := RotationNow{Rotation: r, Steps: []StepNow{}, Decisions: state.Decisions(), Proven: state.Proof().String(), Halted: s.app.Rotations.Halted(id)}
	waits := answers.Waits(state, s.app.Freeze.Now(), s.app.Base.Now())
	out.WaitsFor, out.WaitsTill, out.Halted = waits.Window, waits.Until, cmp.Or(out.Halted, waits.Frozen)
	interruptions, err := s.store.Interruptions(ctx, id)
	if err != nil {
		return out, err
	}
	var gone bool
	if out.UndoUntil, gone, err = s.app.Rotations.UndoUntil(ctx, r); err != nil {
		return out, err
	}
	if gone {
		out.Decisions = slices.DeleteFunc(out.Decisions, func(d string) bool { return d == rotation.DecideUndo })
	}
	out.Interruptions = append([]records.Interruption{}, interruptions...)
	switch look, err := s.store.Look(ctx, id); {
	case err == nil:
		out.Look = &look
	case !errors.Is(err, records.ErrNotFound):
		return out, err
	}
	for i, step := range r.Plan.Steps {
		if step.Kind == rotation.StepAll {
			continue // nothing is done there
		}
		t := state.Steps[i]
		now := StepNow{Step: step, Title: step.Title(), Status: string(t.Status), Attempts: t.Attempts, Words: t.Words}
		if t.Later && (t.Status == rotation.Done || t.Status == rotation.Undone) {
			now.Status = "later"
		}
		if t.Waiting() && state.Mode != rotation.ModeFinished {
			now.Status, now.Words = "waiting", fmt.Sprintf("%s is waited for since %s, asked %d times: %s", step.System, t.Since.UTC().Format(time.RFC3339), t.Away, t.Words)
		}
		out.Steps = append(out.Steps, now)
	}
	return out, nil
}
