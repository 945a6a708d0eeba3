package store

import (
	"context"
	"database/sql"
	"fmt"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store/database"
)

const surveyColumns = "s.id, s.state, s.requested_by, s.started, s.ended, s.total, (SELECT COUNT(*) FROM visits WHERE survey_id = s.id AND state NOT IN ('waiting', 'running')), (SELECT COUNT(*) FROM visits WHERE survey_id = s.id AND state IN ('failed', 'incomplete')), COALESCE((SELECT SUM(added) FROM visits WHERE survey_id = s.id), 0), COALESCE((SELECT SUM(altered) FROM visits WHERE survey_id = s.id), 0), COALESCE((SELECT SUM(vanished) FROM visits WHERE survey_id = s.id), 0)"

func scanSurvey(row interface{ Scan(...any) error }, more ...any) (records.Survey, error) {
	var v records.Survey
	var started, ended string
	err := row.Scan(append([]any{&v.ID, &v.State, &v.RequestedBy, &started, &ended, &v.Total, &v.Done, &v.Failed, &v.Added, &v.Altered, &v.Vanished}, more...)...)
	v.Started, v.Ended = database.TimeOf(started), database.TimeOf(ended)
	return v, database.OrNotFound(err)
}

// Surveys lists surveys.
func (s *Store) Surveys(ctx context.Context, q records.Query) (records.Page[records.Survey], error) {
	return database.PageOf(ctx, s.Read, database.Listing[records.Survey]{
		From: "surveys s", ID: "s.id", Sort: "-id", Scan: surveyColumns,
		Columns: []database.Column{{Name: "id", Sql: "s.id", Number: true}, {Name: "state", Sql: "s.state", Values: []string{"running", "done", "cancelled", "interrupted"}}, {Name: "requested_by", Sql: "s.requested_by"}, {Name: "started", Sql: "s.started", Hidden: true}, {Name: "ended", Sql: "s.ended", Hidden: true}, {Name: "total", Sql: "s.total", Number: true}},
		ScanRow: func(rows *sql.Rows) (records.Survey, error) { return scanSurvey(rows, new(any), new(any)) },
	}, q)
}

// Survey returns one by id.
func (s *Store) Survey(ctx context.Context, id records.SurveyID) (records.Survey, error) {
	v, err := scanSurvey(s.Read.QueryRowContext(ctx, "SELECT "+surveyColumns+" FROM surveys s WHERE s.id = ?", id))
	if err != nil {
		return v, fmt.Errorf("survey %d: %w", id, err)
	}
	return v, nil
}

const visitColumns = "v.id, v.survey_id, v.system_id, v.system, v.state, v.stage, v.words, v.next, v.stages, v.counts, v.why, v.problems, v.added, v.altered, v.vanished, v.started, v.ended, v.step"

func scanVisit(row interface{ Scan(...any) error }, more ...any) (records.Visit, error) {
	var v records.Visit
	var stages, counts, why, problems, started, ended string
	err := row.Scan(append([]any{&v.ID, &v.SurveyID, &v.SystemID, &v.System, &v.State, &v.Stage, &v.Words, &v.Next, &stages, &counts, &why, &problems, &v.Added, &v.Altered, &v.Vanished, &started, &ended, &v.Step}, more...)...)
	v.Stages, v.Counts, v.Why, v.Problems = database.FromJSON[[]connect.StageResult](stages), database.FromJSON[map[string]int](counts), database.FromJSON[map[string]string](why), database.FromJSON[[]connect.Unread](problems)
	v.Started, v.Ended = database.TimeOf(started), database.TimeOf(ended)
	if v.Stages == nil {
		v.Stages = []connect.StageResult{}
	}
	if v.Problems == nil {
		v.Problems = []connect.Unread{}
	}
	return v, database.OrNotFound(err)
}

// Visits lists the visits of a survey.
func (s *Store) Visits(ctx context.Context, survey records.SurveyID, q records.Query) (records.Page[records.Visit], error) {
	return database.PageOf(ctx, s.Read, database.Listing[records.Visit]{
		From: "visits v", ID: "v.id", Sort: "system", Scan: visitColumns, Where: fmt.Sprintf("v.survey_id = %d", survey),
		Columns: []database.Column{{Name: "system", Sql: "v.system"}, {Name: "state", Sql: "v.state"}, {Name: "stage", Sql: "v.stage"}, {Name: "words", Sql: "v.words"}, {Name: "added", Sql: "v.added", Number: true}, {Name: "altered", Sql: "v.altered", Number: true}, {Name: "vanished", Sql: "v.vanished", Number: true}, {Name: "started", Sql: "v.started", Hidden: true}, {Name: "ended", Sql: "v.ended", Hidden: true}, {Name: "step", Sql: "v.step", Number: true}, {Name: "id", Sql: "v.id", Number: true}},
		ScanRow: func(rows *sql.Rows) (records.Visit, error) { return scanVisit(rows, new(any), new(any)) },
	}, q)
}

