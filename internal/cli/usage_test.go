package cli

import (
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/guidance"
)

// words splits an example as a shell does, as far as examples need it.
func words(line string) (out []string) {
	word, quoted, any := "", ' ', false
	for _, r := range line {
		switch {
		case quoted == r && r != ' ':
			quoted = ' '
		case (r == '\'' || r == '"') && quoted == ' ':
			quoted, any = r, true
		case r == ' ' && quoted == ' ':
			if word != "" || any {
				out = append(out, word)
			}
			word, any = "", false
		default:
			word += string(r)
		}
	}
	if word != "" || any {
		out = append(out, word)
	}
	return out
}

// Every command has an example, and every example is one that its command takes: its
// flags are there, its arguments are as many as are wanted.
func TestExamples(t *testing.T) {
	root := New("test")
	tried := 0
	guidance.Each(root, func(cmd *cobra.Command) {
		if cmd.HasSubCommands() || cmd.Name() == "help" || cmd.Parent() != nil && cmd.Parent().Name() == "completion" {
			return
		}
		if !assert.NotEmpty(t, cmd.Example, cmd.CommandPath()) {
			return
		}
		for line := range strings.Lines(cmd.Example) {
			line = strings.TrimSpace(line)
			if _, after, piped := strings.Cut(line, "| "); piped {
				line = after
			}
			line, _, _ = strings.Cut(line, " > ")
			if !strings.HasPrefix(line, "moss ") {
				continue
			}
			tried++
			fresh := New("test")
			found, rest, err := fresh.Find(words(line)[1:])
			require.NoError(t, err, line)
			assert.Equal(t, cmd.CommandPath(), found.CommandPath(), line)
			require.NoError(t, found.ParseFlags(rest), line)
			require.NoError(t, found.ValidateArgs(found.Flags().Args()), line)
			require.NoError(t, found.ValidateRequiredFlags(), line)
			require.NoError(t, found.ValidateFlagGroups(), line)
		}
	})
	assert.Greater(t, tried, 60)
	for path := range guidance.Examples {
		found, _, err := root.Find(strings.Fields(path))
		require.NoError(t, err, path)
		assert.Equal(t, "moss "+path, found.CommandPath(), "an example of no command")
	}
}

// What is wrong with a command line is said by name, with what to write.
func TestWrongCommandLines(t *testing.T) {
	server := httptest.NewServer(recorded(t))
	defer server.Close()
	for line, want := range map[string]string{
		"account show":                             "ACCOUNT is missing: it is written 'moss account show ACCOUNT'",
		"account show a b":                         `"b" is one argument too many: it is written 'moss account show ACCOUNT'`,
		"system option set":                        "FIELD=VALUE and OPTION=SETTING is missing",
		"system add quay7 --port abc":              `--port takes a whole number, not "abc"`,
		"rotate run svc-berth":                     "give --reason",
		"rotate run svc-berth --patience x":        `--patience takes a duration such as 30m or 2h, not "x"`,
		"account list --fliter a=b":                "there is no flag --fliter; did you mean --filter?",
		"account lsit":                             `there is no command "lsit"; did you mean list?`,
		"system change quay1":                      "nothing to change: give --address",
		"system change quay1 --kind redis":         "the kind of a system cannot be changed",
		"user change odile --enable --disable":     "--disable and --enable cannot be given together",
		"custody take a --reset --password-file x": "--password-file and --reset cannot be given together",
		"account list --color pink":                `--color takes auto, always or never, not "pink"`,
		"finding list --watch=10ms":                "--watch takes a second at least",
		"finding list --watch -o json":             "it shows tables only",
		"rotate show abc":                          `"abc" is not the number of a rotation: see 'moss rotate list'`,
		"system approve-keys":                      "give --known-hosts",
	} {
		code, out, told := run(t, server.URL, "a-token", strings.Fields(line)...)
		assert.Equal(t, api.ExitUsage, code, "%s: %s", line, told)
		assert.Contains(t, told, want, line)
		assert.Empty(t, out, line)
		assert.NotContains(t, told, "strconv", line)
	}
}
