package output

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
)

// The service knows by which columns a list is filtered and sorted; help and
// completion ask it, and go without when it does not answer at once: a shell
// waits for them.
const promptly = time.Second

type listColumn struct {
	Name, Kind string
	Values     []string
}

func columnsOf(ctx context.Context, c *api.Client, path string) []listColumn {
	ctx, cancel := context.WithTimeout(ctx, promptly)
	defer cancel()
	var page struct{ Columns []listColumn }
	if err := c.Call(ctx, http.MethodGet, path+"?columns=true", nil, &page); err != nil {
		return nil
	}
	return page.Columns
}

type pathOf func(*cobra.Command, *api.Client, []string, url.Values) (string, error)

// asked is what the service says of a list, or nothing.
func asked(cmd *cobra.Command, path pathOf, args []string) []listColumn {
	c, err := api.Connected()
	if err != nil {
		return nil
	}
	where, err := path(cmd, c, args, url.Values{})
	if err != nil {
		return nil
	}
	return columnsOf(cmd.Context(), c, where)
}

// describe gives a list's command completion of columns and of values, and names the
// columns in its help.
func describe(cmd *cobra.Command, path pathOf) {
	none := cobra.ShellCompDirectiveNoFileComp
	_ = cmd.RegisterFlagCompletionFunc("filter", func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		var out []string
		for _, col := range asked(cmd, path, args) {
			for _, value := range append(slices.Clone(col.Values), yesNo(col)...) {
				if choice := col.Name + "=" + value; strings.HasPrefix(choice, typed) && strings.Contains(typed, "=") {
					out = append(out, choice)
				}
			}
			if !strings.ContainsAny(typed, "=~<>!*") {
				for _, operator := range operatorsOf(col) {
					out = append(out, col.Name+operator)
				}
			}
		}
		return out, none | cobra.ShellCompDirectiveNoSpace
	})
	_ = cmd.RegisterFlagCompletionFunc("sort", func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		var out []string
		for _, col := range asked(cmd, path, args) {
			if strings.HasPrefix(typed, "-") {
				out = append(out, "-"+col.Name)
			} else {
				out = append(out, col.Name)
			}
		}
		return out, none
	})
	_ = cmd.RegisterFlagCompletionFunc("columns", func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		before := typed[:strings.LastIndex(typed, ",")+1]
		var out []string
		for _, col := range asked(cmd, path, args) {
			out = append(out, before+col.Name)
		}
		return out, none | cobra.ShellCompDirectiveNoSpace
	})
	help := cmd.HelpFunc()
	cmd.SetHelpFunc(func(cmd *cobra.Command, args []string) {
		help(cmd, args)
		var names []string
		for _, col := range asked(cmd, path, nil) {
			name := col.Name
			if len(col.Values) > 0 {
				name += " (" + strings.Join(col.Values, ", ") + ")"
			} else if col.Kind != "text" {
				name += " (" + col.Kind + ")"
			}
			names = append(names, name)
		}
		if len(names) > 0 {
			fmt.Fprintf(cmd.OutOrStdout(), "\nColumns to filter and sort by:\n  %s\n", wrap(strings.Join(names, ", "), 92))
		}
	})
}

func yesNo(col listColumn) []string {
	if col.Kind == "yes-no" {
		return []string{"yes", "no"}
	}
	return nil
}

func operatorsOf(col listColumn) []string {
	switch {
	case col.Kind == "yes-no" || len(col.Values) > 0:
		return []string{"=", "!="}
	case col.Kind == "text":
		return []string{"=", "!=", "~", "!~", "*="}
	}
	return []string{"=", "!=", "<", ">"}
}

// wrap breaks a text at spaces; further lines are set in as the first is.
func wrap(text string, width int) string {
	var out strings.Builder
	line := 0
	for word := range strings.FieldsSeq(text) {
		if line > 0 && line+1+len(word) > width {
			out.WriteString("\n  ")
			line = 0
		} else if line > 0 {
			out.WriteByte(' ')
			line++
		}
		out.WriteString(word)
		line += len(word)
	}
	return out.String()
}
