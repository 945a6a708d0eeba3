package cli

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"
	"golang.org/x/term"
)

// Formats of output.
var formats = []string{"table", "json", "yaml", "csv"}

func addOutput(cmd *cobra.Command) {
	cmd.Flags().StringP("output", "o", "table", "table, json, yaml or csv")
	_ = cmd.RegisterFlagCompletionFunc("output", cobra.FixedCompletions(formats, cobra.ShellCompDirectiveNoFileComp))
}

func outputOf(cmd *cobra.Command) (string, error) {
	format, err := cmd.Flags().GetString("output")
	if err != nil {
		return "", err
	}
	for _, known := range formats {
		if format == known {
			return format, nil
		}
	}
	return "", &ExitError{ExitUsage, fmt.Errorf("unknown output %q (table, json, yaml or csv)", format)}
}

// row is an item as the API gave it.
type row map[string]any

// column of a table: its heading and the field it shows. A dot goes deeper.
type column struct{ head, field string }

func fieldOf(r row, field string) any {
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

// show writes a value for people.
func show(v any) string {
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
			parts[i] = show(p)
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

// safe keeps control characters of foreign names away from the terminal.
func safe(text string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x20 || r == 0x7f || r >= 0x80 && r < 0xa0 || r == '\u202e' || r == '\u2028' {
			return '·'
		}
		return r
	}, text)
}

const widest = 100

func table(out io.Writer, columns []column, rows []row) {
	widths := make([]int, len(columns))
	cells := make([][]string, 0, len(rows)+1)
	head := make([]string, len(columns))
	for i, c := range columns {
		head[i] = c.head
	}
	cells = append(cells, head)
	for _, r := range rows {
		line := make([]string, len(columns))
		for i, c := range columns {
			line[i] = safe(show(fieldOf(r, c.field)))
			if utf8.RuneCountInString(line[i]) > widest && i < len(columns)-1 {
				line[i] = string([]rune(line[i])[:widest-1]) + "…"
			}
		}
		cells = append(cells, line)
	}
	for _, line := range cells {
		for i, cell := range line {
			widths[i] = max(widths[i], utf8.RuneCountInString(cell))
		}
	}
	for _, line := range cells {
		var text strings.Builder
		for i, cell := range line {
			text.WriteString(cell)
			if i < len(line)-1 {
				text.WriteString(strings.Repeat(" ", widths[i]-utf8.RuneCountInString(cell)+2))
			}
		}
		fmt.Fprintln(out, strings.TrimRight(text.String(), " "))
	}
}

// write prints rows in the asked format.
func write(out io.Writer, format string, columns []column, rows []row, all any) error {
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
		if err := yaml.Unmarshal(raw, &node); err != nil {
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
			head[i] = c.field
		}
		if err := w.Write(head); err != nil {
			return err
		}
		for _, r := range rows {
			line := make([]string, len(columns))
			for i, c := range columns {
				line[i] = cell(show(fieldOf(r, c.field)))
			}
			if err := w.Write(line); err != nil {
				return err
			}
		}
		w.Flush()
		return w.Error()
	}
	table(out, columns, rows)
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

// block takes JSON's brackets and quotes away, but where a text would be taken
// for something else.
func block(n *yaml.Node) {
	n.Style &^= yaml.FlowStyle
	if !otherwise.MatchString(n.Value) {
		n.Style &^= yaml.DoubleQuotedStyle
	}
	for _, c := range n.Content {
		block(c)
	}
}

// listCommand makes a list with filters, sorting and paging.
func listCommand(use, short, path string, columns []column, empty string) *cobra.Command {
	return listWith(use, short, columns, empty, func(*cobra.Command, *client, []string, url.Values) (string, error) { return path, nil })
}

func listWith(use, short string, columns []column, empty string, path func(*cobra.Command, *client, []string, url.Values) (string, error)) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Args: cobra.NoArgs}
	cmd.Flags().StringArrayP("filter", "f", nil, "column=value, column!=value, column~part, column!~part, column*=pattern, column<value, column>value (repeatable)")
	cmd.Flags().StringP("sort", "s", "", "column to sort by; with - before it descending")
	cmd.Flags().IntP("limit", "n", 0, "at most so many; 0 for all")
	cmd.Flags().String("search", "", "part of a text; of dependents: of names, places, programs, descriptions, what they run as, systems and accounts")
	cmd.Flags().StringSlice("columns", nil, "fields to show instead, as -o json names them")
	addOutput(cmd)
	cmd.RunE = talking(func(cmd *cobra.Command, c *client, format string, args []string) error {
		query := url.Values{}
		filters, _ := cmd.Flags().GetStringArray("filter")
		for _, f := range filters {
			query.Add("filter", f)
		}
		for _, name := range []string{"sort", "search"} {
			if v, _ := cmd.Flags().GetString(name); v != "" {
				query.Set(name, v)
			}
		}
		where, err := path(cmd, c, args, query)
		if err != nil {
			return err
		}
		limit, _ := cmd.Flags().GetInt("limit")
		rows, total, err := fetch(cmd, c, where, query, limit)
		if err != nil {
			return err
		}
		shown := columns
		if names, _ := cmd.Flags().GetStringSlice("columns"); len(names) > 0 {
			shown = nil
			for _, name := range names {
				if len(rows) > 0 && !hasField(rows, name) {
					return &ExitError{ExitUsage, fmt.Errorf("no item has a field %q (fields: %s)", name, strings.Join(fieldNames(rows), ", "))}
				}
				shown = append(shown, column{strings.ToUpper(name), name})
			}
		}
		if len(rows) == 0 && format == "table" {
			fmt.Fprintln(cmd.OutOrStdout(), empty)
			return nil
		}
		if by := cmd.Flags().Lookup("group-by"); by != nil && by.Value.String() != "" {
			return writeGroups(cmd.OutOrStdout(), format, by.Value.String(), shown, rows)
		}
		if err := write(cmd.OutOrStdout(), format, shown, rows, rows); err != nil {
			return err
		}
		if format == "table" && total < 0 {
			fmt.Fprintf(cmd.ErrOrStderr(), "%d of more than %d shown\n", len(rows), -total)
		}
		if format == "table" && total > len(rows) {
			fmt.Fprintf(cmd.ErrOrStderr(), "%d of %d shown\n", len(rows), total)
		}
		return nil
	})
	return cmd
}

