package store

import (
	"context"
	"database/sql"
	"fmt"

	"mossledger.example/moss/internal/records"

	"mossledger.example/moss/internal/connect"
)

const surveyColumns = "s.id, s.state, s.requested_by, s.started, s.ended, s.total, (SELECT COUNT(*) FROM visits WHERE survey_id = s.id AND state NOT IN ('waiting', 'running')), (SELECT COUNT(*) FROM visits WHERE survey_id = s.id AND state IN ('failed', 'incomplete')), COALESCE((SELECT SUM(added) FROM visits WHERE survey_id = s.id), 0), COALESCE((SELECT SUM(altered) FROM visits WHERE survey_id = s.id), 0), COALESCE((SELECT SUM(vanished) FROM visits WHERE survey_id = s.id), 0)"

func scanSurvey(row interface{ Scan(...any) error }, more ...any) (records.Survey, error) {
	var v records.Survey
	var started, ended string
	err := row.Scan(append([]any{&v.ID, &v.State, &v.RequestedBy, &started, &ended, &v.Total, &v.Done, &v.Failed, &v.Added, &v.Altered, &v.Vanished}, more...)...)
	v.Started, v.Ended = timeOf(started), timeOf(ended)
	return v, one(err)
}

// Surveys lists surveys.
func (s *Store) Surveys(ctx context.Context, q records.Query) (records.Page[records.Survey], error) {
	return page(ctx, s.read, listing[records.Survey]{
		from: "surveys s", id: "s.id", sort: "-id", scan: surveyColumns,
		columns: []column{{name: "id", sql: "s.id", number: true}, {name: "state", sql: "s.state", values: []string{"running", "done", "cancelled", "interrupted"}}, {name: "requested_by", sql: "s.requested_by"}, {name: "started", sql: "s.started", hidden: true}, {name: "ended", sql: "s.ended", hidden: true}, {name: "total", sql: "s.total", number: true}},
		scanRow: func(rows *sql.Rows) (records.Survey, error) { return scanSurvey(rows, new(any), new(any)) },
	}, q)
}

// Survey returns one by id.
func (s *Store) Survey(ctx context.Context, id int64) (records.Survey, error) {
	v, err := scanSurvey(s.read.QueryRowContext(ctx, "SELECT "+surveyColumns+" FROM surveys s WHERE s.id = ?", id))
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
	v.Stages, v.Counts, v.Why, v.Problems = parse[[]connect.StageResult](stages), parse[map[string]int](counts), parse[map[string]string](why), parse[[]connect.Unread](problems)
	v.Started, v.Ended = timeOf(started), timeOf(ended)
	if v.Stages == nil {
		v.Stages = []connect.StageResult{}
	}
	if v.Problems == nil {
		v.Problems = []connect.Unread{}
	}
	return v, one(err)
}

// Visits lists the visits of a survey.
func (s *Store) Visits(ctx context.Context, survey int64, q records.Query) (records.Page[records.Visit], error) {
	return page(ctx, s.read, listing[records.Visit]{
		from: "visits v", id: "v.id", sort: "system", scan: visitColumns, where: fmt.Sprintf("v.survey_id = %d", survey),
		columns: []column{{name: "system", sql: "v.system"}, {name: "state", sql: "v.state"}, {name: "stage", sql: "v.stage"}, {name: "words", sql: "v.words"}, {name: "added", sql: "v.added", number: true}, {name: "altered", sql: "v.altered", number: true}, {name: "vanished", sql: "v.vanished", number: true}, {name: "started", sql: "v.started", hidden: true}, {name: "ended", sql: "v.ended", hidden: true}, {name: "step", sql: "v.step", number: true}, {name: "id", sql: "v.id", number: true}},
		scanRow: func(rows *sql.Rows) (records.Visit, error) { return scanVisit(rows, new(any), new(any)) },
	}, q)
}

// VisitsAfter returns visits that changed after a step, oldest change first.
func (s *Store) VisitsAfter(ctx context.Context, survey, step int64) ([]records.Visit, error) {
	return collect(ctx, s.read, func(rows *sql.Rows) (records.Visit, error) { return scanVisit(rows) },
		"SELECT "+visitColumns+" FROM visits v WHERE v.survey_id = ? AND v.step > ? ORDER BY v.step LIMIT 500", survey, step)
}

// BeginSurvey creates a survey with a waiting visit for each system.
func (s *Store) BeginSurvey(ctx context.Context, by string, systems []records.System) (int64, []records.Visit, error) {
	var id int64
	visits := make([]records.Visit, 0, len(systems))
	err := s.inTx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "INSERT INTO surveys (state, requested_by, started, total) VALUES ('running', ?, ?, ?)", by, s.stamp(), len(systems))
		if err != nil {
			return err
		}
		if id, err = res.LastInsertId(); err != nil {
			return err
		}
		for _, v := range systems {
			res, err := tx.ExecContext(ctx, "INSERT INTO visits (survey_id, system_id, system, state) VALUES (?,?,?,'waiting')", id, v.ID, v.Name)
			if err != nil {
				return err
			}
			visit := records.Visit{SurveyID: id, SystemID: v.ID, System: v.Name, State: "waiting"}
			if visit.ID, err = res.LastInsertId(); err != nil {
				return err
			}
			visits = append(visits, visit)
		}
		return s.begun(ctx, tx, id)
	})
	return id, visits, err
}

// SaveVisit stores a visit's state and, when it has ended, that of its system.
func (s *Store) SaveVisit(ctx context.Context, v records.Visit, facts *connect.Facts) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, `UPDATE visits SET state=?, stage=?, words=?, next=?, stages=?, counts=?, why=?, problems=?, added=?, altered=?, vanished=?, started=?, ended=?,
			step=(SELECT COALESCE(MAX(step), 0) + 1 FROM visits WHERE survey_id = ?) WHERE id=?`,
			v.State, v.Stage, v.Words, v.Next, text(v.Stages), text(v.Counts), text(v.Why), text(v.Problems), v.Added, v.Altered, v.Vanished, stampOf(v.Started), stampOf(v.Ended), v.SurveyID, v.ID)
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
				state, words, s.stamp(), state, s.stamp(), text(v.Stages), s.stamp(), facts != nil && state != "failed", text(facts), v.SystemID)
		}
		return err
	})
}

// EndSurvey closes a survey.
func (s *Store) EndSurvey(ctx context.Context, id int64, state string) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE surveys SET state=?, ended=? WHERE id=?", state, s.stamp(), id)
		return err
	})
}

// InterruptSurveys closes what a stopped or killed service left running.
func (s *Store) InterruptSurveys(ctx context.Context) error {
	return s.inTx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE visits SET state='interrupted', words='the service stopped during this visit; what was read is kept', ended=? WHERE state IN ('waiting','running')", s.stamp()); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "UPDATE surveys SET state='interrupted', ended=? WHERE state='running'", s.stamp())
		return err
	})
}
