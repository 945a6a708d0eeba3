package output

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"

	goccy "github.com/goccy/go-yaml"
	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	older "gopkg.in/yaml.v2"
)

// words that parsers take for something else, or terminals and spreadsheets act on.
var words = []string{
	"", "plain", "yes", "No", "on", "OFF", "y", "N", "true", "False", "null", "~", "NULL", "12", "012", "0x1f", "0o17", "1_000", "1e3", "1.5", ".5", "-.inf", ".nan", "+1", "12:30", "12:30:45", "190:20:30.15",
	"2026-01-02", "2026-01-02T03:04:05Z", "=cmd|' /C calc'!A0", "+1+1", "-2", "@SUM(A1)", "\tlead", "\rlead", "a\nb", "a\r\nb", "trail ", " lead", "a: b", "a #b", "#c", "- d", "? e", "!f", "&g", "*h", "|", ">", "%i", "`j`", "@k",
	"{l}", "[m]", "n,o", `p"q`, "r's", "\\", "<<", "=", "---", "...", "\x1b[31mred", "\x07bell", "\u009b31m", "\u202egnp.exe", "\u2066hidden\u2069", "\u200bzero", "a\u2028b", "e\u0301", "日本語", "😀", "\u00a0", "\ufeff", "key: [", "'", `"`, "''",
}

func word(r *rand.Rand) string {
	out := words[r.IntN(len(words))]
	if r.IntN(3) == 0 {
		out += words[r.IntN(len(words))]
	}
	return out
}

// What is written as YAML is read as what it is, by a parser of YAML 1.2 and by one
// of YAML 1.1.
func TestYAMLIsReadByOthers(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 23))
	columns := []Column{{"A", "a"}}
	for range 3000 {
		// As it comes from the API: numbers keep their text.
		asked := map[string]any{"items": []any{map[string]any{"a": word(r), "n": r.IntN(1 << 40), "f": r.Float64(), "b": r.IntN(2) == 0, "none": nil, "list": []any{word(r), word(r)}, "of": map[string]any{"k": word(r)}}}}
		raw, err := json.Marshal(asked)
		require.NoError(t, err)
		var all any
		d := json.NewDecoder(bytes.NewReader(raw))
		d.UseNumber()
		require.NoError(t, d.Decode(&all))
		var out bytes.Buffer
		require.NoError(t, Write(&out, "yaml", columns, nil, all))
		for name, read := range map[string]func([]byte, any) error{
			"1.2": func(b []byte, v any) error { return goccy.Unmarshal(b, v) },
			"1.1": older.Unmarshal,
		} {
			var v any
			require.NoError(t, read(out.Bytes(), &v), "%s\n%s", name, out.String())
			require.Equal(t, plainOf(asked), plainOf(v), "%s\n%s", name, out.String())
		}
	}
}

// plainOf makes values of different parsers comparable: texts, truth values and
// numbers as they print, with what they are.
func plainOf(v any) any {
	switch v := v.(type) {
	case map[string]any:
		out := map[string]any{}
		for k, e := range v {
			out[k] = plainOf(e)
		}
		return out
	case map[any]any:
		out := map[string]any{}
		for k, e := range v {
			out[fmt.Sprint(k)] = plainOf(e)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, e := range v {
			out[i] = plainOf(e)
		}
		return out
	case string:
		return "text " + v
	case float64:
		return fmt.Sprintf("number %.6g", v)
	case int, int64, uint64:
		return fmt.Sprintf("number %.6g", toFloat(v))
	}
	return fmt.Sprintf("%T %v", v, v)
}

func toFloat(v any) float64 {
	var f float64
	_, _ = fmt.Sscan(fmt.Sprint(v), &f)
	return f
}

// A spreadsheet takes nothing for a formula, and a program reads back what stood
// there, behind one mark where there is one.
func TestCSVIsReadByOthers(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 23))
	for range 3000 {
		text := word(r)
		var out bytes.Buffer
		require.NoError(t, Write(&out, "csv", []Column{{"A", "a"}, {"B", "b"}}, []Row{{"a": text, "b": "x"}}, nil))
		read := csv.NewReader(&out)
		rows, err := read.ReadAll()
		require.NoError(t, err)
		require.Equal(t, []string{"a", "b"}, rows[0])
		got := rows[1][0]
		want := strings.ReplaceAll(Show(text), "\r\n", "\n") // RFC 4180 readers take line ends as one
		if got != want {
			require.Equal(t, "'"+want, got)
		}
		if got != "" {
			require.NotContains(t, "=+-@\t\r", got[:1], "%q", got)
		}
	}
}

