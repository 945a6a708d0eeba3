package output

import (
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
)

// ListCommand makes a list with filters, sorting and paging.
func ListCommand(use, short, path string, columns []Column, empty string) *cobra.Command {
	return ListWith(use, short, columns, empty, func(*cobra.Command, *api.Client, []string, url.Values) (string, error) { return path, nil })
}

// ListWith makes the same of a path that depends on the arguments.
func ListWith(use, short string, columns []Column, empty string, path pathOf) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Args: cobra.NoArgs}
	cmd.Flags().StringArrayP("filter", "f", nil, "column=value, column!=value, column~part, column!~part, column*=pattern, column<value, column>value (repeatable)")
	cmd.Flags().StringP("sort", "s", "", "column to sort by; with - before it descending")
	cmd.Flags().IntP("limit", "n", 0, "at most so many; 0 for all")
	cmd.Flags().String("search", "", "part of a text; of dependents: of names, places, programs, descriptions, what they run as, systems and accounts")
	cmd.Flags().StringSlice("columns", nil, "fields to show instead, as -o json names them")
	cmd.Flags().Duration("watch", 0, "show it again every so often, such as 5s, until Ctrl-C")
	cmd.Flags().Lookup("watch").NoOptDefVal = "5s"
	AddFlag(cmd)
	describe(cmd, path)
	cmd.RunE = watched(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
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
		rows, total, err := Fetch(cmd, c, where, query, limit)
		if err != nil {
			return err
		}
		shown := columns
		if names, _ := cmd.Flags().GetStringSlice("columns"); len(names) > 0 {
			shown = nil
			for _, name := range names {
				if len(rows) > 0 && !hasField(rows, name) {
					return api.Exit(api.ExitUsage, fmt.Errorf("no item has a field %q (fields: %s)", name, strings.Join(fieldNames(rows), ", ")))
				}
				shown = append(shown, Column{strings.ToUpper(name), name})
			}
		}
		if len(rows) == 0 && format == "table" {
			// That nothing matches is not that nothing is there.
			if query.Has("filter") || query.Has("search") {
				empty = "Nothing matches."
			}
			fmt.Fprintln(cmd.OutOrStdout(), empty)
			return nil
		}
		if by := cmd.Flags().Lookup("group-by"); by != nil && by.Value.String() != "" {
			return writeGroups(cmd.OutOrStdout(), format, by.Value.String(), shown, rows)
		}
		if err := Write(cmd.OutOrStdout(), format, shown, rows, rows); err != nil {
			return err
		}
		if format == "table" && total < 0 {
			Remark(cmd, "%d of more than %d shown", len(rows), -total)
		}
		if format == "table" && total > len(rows) {
			Remark(cmd, "%d of %d shown", len(rows), total)
		}
		return nil
	})
	return cmd
}

// groupsOf names the groups of a row: an account's rows are grouped by all the
// accounts that they are tied to.
func groupsOf(r Row, by string) []string {
	if by == "account" {
		ties, _ := r["ties"].([]any)
		var names []string
		for _, t := range ties {
			t, _ := t.(map[string]any)
			if name := Show(t["account"]) + " (" + Show(t["system"]) + ")"; !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
		if identity := Show(r["identity"]); len(names) == 0 && identity != "" && identity != "named" {
			return []string{"the machine itself (no password to change)"}
		}
		if len(names) == 0 {
			return []string{"no known account"}
		}
		return names
	}
	if text := Show(FieldOf(r, by)); text != "" {
		return []string{text}
	}
	return []string{"none"}
}

// writeGroups prints rows under the headings of their groups.
func writeGroups(out io.Writer, format, by string, columns []Column, rows []Row) error {
	groups := map[string][]Row{}
	if by != "account" && len(rows) > 0 && !slices.ContainsFunc(rows, func(r Row) bool { return FieldOf(r, by) != nil }) {
		return api.Exit(api.ExitUsage, fmt.Errorf("nothing has the field %q: group by account, or by a field as -o json names it", by))
	}
	for _, r := range rows {
		for _, name := range groupsOf(r, by) {
			groups[name] = append(groups[name], r)
		}
	}
	names := slices.Sorted(maps.Keys(groups))
	var all, flat []Row
	for _, name := range names {
		all = append(all, Row{"group": name, "items": groups[name]})
		for _, r := range groups[name] {
			line := maps.Clone(r)
			line["group"] = name
			flat = append(flat, line)
		}
	}
	if format != "table" {
		return Write(out, format, append([]Column{{"GROUP", "group"}}, columns...), flat, all)
	}
	var within []Column
	for _, c := range columns {
		if c.Field() != by {
			within = append(within, c)
		}
	}
	for i, name := range names {
		if i > 0 {
			fmt.Fprintln(out)
		}
		fmt.Fprintf(out, "%s (%d)\n", Safe(name), len(groups[name]))
		Table(out, within, groups[name])
	}
	return nil
}

// Fetch reads pages until the limit.
func Fetch(cmd *cobra.Command, c *api.Client, path string, query url.Values, limit int) ([]Row, int, error) {
	rows := []Row{}
	for {
		size := 500
		if limit > 0 {
			size = min(size, limit-len(rows))
		}
		query.Set("limit", fmt.Sprint(size))
		var page struct {
			Items []Row
			Next  string
			Total int
			More  bool
		}
		if err := c.Call(cmd.Context(), http.MethodGet, path+"?"+query.Encode(), nil, &page); err != nil {
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
