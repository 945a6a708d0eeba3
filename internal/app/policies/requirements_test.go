package policies

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/records"
)

// For which rotations a second person is needed: all that a requirement says must hold.
func TestWhatRequires(t *testing.T) {
	plan := rotation.Plan{Steps: []rotation.Step{
		{Kind: rotation.StepChange}, {Kind: rotation.StepRestart, Subject: "a"}, {Kind: rotation.StepRestart, Subject: "b", Dependent: estate.DependentService}, {Kind: rotation.StepRestart, Subject: "c", Dependent: estate.DependentService}, {Kind: rotation.StepReplace},
	}}
	quay := map[string]bool{"quay": true, "tides": false}
	for name, c := range map[string]struct {
		r      records.Requirement
		unread int
		holds  bool
		words  string
	}{
		"label":                {records.Requirement{Label: "quay"}, 0, true, "label quay"},
		"label kept away":      {records.Requirement{Label: "tides"}, 0, false, ""},
		"another label":        {records.Requirement{Label: "crew"}, 0, false, ""},
		"so many restarts":     {records.Requirement{Restarts: 3}, 0, true, "3 restarts"},
		"fewer":                {records.Requirement{Restarts: 4}, 0, false, ""},
		"of a kind":            {records.Requirement{Restarts: 2, Kinds: []string{"service"}}, 0, true, "2 restarts"},
		"fewer of a kind":      {records.Requirement{Restarts: 2, Kinds: []string{"unit"}}, 0, false, ""},
		"unit without a kind":  {records.Requirement{Restarts: 1, Kinds: []string{"unit"}}, 0, true, "1 restarts"},
		"all is read":          {records.Requirement{Unread: true}, 0, false, ""},
		"not all is read":      {records.Requirement{Unread: true}, 2, true, "2 systems are not read"},
		"label and unread":     {records.Requirement{Label: "quay", Unread: true, Restarts: 1}, 1, true, "label quay, 3 restarts, 1 systems are not read"},
		"label, but all read":  {records.Requirement{Label: "quay", Unread: true}, 0, false, ""},
		"unread, but no label": {records.Requirement{Label: "crew", Unread: true}, 5, false, ""},
	} {
		words, holds := requires(c.r, quay, plan, c.unread)
		assert.Equal(t, []any{c.holds, c.words}, []any{holds, words}, name)
	}
}

func TestRequirementsThatCannotBe(t *testing.T) {
	for words, v := range map[string]records.Requirement{
		"cannot be the name": {Name: "Two People", Label: "quay"}, "say for which": {Name: "none"}, "say how many": {Name: "kinds", Label: "quay", Kinds: []string{"unit"}},
		"are not restarted": {Name: "files", Restarts: 2, Kinds: []string{"file"}}, "1 to 720 hours": {Name: "long", Label: "quay", Hours: 721}, "not below 0": {Name: "less", Label: "quay", Restarts: -1}, "label": {Name: "odd", Label: "Not One"},
	} {
		require.ErrorIs(t, checkRequirement(&v), app.ErrInput, words)
		assert.ErrorContains(t, checkRequirement(&v), words)
	}
	v := records.Requirement{Name: "quay", Restarts: 2, Kinds: []string{"unit", "service", "unit"}}
	require.NoError(t, checkRequirement(&v))
	assert.Equal(t, []any{usualHours, []string{"service", "unit"}}, []any{v.Hours, v.Kinds})
}