// VisitsAfter returns visits that changed after a step, oldest change first.
func (s *Store) VisitsAfter(ctx context.Context, survey records.SurveyID, step int64) ([]records.Visit, error) {
	return database.Collect(ctx, s.Read, func(rows *sql.Rows) (records.Visit, error) { return scanVisit(rows) },
		"SELECT "+visitColumns+" FROM visits v WHERE v.survey_id = ? AND v.step > ? ORDER BY v.step LIMIT 500", survey, step)
}

// BeginSurvey creates a survey with a waiting visit for each system.
func (s *Store) BeginSurvey(ctx context.Context, by string, systems []records.System) (records.SurveyID, []records.Visit, error) {
	var id records.SurveyID
	visits := make([]records.Visit, 0, len(systems))
	err := s.InTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "INSERT INTO surveys (state, requested_by, started, total) VALUES ('running', ?, ?, ?)", by, s.Stamp(), len(systems))
		if err != nil {
			return err
		}
		if id, err = database.Made[records.SurveyID](res); err != nil {
			return err
		}
		for _, v := range systems {
			res, err := tx.ExecContext(ctx, "INSERT INTO visits (survey_id, system_id, system, state) VALUES (?,?,?,'waiting')", id, v.ID, v.Name)
			if err != nil {
				return err
			}
			visit := records.Visit{SurveyID: id, SystemID: v.ID, System: v.Name, State: "waiting"}
			if visit.ID, err = database.Made[records.VisitID](res); err != nil {
				return err
			}
			visits = append(visits, visit)
		}
		return s.Begun(ctx, tx, int64(id))
	})
	return id, visits, err
}

// SaveVisit stores a visit's state and, when it has ended, that of its system.
func (s *Store) SaveVisit(ctx context.Context, v records.Visit, facts *connect.Facts) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE visits SET state=?, stage=?, words=?, next=?, stages=?, counts=?, why=?, problems=?, added=?, altered=?, vanished=?, started=?, ended=?,
			step=(SELECT COALESCE(MAX(step), 0) + 1 FROM visits WHERE survey_id = ?) WHERE id=?`,
			v.State, v.Stage, v.Words, v.Next, database.AsJSON(v.Stages), database.AsJSON(v.Counts), database.AsJSON(v.Why), database.AsJSON(v.Problems), v.Added, v.Altered, v.Vanished, database.StampOf(v.Started), database.StampOf(v.Ended), v.SurveyID, v.ID)
		if err != nil {
			return err
		}
		switch v.State {
		case "done", "incomplete", "failed":
			state, words := map[string]string{"done": "ok", "incomplete": "incomplete", "failed": "failed"}[v.State], v.Words
			if v.Stage != "" {
				words = v.Stage + ": " + words
			}
			_, err = tx.ExecContext(ctx, `UPDATE systems SET state=?, state_words=?, visited=?, read_completely=CASE WHEN ? = 'ok' THEN ? ELSE read_completely END,
				check_stages=?, checked=?, facts=CASE WHEN ? THEN ? ELSE facts END WHERE id=?`,
				state, words, s.Stamp(), state, s.Stamp(), database.AsJSON(v.Stages), s.Stamp(), facts != nil && state != "failed", database.AsJSON(facts), v.SystemID)
		}
		return err
	})
}

// EndSurvey closes a survey.
func (s *Store) EndSurvey(ctx context.Context, id records.SurveyID, state string) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE surveys SET state=?, ended=? WHERE id=?", state, s.Stamp(), id)
		return err
	})
}

// InterruptSurveys closes what a stopped or killed service left running.
func (s *Store) InterruptSurveys(ctx context.Context) error {
	return s.InTx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE visits SET state='interrupted', words='the service stopped during this visit; what was read is kept', ended=? WHERE state IN ('waiting','running')", s.Stamp()); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "UPDATE surveys SET state='interrupted', ended=? WHERE state='running'", s.Stamp())
		return err
	})
}
