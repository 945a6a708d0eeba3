package rotation_test

import (
	"github.com/stretchr/testify/require"

	. "mossledger.example/moss/internal/core/rotation"
)

// verify holds what the journal says against what is true.
func (e *world) verify(state State) {
	require.False(e.t, e.copiesHeld, "law 12: the authority was put back while a copy held the new value")
	for i, step := range e.plan.Steps {
		status := state.Steps[i].Status
		a := e.auths[doorOf(step)]
		switch {
		case step.Kind == StepChange && status == Done:
			require.True(e.t, a.accepts("new"))
		case step.Kind == StepChange && status == Undone:
			require.True(e.t, a.only("old"))
		case step.Kind == StepRetire && status == Done:
			require.False(e.t, a.accepts("old"))
		case step.Kind == StepReplace && step.Adds():
		case step.Kind == StepReplace && status == Done:
			require.Equal(e.t, "new", e.files[i])
		case step.Kind == StepReplace && status == Undone:
			require.Equal(e.t, "old", e.files[i])
		case step.Kind == StepLogOn && status == Done:
			require.Equal(e.t, "new", e.kept[i])
		case step.Kind == StepLogOn && status == Undone:
			require.Equal(e.t, "old", e.kept[i])
		}
		if state.Mode == ModeFinished {
			require.NotContains(e.t, []Status{Doing, Undoing}, status, "nothing is left unknown without saying so")
		}
	}
	want := map[string]string{FinishedDone: "new", FinishedUndone: "old"}[state.Result]
	if want == "" {
		return
	}
	for _, a := range e.auths {
		require.True(e.t, a.only(want), "it accepts %q and %q", a.auth, a.also)
	}
	e.verifyTabs(want)
	for i, v := range e.files {
		require.Equal(e.t, want, v, "file of step %d", i)
	}
	for i, v := range e.kept {
		require.Equal(e.t, want, v, "log-on of step %d", i)
	}
	for i, u := range e.units {
		require.True(e.t, u.active, "unit of step %d runs", i)
		if u.value != "" || e.plan.Steps[i].Subject != "sign" {
			require.Equal(e.t, want, u.value, "unit of step %d", i)
		}
	}
}
