// Package rights has the commands about who may do what.
package rights

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// Command is moss right.
func Command() *cobra.Command {
	return output.Group("right", "Who may do what, and through what", list(), show(), who())
}

func list() *cobra.Command {
	cmd := output.ListWith("list", "List what is given to whom, as systems showed it", []output.Column{
		{"SYSTEM", "system"}, {"TO", "to"}, {"MAY", "may"}, {"WHAT", "what"}, {"ON", "on"}, {"AS", "as"}, {"TERMS", "terms"}, {"WHERE", "source"}, {"SINCE", "first_seen"},
	}, "Nothing is known. Surveys read rights of unix hosts, directories and data stores; 'moss survey show' tells what was not read.", func(cmd *cobra.Command, _ *api.Client, _ []string, query url.Values) (string, error) {
		if taken, _ := cmd.Flags().GetBool("taken"); taken {
			query.Set("taken", "true")
		}
		return "/rights", nil
	})
	cmd.Flags().Bool("taken", false, "what was taken back, in place of what is there; the field taken says when that was seen")
	cmd.Long = "Lists rules of sudo, grants, attributes and entries of access lists one by one, each with whom it is given to.\nWhat an account has through groups, 'moss right show' tells; who may do something, 'moss right who'."
	cmd.Example = "  moss right list --filter system=bookings1\n  moss right list --filter verb=everything\n  moss right list --filter to=svc-berth --columns system,verb,what,text"
	return cmd
}

// read says how much is known, where that is not all.
func read(cmd *cobra.Command, v any) {
	r, _ := v.(map[string]any)
	switch {
	case r["never"] == true:
		output.Remark(cmd, "no survey has read the rights of this system yet")
	case output.Show(r["why"]) != "":
		output.Remark(cmd, "not all of it was read: %s", output.Show(r["why"]))
	default:
		output.Remark(cmd, "read completely on %s", output.Show(r["completed"]))
	}
	if whole := output.Show(r["whole"]); whole != "" {
		output.Remark(cmd, "who may do what to services, which is read once a week and by 'moss survey run SYSTEM', was read on %s", whole)
	}
}

func show() *cobra.Command {
	cmd := &cobra.Command{
		Use: "show ACCOUNT", Short: "Show all that an account may do, with the path of each right", Args: cobra.ExactArgs(1),
		Long:    "Shows the groups and roles that an account lies in, with the chain to each, and what it may do by them or by itself.\nVOID says that another entry has the word: of sudo's rules the last one that matches.",
		Example: "  moss right show bookings1/svc-manifest\n  moss right show svc-berth -o json",
	}
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		id, err := c.Account(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, fmt.Sprintf("/accounts/%d/rights", id), nil, &v); err != nil {
			return err
		}
		if format != "table" {
			rows := output.Rows(v["rights"])
			for _, there := range output.Rows(v["elsewhere"]) {
				rows = append(rows, output.Rows(there["rights"])...)
			}
			return output.Write(cmd.OutOrStdout(), format, []output.Column{{"SYSTEM", "system"}, {"VERB", "verb"}, {"WHAT", "what"}, {"THROUGH", "through"}, {"TEXT", "text"}}, rows, v)
		}
		if err := held(cmd, v["account"], v); err != nil {
			return err
		}
		for _, there := range output.Rows(v["elsewhere"]) {
			fmt.Fprintf(cmd.OutOrStdout(), "\nOn %s, as %s:\n", output.Safe(output.Show(there["system"])), output.Safe(output.Show(there["name"])))
			if err := held(cmd, there["name"], there); err != nil {
				return err
			}
		}
		return nil
	})
	return cmd
}

// held prints what somebody lies in and may do on one system.
func held(cmd *cobra.Command, who any, v output.Row) error {
	out := cmd.OutOrStdout()
	groups, rights := output.Rows(v["groups"]), output.Rows(v["rights"])
	if len(groups) > 0 {
		if err := output.Write(out, "table", []output.Column{{"LIES IN", "name"}, {"KIND", "kind"}, {"THROUGH", "through"}}, groups, groups); err != nil {
			return err
		}
		fmt.Fprintln(out)
	}
	if len(rights) == 0 {
		fmt.Fprintf(out, "%s is given nothing on %s, as far as it was read.\n", output.Safe(output.Show(who)), output.Safe(output.Show(v["system"])))
	} else {
		columns := []output.Column{{"MAY", "may"}, {"WHAT", "what"}, {"ON", "on"}, {"AS", "as"}, {"THROUGH", "through"}, {"TERMS", "terms"}, {"VOID", "void"}, {"WHERE", "source"}}
		if slices.ContainsFunc(rights, func(r output.Row) bool { return output.Show(r["unsure"]) != "" }) {
			columns = slices.Insert(columns, 6, output.Column{"UNSURE", "unsure"})
		}
		if err := output.Write(out, "table", columns, rights, rights); err != nil {
			return err
		}
	}
	if more := output.Show(v["more"]); more != "" {
		output.Remark(cmd, "%s more are not listed: 'moss right list' has what is given to each group", more)
	}
	read(cmd, v["read"])
	return nil
}