// Nothing foreign moves the cursor, changes colours, rings, hides or turns text
// around on a terminal.
func TestTablesAreSafe(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 23))
	for range 2000 {
		rows := []Row{{"a": word(r), "b": []any{word(r), word(r)}}, {"a": word(r), "b": map[string]any{"k": word(r)}}}
		var out bytes.Buffer
		Table(&out, []Column{{"A", "a"}, {"B", "b"}}, rows)
		lines := strings.Split(strings.TrimSuffix(out.String(), "\n"), "\n")
		require.Len(t, lines, 3, "one line a row: %q", out.String())
		for _, c := range out.String() {
			bad := c != '\n' && (unicode.IsControl(c) || unicode.In(c, unicode.Cf, unicode.Zl, unicode.Zp))
			require.False(t, bad, "%U in %q", c, out.String())
		}
	}
	assert.Equal(t, "a·b", Safe("a\u2067b"))
}

// Tables fit the terminal: the widest columns get shorter first, the last ones are
// left out when nothing else helps, and a pipe gets everything.
func TestTablesFit(t *testing.T) {
	columns := []Column{{"ID", "id"}, {"NAME", "name"}, {"SYSTEM", "system"}, {"STATE", "state"}, {"PLACE", "place"}, {"DESCRIPTION", "description"}}
	rows := []Row{
		{"id": "7", "name": "svc-berth", "system": "larkmoor-directory", "state": "accepted", "place": "/etc/berth/" + strings.Repeat("x", 60), "description": "Berth boards at the quays"},
		{"id": "12345", "name": strings.Repeat("n", 90), "system": "quay1", "state": "failed", "place": "y", "description": strings.Repeat("d", 200)},
	}
	for _, width := range []int{40, 80, 120, 200} {
		var out, remarks bytes.Buffer
		Table(&Screen{Writer: &out, Width: width, Remarks: &remarks}, columns, rows)
		for line := range strings.Lines(out.String()) {
			assert.LessOrEqual(t, utf8.RuneCountInString(strings.TrimRight(line, "\n")), width, line)
		}
		assert.Contains(t, out.String(), "12345", "a number is never cut at %d", width)
		assert.Contains(t, out.String(), "svc-berth")
		if width == 40 {
			assert.Contains(t, remarks.String(), "--wide shows all")
			assert.NotContains(t, out.String(), "DESCRIPTION")
		} else {
			assert.Empty(t, remarks.String())
			assert.Contains(t, out.String(), "DESCRIPTION")
		}
	}
	var piped bytes.Buffer
	Table(&piped, columns, rows)
	assert.Contains(t, piped.String(), strings.Repeat("d", 200))
	var lines bytes.Buffer
	require.NoError(t, Write(&Screen{Writer: &lines, Width: 20, Colour: true}, "csv", columns, rows, rows))
	assert.Contains(t, lines.String(), strings.Repeat("n", 90), "CSV is never cut, and never coloured")
	assert.NotContains(t, lines.String(), "\x1b")
}

// Colours stand on words of states only, and only where somebody looks.
func TestColours(t *testing.T) {
	columns := []Column{{"NAME", "name"}, {"STATE", "state"}}
	rows := []Row{{"name": "failed", "state": "failed"}, {"name": "x", "state": "ok"}, {"name": "y", "state": "whatever"}}
	var out bytes.Buffer
	Table(&Screen{Writer: &out, Colour: true}, columns, rows)
	assert.Equal(t, "NAME    STATE\nfailed  \x1b[31mfailed\x1b[0m\nx       \x1b[32mok\x1b[0m\ny       whatever\n", out.String())
	out.Reset()
	Table(&Screen{Writer: &out}, columns, rows)
	assert.NotContains(t, out.String(), "\x1b")
}

// What a terminal is, and what people set, decides.
func TestScreens(t *testing.T) {
	screen := func(env map[string]string, words ...string) (*Screen, error) {
		var s *Screen
		root := &cobra.Command{Use: "moss", SilenceErrors: true, SilenceUsage: true}
		Screens(root)
		root.PersistentPreRunE = nil
		root.RunE = func(cmd *cobra.Command, _ []string) (err error) {
			s, err = screenOf(cmd, func(name string) string { return env[name] })
			return err
		}
		root.SetOut(&bytes.Buffer{})
		root.SetErr(&bytes.Buffer{})
		root.SetArgs(words)
		return s, root.Execute()
	}
	s, err := screen(nil)
	require.NoError(t, err)
	assert.Equal(t, [2]any{0, false}, [2]any{s.Width, s.Colour}, "a buffer is no terminal")
	s, err = screen(map[string]string{"COLUMNS": "80"})
	require.NoError(t, err)
	assert.Equal(t, 80, s.Width)
	s, err = screen(map[string]string{"COLUMNS": "80", "NO_COLOR": "1"}, "--wide", "--color=always", "-q")
	require.NoError(t, err)
	assert.Equal(t, [3]any{0, true, true}, [3]any{s.Width, s.Colour, s.Quiet}, "what is written on the line counts most")
	_, err = screen(nil, "--color=pink")
	assert.Error(t, err)
}
