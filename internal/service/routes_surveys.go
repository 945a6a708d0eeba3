package service

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2/sse"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/schedule"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/answers"
	"mossledger.example/moss/internal/service/routing"
)

type startSurveyInput struct {
	Keyed
	Body struct {
		Systems []string `json:"systems,omitempty" maxItems:"20000" doc:"Names; all systems when it is empty"`
	}
}

type surveyVisitsInput struct {
	IDInput
	ListInput
}

type watchInput struct {
	IDInput
	Last int64 `header:"Last-Event-ID" doc:"Go on behind this event"`
}

// heartbeat keeps event streams alive and shows clients that went away.
const heartbeat = 5 * time.Second

func (s *Service) registerSurveys() {
	add(s, http.MethodGet, "/duties", "list-duties", "List what the service does regularly: when it is due, and what came of it last", func(ctx context.Context, _ *empty) (*body[[]schedule.Planned], error) {
		return answer(s.app.Schedule.List(ctx))
	})
	add(s, http.MethodPost, "/surveys", "start-survey", "Start a survey", func(ctx context.Context, in *startSurveyInput) (*body[records.Survey], error) {
		id, err := once(ctx, s, in.Key, "survey", in.Body, func(ctx context.Context) (records.SurveyID, error) {
			return s.app.Surveys.Start(ctx, who(ctx), in.Body.Systems)
		})
		if err != nil {
			return nil, err
		}
		return answer(s.store.Survey(ctx, id))
	})
	add(s, http.MethodGet, "/surveys", "list-surveys", "List surveys", func(ctx context.Context, in *ListInput) (*body[records.Page[records.Survey]], error) {
		return answer(s.store.Surveys(ctx, in.Query()))
	})
	add(s, http.MethodGet, "/surveys/{id}", "get-survey", "Show a survey", func(ctx context.Context, in *IDInput) (*body[records.Survey], error) {
		return answer(s.store.Survey(ctx, records.SurveyID(in.ID)))
	})
	add(s, http.MethodGet, "/surveys/{id}/visits", "list-visits", "List the visits of a survey", func(ctx context.Context, in *surveyVisitsInput) (*body[records.Page[records.Visit]], error) {
		return answer(s.store.Visits(ctx, records.SurveyID(in.ID), in.Query()))
	})
	add(s, http.MethodPost, "/surveys/{id}/cancel", "cancel-survey", "Cancel a survey; what was read is kept", func(ctx context.Context, in *IDInput) (*body[records.Survey], error) {
		if err := s.app.Surveys.Cancel(ctx, who(ctx), records.SurveyID(in.ID)); err != nil {
			return nil, err
		}
		return answer(s.store.Survey(ctx, records.SurveyID(in.ID)))
	})
	add(s, http.MethodGet, "/changes", "list-changes", "List what became of accounts, dependents and systems, as surveys saw it", s.changes)
	add(s, http.MethodGet, "/changes/{id}", "get-change", "Show one change", func(ctx context.Context, in *IDInput) (*body[records.SeenChange], error) {
		return answer(s.store.Change(ctx, records.ChangeID(in.ID)))
	})
	sse.Register(s.api, routing.Describe(http.MethodGet, "/surveys/{id}/events", "watch-survey", "Watch a survey: its visits as they change, then the survey when it ends"),
		map[string]any{"visit": records.Visit{}, "survey": records.Survey{}}, s.watchSurvey)
	sse.Register(s.api, routing.Describe(http.MethodGet, "/events", "watch-all", "Hear that something changed: reload what is shown"),
		map[string]any{"changed": Changed{}}, s.watchAll)
}

type changesInput struct {
	ListInput
	Since time.Time `query:"since" doc:"Only what was seen after this moment (RFC 3339)"`
	Until time.Time `query:"until" doc:"Only what was seen up to this moment"`
	Net   bool      `query:"net" doc:"Each thing once: what the changes between these moments come to. One page; sort, limit and cursor do not count"`
}

