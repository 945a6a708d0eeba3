package cli

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

func accountCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "show ACCOUNT", Short: "Show an account, in any spelling, with its dependents", Args: cobra.ExactArgs(1),
		Example: `  moss account show svc-berth
  moss account show 'LARKMOOR\svc-berth'
  moss account show svc-berth@larkmoor.example
  moss account show bookings1/svc-manifest`,
	}
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		id, err := c.Account(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, fmt.Sprintf("/accounts/%d", id), nil, &v); err != nil {
			return err
		}
		err = output.Details(cmd, v, []output.Column{
			{"Number", "account.id"},
			{"Name", "account.name"},
			{"System", "account.system"},
			{"DN", "account.dn"},
			{"Principal name", "account.upn"},
			{"SID", "account.sid"},
			{"Former SIDs", "account.former_sids"},
			{"User id", "account.uid"},
			{"Type", "account.type"},
			{"Display name", "account.display_name"},
			{"Description", "account.description"},
			{"Owner", "account.owner"},
			{"Enabled", "account.enabled"},
			{"Locked", "account.locked"},
			{"Must change", "account.must_change"},
			{"Never expires", "account.never_expires"},
			{"Password changed", "account.password_changed"},
			{"Password expires", "account.password_expires"},
			{"Account expires", "account.account_expires"},
			{"Last log-on", "account.last_logon"},
			{"Groups", "account.groups"},
			{"Takes turns with", "account.pair"},
			{"Not yet", "account.pair_not"},
			{"Principals", "account.principals"},
			{"First seen", "account.first_seen"},
			{"Seen", "account.seen"},
			{"Gone since", "account.gone"},
			{"Custody since", "password.taken"},
			{"Verified", "password.verified"},
			{"Verdict", "password.verdict"},
			{"Rotated", "password.rotated"},
		})
		format, _ := output.FormatOf(cmd)
		if err != nil || format != "table" {
			return err
		}
		rows, _, err := output.Fetch(cmd, c, "/dependents", url.Values{"account": {fmt.Sprint(id)}}, 0)
		if err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "\n%d dependents\n", len(rows))
		if len(rows) > 0 {
			output.Table(cmd.OutOrStdout(), dependentColumns, evident(rows, id))
		}
		missing, _ := v["incomplete"].([]any)
		for _, m := range missing {
			if m, ok := m.(map[string]any); ok {
				fmt.Fprintf(cmd.OutOrStdout(), "Not known: %s was not read completely (%s)\n", output.Safe(output.Show(m["system"])), output.Safe(output.Show(m["why"])))
			}
		}
		return nil
	})
	resolve := &cobra.Command{Use: "resolve SPELLING...", Short: "Say which account each spelling means", Args: cobra.MinimumNArgs(1)}
	output.AddFlag(resolve)
	resolve.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		var rows []output.Row
		unclear := 0
		for _, spelling := range args {
			r := output.Row{"spelling": spelling, "state": "unknown", "form": "", "candidates": []any{}, "why": "nothing is written"}
			// One that says nothing ends no batch.
			if strings.TrimSpace(spelling) != "" {
				if err := c.Call(cmd.Context(), http.MethodGet, "/resolve?name="+url.QueryEscape(spelling), nil, &r); err != nil {
					return err
				}
			}
			if state := output.Show(r["state"]); state != "resolved" && state != "built-in" {
				unclear++
			}
			list, _ := r["candidates"].([]any)
			var accounts []any
			for _, k := range list {
				k, _ := k.(map[string]any)
				accounts = append(accounts, output.Show(k["system"])+"/"+output.Show(k["name"])+" (id:"+output.Show(k["id"])+")")
			}
			r["accounts"] = accounts
			r["why"] = output.Show(r["why"]) + nearWords(r["near"])
			rows = append(rows, r)
		}
		if err := output.Write(cmd.OutOrStdout(), format, []output.Column{{"SPELLING", "spelling"}, {"STATE", "state"}, {"FORM", "form"}, {"ACCOUNTS", "accounts"}, {"WHY", "why"}}, rows, rows); err != nil {
			return err
		}
		if unclear > 0 {
			return api.Negative("%d of %d spellings mean no single account", unclear, len(args))
		}
		return nil
	})
	return output.Group("account", "Accounts that programs use", cmd, resolve,
		output.ListCommand("list", "List accounts", "/accounts", []output.Column{{"ID", "id"}, {"NAME", "name"}, {"SYSTEM", "system"}, {"CUSTODY", "custody"}, {"DEPENDENTS", "dependents"}, {"ENABLED", "enabled"}, {"PASSWORD CHANGED", "password_changed"}, {"EXPIRES", "password_expires"}, {"NEVER", "never_expires"}, {"LOCKED", "locked"}, {"TYPE", "type"}, {"DESCRIPTION", "description"}},
			"No accounts match. Read some systems with 'moss survey run'."))
}

