// Package output writes what commands found out, as a table for people or as JSON,
// YAML or CSV for programs, and asks people for what is missing.
package output

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"

	"mossledger.example/moss/internal/cli/api"
)

// Formats of output.
var formats = []string{"table", "json", "yaml", "csv"}

// AddFlag gives a command the option that chooses its format.
func AddFlag(cmd *cobra.Command) {
	cmd.Flags().StringP("output", "o", "table", "table, json, yaml or csv")
	_ = cmd.RegisterFlagCompletionFunc("output", cobra.FixedCompletions(formats, cobra.ShellCompDirectiveNoFileComp))
}

// FormatOf is the format that was chosen.
func FormatOf(cmd *cobra.Command) (string, error) {
	format, err := cmd.Flags().GetString("output")
	if err != nil {
		return "", err
	}
	for _, known := range formats {
		if format == known {
			return format, nil
		}
	}
	return "", api.Exit(api.ExitUsage, fmt.Errorf("unknown output %q (table, json, yaml or csv)", format))
}

// Row is an item as the API gave it.
type Row map[string]any

// Column of a table: its heading and the field it shows. A dot goes deeper.
type Column [2]string

// Head is what stands above it.
func (c Column) Head() string { return c[0] }

// Field is where its values stand in an item.
func (c Column) Field() string { return c[1] }

// FieldOf finds a value in an item.
func FieldOf(r Row, field string) any {
	var v any = map[string]any(r)
	for part := range strings.SplitSeq(field, ".") {
		m, ok := v.(map[string]any)
		if !ok {
			return nil
		}
		v = m[part]
	}
	return v
}

// Rows are the rows of a list within an answer.
func Rows(v any) []Row {
	list, _ := v.([]any)
	var out []Row
	for _, r := range list {
		if r, ok := r.(map[string]any); ok {
			out = append(out, r)
		}
	}
	return out
}

// Show writes a value for people.
func Show(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case bool:
		if v {
			return "yes"
		}
		return "no"
	case string:
		if t, err := time.Parse(time.RFC3339Nano, v); err == nil && len(v) >= 20 {
			if t.IsZero() || t.Year() <= 1 {
				return ""
			}
			return t.UTC().Format("2006-01-02 15:04:05Z")
		}
		return v
	case []any:
		parts := make([]string, len(v))
		for i, p := range v {
			parts[i] = Show(p)
		}
		return strings.Join(parts, ", ")
	case map[string]any:
		if settings, plain := settingsOf(v); plain {
			return settings
		}
		raw, err := json.Marshal(v)
		if err != nil {
			return fmt.Sprint(v)
		}
		return string(raw)
	default:
		return fmt.Sprint(v)
	}
}

// settingsOf writes a map of texts as NAME=SETTING, the way it is given.
func settingsOf(v map[string]any) (string, bool) {
	var out []string
	for name, setting := range v {
		text, is := setting.(string)
		if !is {
			return "", false
		}
		out = append(out, name+"="+text)
	}
	slices.Sort(out)
	return strings.Join(out, ", "), true
}

// Safe keeps what a terminal acts on out of foreign names: control characters, and
// those that are not seen but hide text, turn it around or end a line (Unicode's
// classes Cf, Zl and Zp).
func Safe(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp) {
			return '·'
		}
		return r
	}, text)
}

const widest = 100

// states are fields whose words have a colour.
var states = []string{"state", "status", "result", "severity", "verdict", "ok"}

