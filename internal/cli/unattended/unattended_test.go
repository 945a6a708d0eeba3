package unattended

import (
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/cli/output"
)

// given parses a command line with some flags.
func given(t *testing.T, register func(*cobra.Command), words ...string) *cobra.Command {
	t.Helper()
	cmd := &cobra.Command{Use: "x"}
	register(cmd)
	require.NoError(t, cmd.ParseFlags(words))
	return cmd
}

func TestWindowOfFlags(t *testing.T) {
	yesterday := time.Now().AddDate(0, 0, -1).Format(time.DateOnly)
	before := output.Row{"rule": "FREQ=WEEKLY;BYDAY=SA", "begins": "2026-11-28T22:00", "zone": "UTC", "minutes": 60, "labels": []any{"boats"}, "systems": []any{"quay1"}, "dependents": []any{}, "revision": 3, "name": "nights", "open": true}
	for name, c := range map[string]struct {
		before output.Row
		words  []string
		want   map[string]any
		wrong  string
	}{
		"daily":             {nil, []string{"--at", "22:00", "--for", "4h", "--zone", "Europe/Oslo"}, map[string]any{"rule": "FREQ=DAILY", "begins": yesterday + "T22:00", "minutes": 240, "zone": "Europe/Oslo"}, ""},
		"on days":           {nil, []string{"--at", "02:30", "--for", "90m", "--zone", "UTC", "--days", "Saturday,sun"}, map[string]any{"rule": "FREQ=WEEKLY;BYDAY=SA,SU", "begins": yesterday + "T02:30", "minutes": 90, "zone": "UTC"}, ""},
		"by a rule":         {nil, []string{"--rule", "FREQ=MONTHLY;BYDAY=2SU", "--begins", "2026-12-13T02:00", "--for", "2h", "--zone", "UTC", "--system", "north1", "--dependent", "4"}, map[string]any{"rule": "FREQ=MONTHLY;BYDAY=2SU", "begins": "2026-12-13T02:00", "minutes": 120, "zone": "UTC", "systems": []string{"north1"}, "dependents": []map[string]any{{"id": int64(4)}}}, ""},
		"no day":            {nil, []string{"--at", "22:00", "--days", "someday"}, nil, `"someday" is no day`},
		"no time":           {nil, []string{"--at", "ten"}, nil, "write it like 22:00"},
		"never":             {nil, nil, nil, "say when it opens"},
		"no span":           {nil, []string{"--at", "22:00", "--for", "long"}, nil, "write it like 4h"},
		"only its labels":   {before, []string{"--label", "piers"}, map[string]any{"rule": "FREQ=WEEKLY;BYDAY=SA", "begins": "2026-11-28T22:00", "zone": "UTC", "minutes": 60, "labels": []string{"piers"}, "systems": []any{"quay1"}, "dependents": []any{}, "revision": 3}, ""},
		"only how long":     {before, []string{"--for", "2h"}, map[string]any{"rule": "FREQ=WEEKLY;BYDAY=SA", "begins": "2026-11-28T22:00", "zone": "UTC", "minutes": 120, "labels": []any{"boats"}, "systems": []any{"quay1"}, "dependents": []any{}, "revision": 3}, ""},
		"its days and hour": {before, []string{"--days", "mon", "--at", "01:00"}, map[string]any{"rule": "FREQ=WEEKLY;BYDAY=MO", "begins": yesterday + "T01:00", "zone": "UTC", "minutes": 60, "labels": []any{"boats"}, "systems": []any{"quay1"}, "dependents": []any{}, "revision": 3}, ""},
	} {
		var w windowFlags
		cmd := given(t, w.register, c.words...)
		in, err := w.body(cmd, c.before)
		if c.wrong != "" {
			require.ErrorContains(t, err, c.wrong, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, c.want, in, name)
	}
}

func TestPolicyOfFlags(t *testing.T) {
	before := output.Row{"label": "boats", "precedence": 7, "every_days": 30, "window": "nights", "first_alone": true, "revision": 2, "name": "nightly", "credentials": 4}
	for name, c := range map[string]struct {
		before output.Row
		words  []string
		want   map[string]any
		wrong  string
	}{
		"the least":       {nil, []string{"--every", "30d"}, map[string]any{"precedence": 100, "every_days": 30}, ""},
		"everything":      {nil, []string{"--every", "90d", "--label", "boats", "--precedence", "3", "--window", "nights", "--at-window-end", "undo", "--on-failure", "stop", "--restart", "leave", "--way", "overlap", "--first-alone", "--quiet-time", "2d", "--at-once", "9", "--patience", "90s", "--description", "x"}, map[string]any{"every_days": 90, "label": "boats", "precedence": 3, "window": "nights", "at_window_end": "undo", "on_failure": "stop", "restart": "leave", "way": "overlap", "first_alone": true, "quiet_hours": 48, "at_once": 9, "patience": 90, "description": "x"}, ""},
		"by a rule":       {nil, []string{"--rule", "FREQ=MONTHLY;BYDAY=1SU", "--begins", "2026-12-06T00:00", "--zone", "UTC", "--spread", "7"}, map[string]any{"precedence": 100, "rule": "FREQ=MONTHLY;BYDAY=1SU", "begins": "2026-12-06T00:00", "zone": "UTC", "spread": 7}, ""},
		"hours":           {nil, []string{"--every", "36h"}, nil, "write whole days"},
		"only how often":  {before, []string{"--every", "60d"}, map[string]any{"label": "boats", "precedence": 7, "every_days": 60, "window": "nights", "first_alone": true, "revision": 2}, ""},
		"now by a rule":   {before, []string{"--rule", "FREQ=DAILY", "--begins", "2026-12-06T00:00", "--zone", "UTC"}, map[string]any{"label": "boats", "precedence": 7, "rule": "FREQ=DAILY", "begins": "2026-12-06T00:00", "zone": "UTC", "window": "nights", "first_alone": true, "revision": 2}, ""},
		"certificates":    {nil, []string{"--renew-days", "21", "--window", "nights"}, map[string]any{"precedence": 100, "renew_days": 21, "window": "nights"}, ""},
		"now by ends":     {before, []string{"--renew-days", "21", "--label", ""}, map[string]any{"label": "", "precedence": 7, "renew_days": 21, "window": "nights", "first_alone": true, "revision": 2}, ""},
		"not by ends":     {output.Row{"renew_days": 21, "revision": 2}, []string{"--every", "30d"}, map[string]any{"precedence": 100, "every_days": 30, "revision": 2}, ""},
		"not alone, wide": {before, []string{"--first-alone=false", "--label", ""}, map[string]any{"label": "", "precedence": 7, "every_days": 30, "window": "nights", "first_alone": false, "revision": 2}, ""},
	} {
		var p policyFlags
		cmd := given(t, p.register, c.words...)
		in, err := p.body(cmd, c.before)
		if c.wrong != "" {
			require.ErrorContains(t, err, c.wrong, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, c.want, in, name)
	}
	p := policyFlags{pause: true}
	in, err := p.body(given(t, (&policyFlags{}).register), before)
	require.NoError(t, err)
	assert.Equal(t, true, in["paused"])
}

func TestOrderOfFlags(t *testing.T) {
	for text, want := range map[string]map[string]any{
		"quay*/berth*":    {"system": "quay*", "place": "berth*"},
		"quay1/*":         {"system": "quay1"},
		"*/berth.service": {"place": "berth.service"},
		"berth.service":   {"place": "berth.service"},
		"label:boats":     {"label": "boats"},
		"*/*":             {"system": "*"},
		`north1/\Tasks\*`: {"system": "north1", "place": `\Tasks\*`},
	} {
		assert.Equal(t, want, member(text), text)
	}
	before := output.Row{"kind": "group", "at_once": 2, "members": []any{"x"}, "revision": 1}
	var o orderFlags
	in := o.body(given(t, o.register, "--sequence", "a", "--sequence", "b/c"), before)
	assert.Equal(t, map[string]any{"kind": "sequence", "members": []map[string]any{{"place": "a"}, {"system": "b", "place": "c"}}, "revision": 1}, in)
	var only orderFlags
	in = only.body(given(t, only.register, "--at-once", "5"), before)
	assert.Equal(t, map[string]any{"kind": "group", "at_once": 5, "members": []any{"x"}, "revision": 1}, in)
	var fresh orderFlags
	in = fresh.body(given(t, fresh.register, "--group", "a"), nil)
	assert.Equal(t, map[string]any{"kind": "group", "at_once": 1, "members": []map[string]any{{"place": "a"}}}, in)
}