var dependentColumns = []output.Column{{"ID", "id"}, {"SYSTEM", "system"}, {"KIND", "kind"}, {"PLACE", "place"}, {"STATE", "state"}, {"RUNS AS", "runs_as"}, {"READ BY", "readers"}, {"EVIDENCE", "evidence"}, {"SEEN", "seen"}, {"DETAIL", "detail"}}

// evident puts the evidence of ties into fields of their own.
func evident(rows []output.Row, account int64) []output.Row {
	for _, r := range rows {
		list, _ := r["ties"].([]any)
		var evidence, detail []any
		for _, t := range list {
			t, _ := t.(map[string]any)
			if account != 0 && output.Show(t["account_id"]) != fmt.Sprint(account) {
				continue
			}
			word := output.Show(t["evidence"]) + ": " + output.Show(t["strength"])
			if account == 0 {
				word = output.Show(t["account"]) + " (" + word + ")"
			}
			evidence, detail = append(evidence, word), append(detail, output.Show(t["detail"]))
		}
		r["evidence"], r["detail"] = evidence, detail
	}
	return rows
}

func dependentCommand() *cobra.Command {
	list := output.ListWith("list", "List dependents: services, scheduled entries and held copies", []output.Column{{"ID", "id"}, {"SYSTEM", "system"}, {"PLACE", "place"}, {"KIND", "kind"}, {"STATE", "state"}, {"RUNS AS", "runs_as"}, {"START", "start_mode"}, {"IDENTITY", "identity"}, {"SEEN", "seen"}, {"DESCRIPTION", "description"}},
		"No dependents match.", func(cmd *cobra.Command, c *api.Client, _ []string, query url.Values) (string, error) {
			account, err := cmd.Flags().GetString("account")
			if err != nil || account == "" {
				return "/dependents", err
			}
			id, err := c.Account(cmd.Context(), account)
			query.Set("account", fmt.Sprint(id))
			return "/dependents", err
		})
	list.Flags().String("group-by", "", "group by a field: system, account, runs_as, kind, state, ...")
	_ = list.RegisterFlagCompletionFunc("group-by", cobra.FixedCompletions([]string{"system", "account", "runs_as", "kind", "state", "identity", "start_mode"}, cobra.ShellCompDirectiveNoFileComp))
	list.Flags().String("account", "", "only those of this account, in any spelling")
	var tcp, http_, command, contains string
	var remove bool
	expect := &cobra.Command{
		Use: "expect ID", Short: "Set the application's own check of a unit, made after each restart", Args: api.Numbers(1, 1, "a dependent", "dependent list"),
		Example: "  moss dependent expect 17 --tcp 192.0.2.10:8443\n  moss dependent expect 17 --http http://192.0.2.10/health --contains ready",
		RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
			path := "/dependents/" + url.PathEscape(args[0]) + "/check"
			if remove {
				return c.Call(cmd.Context(), http.MethodDelete, path, nil, nil)
			}
			in := map[string]string{"contains": contains}
			for kind, target := range map[string]string{"tcp": tcp, "http": http_, "command": command} {
				if target != "" {
					if in["kind"] != "" {
						return api.Exit(api.ExitUsage, errors.New("give one of --tcp, --http and --command"))
					}
					in["kind"], in["target"] = kind, target
				}
			}
			if in["kind"] == "" {
				return api.Exit(api.ExitUsage, errors.New("give --tcp, --http, --command or --remove"))
			}
			return c.Call(cmd.Context(), http.MethodPut, path, in, nil)
		}),
	}
	expect.Flags().StringVar(&tcp, "tcp", "", "host:port that must accept a connection")
	expect.Flags().StringVar(&http_, "http", "", "URL that must answer 200")
	expect.Flags().StringVar(&command, "command", "", "command on the host that must end with 0")
	expect.Flags().StringVar(&contains, "contains", "", "text that the answer must contain")
	expect.Flags().BoolVar(&remove, "remove", false, "remove the check")
	var leave, replace, back bool
	var reason string
	decide := &cobra.Command{
		Use: "decide ID", Short: "Decide about a copy that cannot be replaced, or may be none", Args: api.Numbers(1, 1, "a dependent", "dependent list"),
		Long:    "A rotation is not rehearsed well while a file holds the value and cannot be changed (its layout is\nnot known), or holds only the text of a value that is a word or a name. You decide for each, with a\nreason, which is shown before every rotation.",
		Example: "  moss dependent decide 17 --leave --reason 'archived report, nobody signs in with it'\n  moss dependent decide 18 --replace --reason 'this really is the password'",
		RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
			decision, given := "", 0
			for word, set := range map[string]bool{"leave": leave, "replace": replace, "": back} {
				if set {
					decision, given = word, given+1
				}
			}
			if given != 1 {
				return api.Exit(api.ExitUsage, errors.New("give one of --leave, --replace and --take-back"))
			}
			return c.Call(cmd.Context(), http.MethodPut, "/dependents/"+url.PathEscape(args[0])+"/decision", map[string]string{"decision": decision, "reason": reason}, nil)
		}),
	}
	decide.Flags().BoolVar(&leave, "leave", false, "it stays as it is: you see to it, or it does not matter")
	decide.Flags().BoolVar(&replace, "replace", false, "it is a copy: rotations replace it")
	decide.Flags().BoolVar(&back, "take-back", false, "forget what was decided")
	decide.Flags().StringVar(&reason, "reason", "", "why; it is recorded")
	return output.Group("dependent", "Places that use an account", list, expect, limitCommand(), decide)
}

