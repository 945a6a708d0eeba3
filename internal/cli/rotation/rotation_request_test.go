package rotation

import (
	"encoding/json"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/cli/api"
)

// What a line asks of the service, and what is refused before it is asked.
func TestWhatIsAskedOfARotation(t *testing.T) {
	for line, c := range map[string]struct {
		args []string
		want string
		told string
	}{
		"nothing":          {nil, `{"on_failure":"undo","restart":"now","patience":1800}`, ""},
		"stop first":       {[]string{"--stop-first"}, `{"on_failure":"undo","restart":"now","patience":1800,"stop_first":true}`, ""},
		"reasons":          {[]string{"--no-acceptors", "none is left", "--on-failure", "stop"}, `{"on_failure":"stop","restart":"now","patience":1800,"no_acceptors":"none is left"}`, ""},
		"a key":            {[]string{"--key-type", "ssh-ed25519", "--start-down"}, `{"on_failure":"undo","restart":"now","patience":1800,"type":"ssh-ed25519","start":true}`, ""},
		"a window":         {[]string{"--window", "2026-11-24T02:00:00Z/2h"}, `{"on_failure":"undo","restart":"window","patience":1800,"not_before":"2026-11-24T02:00:00Z","not_after":"2026-11-24T04:00:00Z"}`, ""},
		"two times":        {[]string{"--window", "2026-11-24T02:00:00+02:00/2026-11-24T03:00:00Z", "--patience", "90s"}, `{"on_failure":"undo","restart":"window","patience":90,"not_before":"2026-11-24T02:00:00+02:00","not_after":"2026-11-24T03:00:00Z"}`, ""},
		"left running":     {[]string{"--restart", "leave"}, `{"on_failure":"undo","restart":"leave","patience":1800}`, ""},
		"no patience":      {[]string{"--patience", "10ms"}, "", "at least a second"},
		"no such time":     {[]string{"--window", "tonight/2h"}, "", `window "tonight/2h": write BEGIN/END`},
		"no end":           {[]string{"--window", "2026-11-24T02:00:00Z"}, "", "write BEGIN/END"},
		"no such length":   {[]string{"--window", "2026-11-24T02:00:00Z/soon"}, "", `"soon" is neither a time nor a duration`},
		"an end before it": {[]string{"--window", "2026-11-24T02:00:00Z/-2h"}, "", "neither a time nor a duration"},
	} {
		var r rotationRequest
		cmd := &cobra.Command{Use: "x"}
		r.register(cmd)
		r.keyFlag(cmd)
		require.NoError(t, cmd.ParseFlags(c.args), line)
		in, err := r.body(cmd)
		if c.told != "" {
			assert.ErrorContains(t, err, c.told, line)
			var exit *api.ExitError
			if assert.ErrorAs(t, err, &exit, line) {
				assert.Equal(t, api.ExitUsage, exit.Code, line)
			}
			continue
		}
		require.NoError(t, err, line)
		raw, err := json.Marshal(in)
		require.NoError(t, err)
		assert.JSONEq(t, c.want, string(raw), line)
	}
}
