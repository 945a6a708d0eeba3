package cli

import (
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// changeCommand shows what became of things between surveys.
func changeCommand() *cobra.Command {
	list := output.ListWith("list", "List what became of accounts, dependents and systems between two moments", []output.Column{
		{"ID", "id"}, {"SEEN", "at"}, {"WHAT", "what"}, {"NAME", "name"}, {"SYSTEM", "system"}, {"FIELDS", "words"}, {"MADE BY", "made_by"}, {"SUBJECT", "subject"}, {"KIND", "kind"}, {"BY WHOM", "by_whom"},
	}, "Nothing changed that a survey saw. A system's first survey shows how it is, and no changes.", func(cmd *cobra.Command, c *api.Client, _ []string, query url.Values) (string, error) {
		for _, name := range []string{"since", "until"} {
			flag := cmd.Flags().Lookup(name)
			if flag == nil || flag.Value.String() == "" || c == nil {
				continue
			}
			at, err := momentOf(cmd, c, name, flag.Value.String(), time.Now)
			if err != nil {
				return "", err
			}
			query.Set(name, at.UTC().Format(time.RFC3339Nano))
		}
		if net, _ := cmd.Flags().GetBool("net"); net {
			query.Set("net", "true")
		}
		return "/changes", nil
	})
	list.Long = "Lists what became of accounts, dependents and systems, as surveys saw it: new, changed, gone, back. What Moss Ledger's own rotations changed is told as theirs.\n\n" +
		"--since and --until take a moment (2026-11-28, 2026-11-28T21:00:00Z), a time back from now (12h, 7d), or the number of a survey, whose end is meant: --since 12 --until 15 is what surveys 13 to 15 saw."
	list.Flags().String("since", "", "only what was seen after this: a moment, a time back from now such as 7d, or a survey's number")
	list.Flags().String("until", "", "only what was seen up to this: the same")
	list.Flags().Bool("net", false, "each thing once: what all its changes between the two moments come to")
	for _, name := range []string{"since", "until"} {
		_ = list.RegisterFlagCompletionFunc(name, cobra.FixedCompletions([]string{"1h", "12h", "1d", "7d", "30d"}, cobra.ShellCompDirectiveNoFileComp))
	}
	show := &cobra.Command{Use: "show ID", Short: "Show one change, field by field", Args: api.Numbers(1, 1, "a change", "change list")}
	output.AddFlag(show)
	show.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, "/changes/"+url.PathEscape(args[0]), nil, &v); err != nil {
			return err
		}
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, nil, []output.Row{v}, v)
		}
		if err := output.Details(cmd, v, []output.Column{{"Seen", "at"}, {"What", "what"}, {"Subject", "subject"}, {"Name", "name"}, {"Kind", "kind"}, {"System", "system"}, {"Made by", "made_by"}, {"By whom", "by_whom"}, {"Rotation", "rotation_id"}, {"Survey", "survey_id"}, {"Account", "account_id"}, {"Dependent", "dependent_id"}}); err != nil {
			return err
		}
		var rows []output.Row
		fields, _ := v["fields"].([]any)
		for _, f := range fields {
			if f, ok := f.(map[string]any); ok {
				rows = append(rows, f)
			}
		}
		if len(rows) > 0 {
			fmt.Fprintln(cmd.OutOrStdout())
			if err := output.Write(cmd.OutOrStdout(), format, []output.Column{{"FIELD", "name"}, {"FROM", "from"}, {"TO", "to"}, {"ADDED", "added"}, {"REMOVED", "removed"}}, rows, rows); err != nil {
				return err
			}
		}
		witnesses, _ := v["witnesses"].(map[string]any)
		rows = nil
		list, _ := witnesses["list"].([]any)
		for _, w := range list {
			if w, ok := w.(map[string]any); ok {
				rows = append(rows, w)
			}
		}
		if len(rows) == 0 {
			return nil
		}
		fmt.Fprintln(cmd.OutOrStdout())
		return output.Write(cmd.OutOrStdout(), format, []output.Column{{"WHO", "who"}, {"FROM", "from"}, {"ACT", "act"}, {"TO IT", "it"}, {"FIRST", "first"}, {"LAST", "last"}, {"TIMES", "count"}}, rows, rows)
	})
	return output.Group("change", "What became of accounts, dependents and systems", list, show)
}

var back = regexp.MustCompile(`^(\d+)d$`)

// momentOf reads what --since and --until take.
func momentOf(cmd *cobra.Command, c *api.Client, flag, text string, now func() time.Time) (time.Time, error) {
	if _, err := strconv.ParseInt(text, 10, 64); err == nil {
		var v struct{ Started, Ended time.Time }
		if err := c.Call(cmd.Context(), http.MethodGet, "/surveys/"+text, nil, &v); err != nil {
			return time.Time{}, err
		}
		if v.Ended.IsZero() {
			return time.Time{}, api.Exit(api.ExitUsage, fmt.Errorf("survey %s has not ended: --%s takes one that has", text, flag))
		}
		return v.Ended, nil
	}
	if m := back.FindStringSubmatch(text); m != nil {
		days, err := strconv.Atoi(m[1])
		if err == nil && days <= 36500 {
			return now().AddDate(0, 0, -days), nil
		}
	}
	if d, err := time.ParseDuration(text); err == nil && d >= 0 {
		return now().Add(-d), nil
	}
	for _, layout := range []string{time.RFC3339Nano, time.DateOnly, "2006-01-02 15:04", "2006-01-02T15:04"} {
		if t, err := time.ParseInLocation(layout, text, time.UTC); err == nil {
			return t, nil
		}
	}
	return time.Time{}, api.Exit(api.ExitUsage, fmt.Errorf("--%s cannot be %q: a moment such as 2026-11-28 or 2026-11-28T21:00:00Z (UTC), a time back from now such as 7d or 12h, or the number of a survey", flag, text))
}
