// Package reports makes what is handed to an auditor: all that is known of a rotation or a
// batch, as one JSON document with the ledger's proofs, and as a page to print.
package reports

import (
	"bytes"
	"context"
	_ "embed"
	"fmt"
	"html/template"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/rotate"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/service/routing"
	"mossledger.example/moss/internal/store"
)

// ReportStep is a step of a rotation with what came of it.
type ReportStep struct {
	Number int       `json:"number"`
	Title  string    `json:"title"`
	System string    `json:"system,omitempty"`
	Status string    `json:"status"`
	Words  string    `json:"words,omitempty" doc:"The system's own words"`
	Begun  time.Time `json:"begun,omitzero"`
	Ended  time.Time `json:"ended,omitzero"`
}

// RotationReport is all that is known of a rotation.
type RotationReport struct {
	Made          time.Time              `json:"made"`
	MadeFor       string                 `json:"made_for"`
	Rotation      records.Rotation       `json:"rotation"`
	Outcome       string                 `json:"outcome" doc:"In a sentence"`
	Proven        string                 `json:"proven,omitempty" doc:"What is known of its dependents, the weakest first"`
	NotCovered    []string               `json:"not_covered" nullable:"false" doc:"What was known before it began and is not as one would wish, or stands outside its plan"`
	Steps         []ReportStep           `json:"steps" nullable:"false"`
	Interruptions []records.Interruption `json:"interruptions" nullable:"false"`
	Look          *records.Look          `json:"look,omitempty" doc:"The later look at it"`
	Evidence      records.Evidence       `json:"evidence" doc:"What the ledger says of it, entry by entry, with the proof of each"`
}

// BatchReport is all that is known of a batch.
type BatchReport struct {
	Made     time.Time           `json:"made"`
	MadeFor  string              `json:"made_for"`
	Batch    records.Batch       `json:"batch"`
	Outcome  string              `json:"outcome" doc:"In a sentence"`
	Items    []records.BatchItem `json:"items" nullable:"false"`
	Evidence records.Evidence    `json:"evidence" doc:"What the ledger says of it; each of its rotations has a report of its own"`
}

// Needs are what reports are made of.
type Needs struct {
	Store     *store.Store
	Rotations func() *rotate.Rotations
	Now       func() time.Time
}

// Register registers the operations.
func Register(r *routing.Router, n Needs) {
	routing.Add(r, http.MethodGet, "/rotations/{id}/report", "get-rotation-report", "Everything about a rotation, for an auditor, with the ledger's proofs", func(ctx context.Context, in *routing.IDInput) (*routing.Body[RotationReport], error) {
		return routing.Answer(n.rotation(ctx, records.RotationID(in.ID)))
	})
	routing.Add(r, http.MethodGet, "/batches/{id}/report", "get-batch-report", "Everything about a batch, for an auditor, with the ledger's proofs", func(ctx context.Context, in *routing.IDInput) (*routing.Body[BatchReport], error) {
		return routing.Answer(n.batch(ctx, records.BatchID(in.ID)))
	})
	addPage(r, "/rotations/{id}/report.html", "get-rotation-page", "The report of a rotation as a page to print", func(ctx context.Context, id int64) ([]byte, error) {
		v, err := n.rotation(ctx, records.RotationID(id))
		return page("rotation", v, err)
	})
	addPage(r, "/batches/{id}/report.html", "get-batch-page", "The report of a batch as a page to print", func(ctx context.Context, id int64) ([]byte, error) {
		v, err := n.batch(ctx, records.BatchID(id))
		return page("batch", v, err)
	})
}

type document struct {
	ContentType string `header:"Content-Type"`
	Policy      string `header:"Content-Security-Policy"`
	Body        []byte
}

func addPage(r *routing.Router, path, operation, summary string, make func(ctx context.Context, id int64) ([]byte, error)) {
	op := routing.Describe(http.MethodGet, path, operation, summary)
	op.Responses = map[string]*huma.Response{"200": {Description: "OK", Content: map[string]*huma.MediaType{"text/html": {Schema: &huma.Schema{Type: huma.TypeString}}}}}
	huma.Register(r.API, op, func(ctx context.Context, in *routing.IDInput) (*document, error) {
		raw, err := make(ctx, in.ID)
		if err != nil {
			return nil, r.Problem(err)
		}
		// It stands alone: nothing of it runs, and nothing is fetched.
		return &document{ContentType: "text/html; charset=utf-8", Policy: "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'", Body: raw}, nil
	})
}

//go:embed report.html
var source string

var pages = template.Must(template.New("").Funcs(template.FuncMap{
	"time": func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.UTC().Format("2006-01-02 15:04:05 UTC")
	},
	"seconds": func(ms int64) string { return fmt.Sprintf("%.1f s", float64(ms)/1000) },
}).Parse(source))

func page(name string, v any, err error) ([]byte, error) {
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	err = pages.ExecuteTemplate(&out, name, v)
	return out.Bytes(), err
}