// Table writes rows for people.
func Table(out io.Writer, columns []Column, rows []Row) {
	screen, isScreen := out.(*Screen)
	widths := make([]int, len(columns))
	cells := make([][]string, 0, len(rows)+1)
	head := make([]string, len(columns))
	for i, c := range columns {
		head[i] = c.Head()
	}
	cells = append(cells, head)
	for _, r := range rows {
		line := make([]string, len(columns))
		for i, c := range columns {
			line[i] = Safe(Show(FieldOf(r, c.Field())))
			if i < len(columns)-1 {
				line[i] = shorten(line[i], widest)
			}
		}
		cells = append(cells, line)
	}
	for _, line := range cells {
		for i, cell := range line {
			widths[i] = max(widths[i], utf8.RuneCountInString(cell))
		}
	}
	if isScreen && screen.Width > 0 {
		widths = fit(widths, screen.Width)
	}
	for n, line := range cells {
		var text strings.Builder
		for i, width := range widths {
			cell := shorten(line[i], width)
			if i < len(widths)-1 {
				cell += strings.Repeat(" ", width-utf8.RuneCountInString(cell)+2)
			}
			if isScreen && screen.Colour && n > 0 && slices.Contains(states, columns[i].Field()) {
				cell = coloured(cell)
			}
			text.WriteString(cell)
		}
		fmt.Fprintln(out, strings.TrimRight(text.String(), " "))
	}
	if left := len(columns) - len(widths); left > 0 && !screen.Quiet {
		fmt.Fprintf(screen.Remarks, "%s not shown: --wide shows all, --columns others\n", plural(left, "column is", "columns are"))
	}
}

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprint(n, " ", many)
}

// Write prints rows in the asked format.
func Write(out io.Writer, format string, columns []Column, rows []Row, all any) error {
	switch format {
	case "json":
		encoder := json.NewEncoder(out)
		encoder.SetIndent("", "  ")
		return encoder.Encode(all)
	case "yaml":
		raw, err := json.Marshal(all)
		if err != nil {
			return err
		}
		var node yaml.Node // JSON is YAML; a node keeps order and numbers
		if err := yaml.Unmarshal(escaped(raw), &node); err != nil {
			return err
		}
		block(&node)
		encoder := yaml.NewEncoder(out)
		encoder.SetIndent(2)
		return errors.Join(encoder.Encode(&node), encoder.Close())
	case "csv":
		w := csv.NewWriter(out)
		head := make([]string, len(columns))
		for i, c := range columns {
			head[i] = c.Field()
		}
		if err := w.Write(head); err != nil {
			return err
		}
		for _, r := range rows {
			line := make([]string, len(columns))
			for i, c := range columns {
				line[i] = cell(Show(FieldOf(r, c.Field())))
			}
			if err := w.Write(line); err != nil {
				return err
			}
		}
		w.Flush()
		return w.Error()
	}
	Table(out, columns, rows)
	return nil
}

// cell keeps spreadsheets from taking a foreign name for a formula.
func cell(text string) string {
	if text != "" && strings.ContainsRune("=+-@\t\r", rune(text[0])) {
		return "'" + text
	}
	return text
}

// otherwise is what parsers of YAML 1.1 do not take for text: their truth values
// and numbers to the base 60 (yaml.org/type/bool.html, float.html).
var otherwise = regexp.MustCompile(`^(?i:y|n|yes|no|on|off)$|^[-+]?[0-9][0-9_]*(:[0-5]?[0-9])+(\.[0-9_]*)?$`)

// escaped writes the characters as escapes that JSON may have as they are and YAML
// may not (YAML 1.2, section 5.1).
func escaped(raw []byte) []byte {
	var out bytes.Buffer
	for _, r := range string(raw) {
		if r >= 0x7f && r < 0xa0 || r == 0xfeff || r == 0xfffe || r == 0xffff {
			fmt.Fprintf(&out, `\u%04x`, r)
			continue
		}
		out.WriteRune(r)
	}
	return out.Bytes()
}

// block takes JSON's brackets and quotes away, but where a text would be taken
// for something else.
func block(n *yaml.Node) {
	n.Style &^= yaml.FlowStyle
	// Line ends beyond ASCII are some to YAML 1.1 only: they are written as escapes.
	if !otherwise.MatchString(n.Value) && !strings.ContainsAny(n.Value, "\u0085\u2028\u2029\ufeff") {
		n.Style &^= yaml.DoubleQuotedStyle
	}
	for _, c := range n.Content {
		block(c)
	}
}

// hasField tells whether any row has a field, or one inside another.
func hasField(rows []Row, name string) bool {
	top, _, _ := strings.Cut(name, ".")
	for _, r := range rows {
		if _, found := r[top]; found {
			return true
		}
	}
	// Fields that are empty everywhere are not sent.
	return name == ""
}

func fieldNames(rows []Row) []string {
	seen := map[string]bool{}
	for _, r := range rows {
		for name := range r {
			seen[name] = true
		}
	}
	return slices.Sorted(maps.Keys(seen))
}
