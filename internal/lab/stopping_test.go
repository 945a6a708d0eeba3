package lab_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/lab"
)

// What a real init says of who needs a unit, and of what starts it again, decides whether
// it is stopped by itself.
func TestUnitsThatCannotBeStoppedByThemselves(t *testing.T) {
	h := lab.NewHost(t, "stops", 44)
	const sleeps = "\n[Service]\nExecStart=/bin/sleep infinity\n"
	for name, text := range map[string]string{
		"base.service": "[Unit]" + sleeps, "needs.service": "[Unit]\nRequires=base.service\nAfter=base.service" + sleeps,
		"asked.service": "[Unit]" + sleeps, "asked.socket": "[Socket]\nListenStream=/run/asked.sock\n",
		"due.service": "[Unit]" + sleeps, "due.timer": "[Timer]\nOnCalendar=*-*-* 04:00:00\n",
		"part.service": "[Unit]\nPartOf=whole.service" + sleeps, "whole.service": "[Unit]" + sleeps,
		"alone.service": "[Unit]\nAfter=base.service\nWants=base.service" + sleeps,
	} {
		h.Write(t, "/etc/systemd/system/"+name, text, 0o644)
	}
	h.Boot(t)
	h.Shell(t, "systemctl daemon-reload; systemctl start base needs asked.socket asked due.timer due whole part alone")
	c, target := unixhost.Connector{}, h.Target()
	active := func(unit string) string {
		state, err := c.UnitState(t.Context(), target, estate.Place{Kind: estate.DependentUnit, Place: unit})
		require.NoError(t, err)
		return state.Active
	}
	at := func(unit string) estate.Place { return estate.Place{Kind: estate.DependentUnit, Place: unit} }
	for unit, words := range map[string]string{
		"base.service": "needs.service needs it, runs, and would go down with it", "asked.service": "asked.socket starts it again whenever it is asked",
		"due.service": "due.timer starts it again whenever it is asked", "whole.service": "part.service needs it, runs, and would go down with it",
	} {
		_, err := c.Stop(t.Context(), target, at(unit))
		assert.ErrorContains(t, err, words, unit)
		assert.False(t, connect.IsUnclear(err), unit)
		assert.Equal(t, "active", active(unit))
		lines := c.Rehearse(t.Context(), target, []connect.Intention{{Stop: at(unit)}})
		require.Len(t, lines, 3)
		assert.Equal(t, connect.CheckFailed, lines[1].Result, unit)
		assert.Contains(t, lines[1].Words, words)
	}
	lines := c.Rehearse(t.Context(), target, []connect.Intention{{Stop: at("base.service"), Along: []estate.Place{at("needs.service"), at("base.service")}}})
	assert.Equal(t, connect.CheckOK, lines[1].Result, "what needs it is stopped as well: %+v", lines[1])
	for _, unit := range []string{"alone.service", "needs.service", "base.service"} {
		words, err := c.Stop(t.Context(), target, at(unit))
		require.NoError(t, err, unit)
		assert.Equal(t, "stopped", words)
		assert.Equal(t, "inactive", active(unit))
		words, err = c.Stop(t.Context(), target, at(unit))
		require.NoError(t, err, unit)
		assert.Equal(t, "it is inactive already", words)
	}
	_, err := c.Restart(t.Context(), target, at("base.service"))
	require.NoError(t, err)
	assert.Equal(t, "active", active("base.service"))
}