func (n Needs) rotation(ctx context.Context, id records.RotationID) (RotationReport, error) {
	r, state, journal, err := n.Rotations().State(ctx, id)
	if err != nil {
		return RotationReport{}, err
	}
	out := RotationReport{Made: n.Now().UTC(), MadeFor: routing.Who(ctx).Name, Rotation: r, Steps: stepsOf(r, state, journal), Proven: state.Proof().String(), Interruptions: []records.Interruption{}}
	out.NotCovered = notCovered(r.Plan.Notes)
	out.Outcome = outcome(r)
	list, err := n.Store.Interruptions(ctx, id)
	if err != nil {
		return out, err
	}
	out.Interruptions = append(out.Interruptions, list...)
	if look, err := n.Store.Look(ctx, id); err == nil {
		out.Look = &look
	}
	out.Evidence, err = n.Store.LedgerEvidence(ctx, app.RotationTopic(id))
	return out, err
}

func (n Needs) batch(ctx context.Context, id records.BatchID) (BatchReport, error) {
	v, err := n.Store.Batch(ctx, id)
	if err != nil {
		return BatchReport{}, err
	}
	out := BatchReport{Made: n.Now().UTC(), MadeFor: routing.Who(ctx).Name, Batch: v, Items: []records.BatchItem{}}
	items, err := n.Store.ItemsOf(ctx, id)
	if err != nil {
		return out, err
	}
	out.Items = append(out.Items, items...)
	out.Outcome = fmt.Sprintf("%d of %d credentials were rotated as asked; %d ended otherwise, %d did not pass their rehearsal, %d were not begun", v.Done, v.Total, v.Failed, v.Blocked, v.Ready+v.Waiting+v.Rotating)
	out.Evidence, err = n.Store.LedgerEvidence(ctx, fmt.Sprintf("batch/%d", id))
	return out, err
}

// notCovered are the notes of a plan that an auditor has to weigh: all but what is only
// worth knowing.
func notCovered(notes []rotation.Note) []string {
	out := []string{}
	for _, n := range notes {
		if n.Kind != rotation.NoteInfo && n.Kind != rotation.NoteOverlap {
			out = append(out, n.String())
		}
	}
	return out
}

// outcome says what came of a rotation, and no more than its plan can prove.
func outcome(r records.Rotation) string {
	assigned := r.Plan.Kind == rotation.KindAssign
	var words string
	switch {
	case r.Mode != string(rotation.ModeFinished):
		return "it has not ended: it is " + r.Mode
	case r.Result == rotation.FinishedDone && assigned:
		words = "every dependent of its plan was given the account with its current value, and that was proven"
	case r.Result == rotation.FinishedDone && r.Plan.Turn != nil:
		words = r.Plan.Turn.Account + ", with a new value, has taken the place of " + r.Credential + " in every place of its plan, which rests; and that was proven"
	case r.Result == rotation.FinishedUndone && r.Plan.Turn != nil:
		return "it was undone: " + r.Credential + " works as before with its value, " + r.Plan.Turn.Account + " rests, and that was proven"
	case r.Result == rotation.FinishedDone:
		words = "the credential was changed in every place of its plan, and that was proven"
	case r.Result == rotation.FinishedUndone && assigned:
		return "it was undone: its dependents have what they had before, and that was proven"
	case r.Result == rotation.FinishedUndone:
		return "it was undone: the former value is in force, and that was proven"
	case r.Result == rotation.FinishedUndoFailed:
		return "it could not be undone everywhere: the steps say where"
	case assigned:
		words = "dependents were given the account with its current value, and some steps failed: they say which"
	case r.Plan.Turn != nil:
		words = r.Plan.Turn.Account + " has a new value and may sign in beside " + r.Credential + ", and some steps failed: they say which"
	default:
		words = "the credential was changed, and some steps failed: they say which"
	}
	if n := len(notCovered(r.Plan.Notes)); n == 1 {
		words += "; 1 thing was known before that it does not cover"
	} else if n > 1 {
		words += fmt.Sprintf("; %d things were known before that it does not cover", n)
	}
	return words
}

// stepsOf are the steps in their order, with when each was begun and ended last.
func stepsOf(r records.Rotation, state rotation.State, journal []rotation.Record) []ReportStep {
	begun, ended := map[int]time.Time{}, map[int]time.Time{}
	for _, j := range journal {
		switch j.Event {
		case rotation.EventIntent:
			begun[j.Step], ended[j.Step] = j.Time, time.Time{}
		case rotation.EventOutcome, rotation.EventProbed:
			ended[j.Step] = j.Time
		}
	}
	out := []ReportStep{}
	for i, s := range r.Plan.Steps {
		if s.Kind == rotation.StepAll {
			continue
		}
		out = append(out, ReportStep{Number: len(out) + 1, Title: s.Title(), System: s.System, Status: string(state.Steps[i].Status), Words: state.Steps[i].Words, Begun: begun[i], Ended: ended[i]})
	}
	return out
}
