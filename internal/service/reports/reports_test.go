package reports

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// A report says no more than what a rotation proved: not of an assignment that a value
// changed, and not of what was left that all was changed.
func TestOutcomes(t *testing.T) {
	left := rotation.Note{Kind: rotation.NoteLeft, Text: "/etc/fares.cnf on bookings1 keeps the former value"}
	latent := rotation.Note{Kind: rotation.NoteLatent, Text: "berth.service runs on with it"}
	info := rotation.Note{Kind: rotation.NoteInfo, Text: "a system that is away is waited for"}
	for name, c := range map[string]struct {
		mode, result string
		kind         rotation.PlanKind
		notes        []rotation.Note
		said         string
	}{
		"running":                 {"running", "", "", nil, "it has not ended: it is running"},
		"done":                    {"finished", "done", rotation.KindRotate, []rotation.Note{info}, "the credential was changed in every place of its plan, and that was proven"},
		"done, of an early plan":  {"finished", "done", "", nil, "the credential was changed in every place of its plan, and that was proven"},
		"done, and one left":      {"finished", "done", "", []rotation.Note{left, info}, "the credential was changed in every place of its plan, and that was proven; 1 thing was known before that it does not cover"},
		"done, and two":           {"finished", "done", "", []rotation.Note{left, info, latent}, "the credential was changed in every place of its plan, and that was proven; 2 things were known before that it does not cover"},
		"assigned":                {"finished", "done", rotation.KindAssign, nil, "every dependent of its plan was given the account with its current value, and that was proven"},
		"assigned, and undone":    {"finished", "undone", rotation.KindAssign, nil, "it was undone: its dependents have what they had before, and that was proven"},
		"assigned, with failures": {"finished", "done-with-failures", rotation.KindAssign, nil, "dependents were given the account with its current value, and some steps failed: they say which"},
		"undone":                  {"finished", "undone", "", []rotation.Note{left}, "it was undone: the former value is in force, and that was proven"},
		"not undone everywhere":   {"finished", "undo-incomplete", "", nil, "it could not be undone everywhere: the steps say where"},
		"with failures":           {"finished", "done-with-failures", "", nil, "the credential was changed, and some steps failed: they say which"},
	} {
		r := records.Rotation{ID: 1, Mode: c.mode, Result: c.result, Plan: rotation.Plan{Kind: c.kind, Notes: c.notes}}
		assert.Equal(t, c.said, outcome(r), name)
	}
	for result, said := range map[string]string{
		"done":               "fares_b, with a new value, has taken the place of fares_a in every place of its plan, which rests; and that was proven",
		"undone":             "it was undone: fares_a works as before with its value, fares_b rests, and that was proven",
		"done-with-failures": "fares_b has a new value and may sign in beside fares_a, and some steps failed: they say which",
		"undo-incomplete":    "it could not be undone everywhere: the steps say where",
	} {
		assert.Equal(t, said, outcome(records.Rotation{Credential: "fares_a", Mode: "finished", Result: result, Plan: rotation.Plan{Turn: &rotation.Successor{Account: "fares_b"}}}))
	}
	assert.Equal(t, []string{left.String(), latent.String()}, notCovered([]rotation.Note{left, info, latent}))
	assert.NotNil(t, notCovered(nil))
}

// What systems say is text on the page, whatever it looks like.
func TestThePageIsText(t *testing.T) {
	hostile := `<script>alert(1)</script><a href="javascript:x">`
	raw, err := page("rotation", RotationReport{Outcome: hostile, NotCovered: []string{hostile}, Steps: []ReportStep{{Number: 1, Title: hostile, Words: hostile}}, Rotation: records.Rotation{Credential: hostile, Reason: hostile}, Evidence: records.Evidence{Checkpoint: hostile}}, nil)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "<script>")
	assert.NotContains(t, string(raw), "<a href")
	assert.Contains(t, string(raw), "&lt;script&gt;alert(1)")
	raw, err = page("batch", BatchReport{Outcome: hostile, Batch: records.Batch{Chosen: hostile}, Items: []records.BatchItem{{Words: hostile}}}, nil)
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "<script>")
}
