package configuration

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/lab"
)

func sample() document {
	return document{
		"rules": {}, "orders": {}, "recipients": {"duty": {"kind": "webhook", "address": "https://duty.larkmoor.example/: #moss", "least": "error", "trusted_ca": "-----BEGIN CERTIFICATE-----\nMII\n-----END CERTIFICATE-----\n", "events": []any{"rotation.*"}}},
		"windows":      {"nights": {"rule": "FREQ=DAILY", "begins": "2026-11-28T22:00", "zone": "Europe/Oslo", "minutes": float64(240), "dependents": []any{map[string]any{"system": "quay1", "place": "berth.service"}}}},
		"policies":     {"monthly": {"precedence": float64(100), "every_days": float64(30), "window": "nights", "first_alone": true, "without": `l1"IO0: {`}, "no": {"precedence": float64(1), "description": "yes"}},
		"requirements": {"quay": {"label": "quay", "hours": float64(24)}},
	}
}

// What is written is read back the same, is the same text each time, and says nothing of what
// the service works out by itself.
func TestWrittenAndReadBack(t *testing.T) {
	raw, err := write(sample())
	require.NoError(t, err)
	back, err := parse(raw)
	require.NoError(t, err, string(raw))
	assert.Equal(t, sample(), back)
	for range 10 {
		again, err := write(sample())
		require.NoError(t, err)
		require.Equal(t, string(raw), string(again))
	}
	row := map[string]any{"id": 7.0, "name": "quay", "revision": 3.0, "changed": "2026-11-28", "label": "quay", "unread": false, "kinds": []any{}, "hours": 24.0}
	assert.Equal(t, map[string]any{"label": "quay", "hours": 24.0}, decided(sections[4], row))
}

// A reader of YAML that others wrote sees the same values: what looks like a number or a
// word that means yes is not one where it was text.
func TestOthersReadIt(t *testing.T) {
	if err := exec.CommandContext(t.Context(), "python3", "-c", "import yaml").Run(); err != nil {
		lab.LeaveOut(t, "python3 with yaml is not here: 'make lab' gets it")
	}
	raw, err := write(sample())
	require.NoError(t, err)
	cmd := exec.CommandContext(t.Context(), "python3", "-c", "import sys,yaml,json; print(json.dumps(yaml.safe_load(sys.stdin.read())))")
	stdin, err := cmd.StdinPipe()
	require.NoError(t, err)
	go func() { defer stdin.Close(); _, _ = stdin.Write(raw) }()
	out, err := cmd.Output()
	require.NoError(t, err)
	want := map[string]any{"format": Format}
	for name, list := range sample() {
		want[name] = list
	}
	plain, err := plainOf(want)
	require.NoError(t, err)
	got, err := plainOf(jsonText(out))
	require.NoError(t, err)
	assert.Equal(t, plain, got)
}

// jsonText is JSON as it stands.
type jsonText []byte

func (j jsonText) MarshalJSON() ([]byte, error) { return j, nil }

func TestFilesThatCannotBeRead(t *testing.T) {
	for text, words := range map[string]string{
		"":                "its format is",
		"format: other\n": `its format is "other"`,
		"{":               "it is no YAML",
		"format: moss-configuration-1\nwindow: {}\n":                            "window: there is no such part",
		"format: moss-configuration-1\nwindows:\n  nights:\n    minuts: 240\n":  "windows nights: minuts is none of its fields",
		"format: moss-configuration-1\nwindows: [nights]\n":                     "names with what was decided of each",
		"format: moss-configuration-1\nwindows:\n  nights: 5\n":                 "windows nights: fields and their values",
		"format: moss-configuration-1\nrecipients:\n  duty:\n    secret: fog\n": "secret is none of its fields",
	} {
		_, err := parse([]byte(text))
		require.Error(t, err, text)
		assert.ErrorContains(t, err, words, text)
	}
	d, err := parse([]byte("format: moss-configuration-1\nwindows:\n"))
	require.NoError(t, err)
	assert.Equal(t, document{"windows": things{}}, d, "a part that is named and empty is to be empty")
}

func FuzzParse(f *testing.F) {
	raw, err := write(sample())
	require.NoError(f, err)
	f.Add(string(raw))
	f.Add("format: moss-configuration-1\nwindows:\n  nights:\n")
	f.Add("a: &a [*a]")
	f.Fuzz(func(t *testing.T, text string) {
		d, err := parse([]byte(text))
		if err != nil {
			return
		}
		again, err := write(d)
		require.NoError(t, err)
		back, err := parse(again)
		require.NoError(t, err, string(again))
		once, err := write(back)
		require.NoError(t, err)
		require.Equal(t, string(again), string(once))
	})
}