// groupsOf names the groups of a row: an account's rows are grouped by all the
// accounts that they are tied to.
func groupsOf(r row, by string) []string {
	if by == "account" {
		ties, _ := r["ties"].([]any)
		var names []string
		for _, t := range ties {
			t, _ := t.(map[string]any)
			if name := show(t["account"]) + " (" + show(t["system"]) + ")"; !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
		if identity := show(r["identity"]); len(names) == 0 && identity != "" && identity != "named" {
			return []string{"the machine itself (no password to change)"}
		}
		if len(names) == 0 {
			return []string{"no known account"}
		}
		return names
	}
	if text := show(fieldOf(r, by)); text != "" {
		return []string{text}
	}
	return []string{"none"}
}

// writeGroups prints rows under the headings of their groups.
func writeGroups(out io.Writer, format, by string, columns []column, rows []row) error {
	groups := map[string][]row{}
	if by != "account" && len(rows) > 0 && !slices.ContainsFunc(rows, func(r row) bool { return fieldOf(r, by) != nil }) {
		return &ExitError{ExitUsage, fmt.Errorf("nothing has the field %q: group by account, or by a field as -o json names it", by)}
	}
	for _, r := range rows {
		for _, name := range groupsOf(r, by) {
			groups[name] = append(groups[name], r)
		}
	}
	names := slices.Sorted(maps.Keys(groups))
	var all, flat []row
	for _, name := range names {
		all = append(all, row{"group": name, "items": groups[name]})
		for _, r := range groups[name] {
			line := maps.Clone(r)
			line["group"] = name
			flat = append(flat, line)
		}
	}
	if format != "table" {
		return write(out, format, append([]column{{"GROUP", "group"}}, columns...), flat, all)
	}
	var within []column
	for _, c := range columns {
		if c.field != by {
			within = append(within, c)
		}
	}
	for i, name := range names {
		if i > 0 {
			fmt.Fprintln(out)
		}
		fmt.Fprintf(out, "%s (%d)\n", safe(name), len(groups[name]))
		table(out, within, groups[name])
	}
	return nil
}

// fetch reads pages until the limit.
func fetch(cmd *cobra.Command, c *client, path string, query url.Values, limit int) ([]row, int, error) {
	rows := []row{}
	for {
		size := 500
		if limit > 0 {
			size = min(size, limit-len(rows))
		}
		query.Set("limit", fmt.Sprint(size))
		var page struct {
			Items []row
			Next  string
			Total int
			More  bool
		}
		if err := c.call(cmd.Context(), http.MethodGet, path+"?"+query.Encode(), nil, &page); err != nil {
			return nil, 0, err
		}
		rows = append(rows, page.Items...)
		if page.Next == "" || limit > 0 && len(rows) >= limit {
			switch {
			case page.Next == "":
				page.Total = len(rows)
			case page.More: // counted up to there: told by a negative number
				page.Total = -page.Total
			}
			return rows, page.Total, nil
		}
		query.Set("cursor", page.Next)
	}
}

// readSecret takes a secret from a file, from standard input ("-"), or from a
// prompt; never from an argument.
func readSecret(cmd *cobra.Command, file, prompt string) (string, error) {
	switch file {
	case "":
		in, ok := cmd.InOrStdin().(*os.File)
		if !ok || !term.IsTerminal(int(in.Fd())) {
			return "", &ExitError{ExitUsage, fmt.Errorf("%s: there is no terminal to ask on; give a file, or - for standard input", prompt)}
		}
		fmt.Fprint(cmd.ErrOrStderr(), prompt+": ")
		raw, err := term.ReadPassword(int(in.Fd()))
		fmt.Fprintln(cmd.ErrOrStderr())
		return string(raw), err
	case "-":
		raw, err := io.ReadAll(io.LimitReader(cmd.InOrStdin(), 1<<20))
		return strings.TrimRight(string(raw), "\r\n"), err
	}
	raw, err := os.ReadFile(file)
	return strings.TrimRight(string(raw), "\r\n"), err
}

func ask(cmd *cobra.Command, prompt string) (string, error) {
	in, ok := cmd.InOrStdin().(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		return "", &ExitError{ExitUsage, fmt.Errorf("%s: there is no terminal to ask on; give it as a flag", prompt)}
	}
	fmt.Fprint(cmd.ErrOrStderr(), prompt+": ")
	var line []byte
	buf := make([]byte, 1)
	for {
		n, err := in.Read(buf)
		if n == 0 || err != nil || buf[0] == '\n' {
			return strings.TrimSpace(string(line)), nil //nolint:nilerr // the end of the input ends the line
		}
		line = append(line, buf[0])
	}
}

// hasField tells whether any row has a field, or one inside another.
func hasField(rows []row, name string) bool {
	top, _, _ := strings.Cut(name, ".")
	for _, r := range rows {
		if _, found := r[top]; found {
			return true
		}
	}
	// Fields that are empty everywhere are not sent.
	return name == ""
}

func fieldNames(rows []row) []string {
	seen := map[string]bool{}
	for _, r := range rows {
		for name := range r {
			seen[name] = true
		}
	}
	return slices.Sorted(maps.Keys(seen))
}