func who() *cobra.Command {
	var system, what, as string
	var principals bool
	cmd := &cobra.Command{
		Use: "who VERB [THING]", Short: "Tell who may do something on a system, and through what", Args: cobra.RangeArgs(1, 2),
		Long: "Tells who may do something: accounts of the system that have it by themselves, through groups, or because everyone has it.\n" +
			"THING is a command with its arguments where the verb is run (ALL for each command there is), else what it is done to: NAME or KIND:NAME.\nWhere something decides that cannot be seen from here, the answer is perhaps, with the reason.",
		Example: "  moss right who run '/usr/bin/systemctl restart berth.service' --on bookings1\n  moss right who run ALL --on bookings1\n  moss right who select table:bookings.public.tickets --on bookings-db\n  moss right who 'reset password' svc-berth --on domain",
	}
	cmd.ValidArgsFunction = completeVerbs
	output.AddFlag(cmd)
	cmd.Flags().StringVar(&system, "on", "", "the system")
	cmd.Flags().StringVar(&what, "what", "", "a column, or a key")
	cmd.Flags().StringVar(&as, "as", "", "of commands: whose rights they run with; root when it is not given")
	cmd.Flags().BoolVar(&principals, "groups", false, "tell groups and roles as well")
	_ = cmd.MarkFlagRequired("on")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		query := url.Values{"system": {system}, "verb": {args[0]}, "as": {as}, "what": {what}}
		if principals {
			query.Set("principals", "true")
		}
		if len(args) > 1 {
			field := "object"
			if args[0] == "run" {
				field = "what"
			}
			query.Set(field, args[1])
		}
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, "/rights/who?"+query.Encode(), nil, &v); err != nil {
			return err
		}
		holders := output.Rows(v["holders"])
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, []output.Column{{"NAME", "name"}, {"KIND", "kind"}, {"ALLOWED", "allowed"}, {"UNSURE", "unsure"}}, holders, v)
		}
		rows := []output.Row{}
		for _, h := range holders {
			answer := "yes"
			if h["allowed"] != true {
				answer = "perhaps: " + output.Show(h["unsure"])
			}
			for _, r := range output.Rows(h["rights"]) {
				rows = append(rows, output.Row{"name": h["name"], "kind": h["kind"], "answer": answer, "through": r["through"], "as": r["as"], "terms": r["terms"], "text": r["text"], "source": r["source"]})
			}
		}
		if len(rows) == 0 {
			fmt.Fprintln(cmd.OutOrStdout(), "Nobody, as far as it was read.")
		} else if err := output.Write(cmd.OutOrStdout(), format, []output.Column{{"WHO", "name"}, {"KIND", "kind"}, {"MAY", "answer"}, {"THROUGH", "through"}, {"TERMS", "terms"}, {"BY", "text"}, {"WHERE", "source"}}, rows, rows); err != nil {
			return err
		}
		read(cmd, v["read"])
		return nil
	})
	return cmd
}

// RiskCommand is moss risk.
func RiskCommand() *cobra.Command {
	list := output.ListCommand("list", "List accounts by how much they matter", "/risks", []output.Column{
		{"SCORE", "score"}, {"SYSTEM", "system"}, {"ACCOUNT", "account"}, {"POWER", "power"}, {"WEAKNESS", "weakness"}, {"WHY", "words"}, {"CUSTODY", "custody"}, {"SINCE", "since"},
	}, "No account has a score: surveys have read no rights yet, or nobody may do anything that counts.")
	list.Long = "Lists accounts by a score: what each could do, times how weakly it is held, through a hundred.\nWHY says what the two are sums of: each part with its reason and its points, first of the power, then of the weakness."
	list.Example = "  moss risk list --limit 20\n  moss risk list --filter 'power>50' --filter custody=no\n  moss risk list --filter parts~'every' -o json"
	return output.Group("risk", "Which accounts matter most, and why", list)
}

// completeVerbs completes the verbs of the system that is asked about, or of all kinds.
func completeVerbs(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	const no = cobra.ShellCompDirectiveNoFileComp
	c, err := api.Connected()
	if err != nil || len(args) > 0 {
		return nil, no
	}
	var kinds []struct {
		Kind  string   `json:"kind"`
		Verbs []string `json:"verbs"`
	}
	if err := c.Call(cmd.Context(), http.MethodGet, "/kinds", nil, &kinds); err != nil {
		return nil, no
	}
	var of struct {
		Kind string `json:"kind"`
	}
	if system, _ := cmd.Flags().GetString("on"); system != "" {
		if err := c.Call(cmd.Context(), http.MethodGet, "/systems/"+url.PathEscape(system), nil, &of); err != nil {
			return nil, no
		}
	}
	var out []string
	for _, k := range kinds {
		for _, verb := range k.Verbs {
			if (of.Kind == "" || of.Kind == k.Kind) && !slices.Contains(out, verb) {
				out = append(out, verb)
			}
		}
	}
	return out, no
}