func (s *Service) changes(ctx context.Context, in *changesInput) (*body[records.Page[records.SeenChange]], error) {
	if !in.Until.IsZero() && in.Until.Before(in.Since) {
		return nil, fmt.Errorf("%w: until is before since", app.ErrInput)
	}
	if !in.Net || in.ListInput.Columns {
		return answer(s.store.Changes(ctx, in.Since, in.Until, in.Query()))
	}
	list, err := s.app.Surveys.Between(ctx, in.Since, in.Until, in.Query())
	return answer(records.Page[records.SeenChange]{Items: list, Total: len(list)}, err)
}

// Changed says that something changed.
type Changed struct {
	Time time.Time `json:"time"`
}

// follow calls look whenever the topic wakes, until look says that all is
// over, the client is gone or the service stops. ctx of a stream is not ended
// by Fiber when the client goes away: only a failed write shows that.
func (s *Service) follow(ctx context.Context, topic string, send sse.Sender, look func() (over bool, err error)) {
	wake, letGo := s.app.Base.Topics.Listen(topic)
	defer letGo()
	beat := time.NewTicker(heartbeat)
	defer beat.Stop()
	for {
		if !s.still(ctx) {
			return // signed out, disabled, or the role was taken away
		}
		over, err := look()
		if over || err != nil {
			return
		}
		select {
		case <-wake:
		case <-beat.C:
			if send.Comment("still here") != nil {
				return
			}
		case <-s.base.Done():
			return
		}
	}
}

func (s *Service) watchSurvey(ctx context.Context, in *watchInput, send sse.Sender) {
	last, id := in.Last, records.SurveyID(in.ID)
	s.follow(ctx, app.SurveyTopic(id), send, func() (bool, error) {
		survey, err := s.store.Survey(s.base, id)
		if err != nil {
			return true, err
		}
		for {
			visits, err := s.store.VisitsAfter(s.base, id, last)
			if err != nil {
				return true, err
			}
			for _, v := range visits {
				last = v.Step
				if err := send(sse.Message{ID: int(v.Step), Data: v}); err != nil {
					return true, err
				}
			}
			if len(visits) == 0 {
				break
			}
		}
		if survey.State == "running" {
			return false, nil
		}
		return true, send(sse.Message{ID: int(last), Data: survey})
	})
}

func (s *Service) watchAll(ctx context.Context, _ *empty, send sse.Sender) {
	s.follow(ctx, "all", send, func() (bool, error) {
		return false, send.Data(Changed{time.Now().UTC()})
	})
}

// JournalRecord is a journal record with the title of its step.
type JournalRecord = answers.JournalRecord

// waits says what a rotation waits for, when that is no system.
func (s *Service) waits(ctx context.Context, id records.RotationID) (answers.RotationWaits, error) {
	_, state, _, err := s.app.Rotations.State(ctx, id)
	if err != nil {
		return answers.RotationWaits{}, err
	}
	return answers.Waits(state, s.app.Freeze.Now(), s.app.Base.Now()), nil
}

func (s *Service) watchRotation(ctx context.Context, in *watchInput, send sse.Sender) {
	last, id, told := in.Last, records.RotationID(in.ID), answers.RotationWaits{}
	s.follow(ctx, app.RotationTopic(id), send, func() (bool, error) {
		r, err := s.store.Rotation(s.base, id)
		if err != nil {
			return true, err
		}
		journal, err := s.store.Journal(s.base, id, last)
		if err != nil {
			return true, err
		}
		for _, record := range answers.Titled(r.Plan, journal) {
			last = record.Seq
			if err := send(sse.Message{ID: int(record.Seq), Data: record}); err != nil {
				return true, err
			}
		}
		if waits, err := s.waits(ctx, id); err != nil || waits != told {
			if told = waits; err != nil {
				return true, err
			}
			if err := send.Data(waits); err != nil {
				return true, err
			}
		}
		// Read again: a record may have come between the two readings.
		if r.Mode != string(rotation.ModeFinished) && r.Mode != string(rotation.ModeStopped) {
			return false, nil
		}
		return true, send(sse.Message{ID: int(last), Data: r})
	})
}

func (s *Service) registerWatchRotation() {
	sse.Register(s.api, routing.Describe(http.MethodGet, "/rotations/{id}/events", "watch-rotation", "Watch a rotation: its journal as it is written, then the rotation when it ends or stops"),
		map[string]any{"record": JournalRecord{}, "rotation": records.Rotation{}, "waits": answers.RotationWaits{}}, s.watchRotation)
}