func findingCommand() *cobra.Command {
	cmd := output.ListWith("list", "List what needs a person", []output.Column{{"ID", "id"}, {"SEVERITY", "severity"}, {"KIND", "kind"}, {"SYSTEM", "system"}, {"SUBJECT", "subject"}, {"WHAT", "what"}, {"NEXT", "next_step"}, {"RAISED", "raised"}},
		"Nothing needs you.", func(cmd *cobra.Command, _ *api.Client, _ []string, query url.Values) (string, error) {
			if all, err := cmd.Flags().GetBool("all"); err != nil || all {
				query.Set("all", "true")
				return "/findings", err
			}
			return "/findings", nil
		})
	cmd.Flags().Bool("all", false, "also those that were cleared")
	show := &cobra.Command{Use: "show ID", Short: "Show a finding in full, and what to do", Args: api.Numbers(1, 1, "a finding", "finding list"), Example: "  moss finding show 12"}
	output.AddFlag(show)
	show.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		rows, _, err := output.Fetch(cmd, c, "/findings", url.Values{"all": {"true"}, "filter": {"id=" + args[0]}}, 1)
		if err != nil {
			return err
		}
		if len(rows) == 0 {
			return fmt.Errorf("there is no finding %s: see 'moss finding list --all'", args[0])
		}
		return output.Details(cmd, rows[0], []output.Column{{"Number", "id"}, {"Severity", "severity"}, {"Kind", "kind"}, {"Subject", "subject"}, {"System", "system"}, {"What", "what"}, {"What to do", "next_step"}, {"Raised", "raised"}, {"First raised", "first_raised"}, {"Seen", "seen"}, {"Cleared", "cleared"}})
	})
	return output.Group("finding", "What needs a person", cmd, show)
}

// nearWords asks whether one of some names was meant.
func nearWords(near any) string {
	list, _ := near.([]any)
	var names []string
	for _, name := range list {
		names = append(names, output.Show(name))
	}
	return api.DidYouMean(names)
}
