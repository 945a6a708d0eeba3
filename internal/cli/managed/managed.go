// Package managed has the commands about accounts whose passwords a directory makes by itself.
package managed

import (
	"fmt"
	"net/http"
	"net/url"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
	"mossledger.example/moss/internal/cli/rotation"
)

// Command is moss managed.
func Command() *cobra.Command {
	return output.Group("managed", "Accounts whose passwords a directory makes and changes by itself", check(), create(), permit(), install(), rotation.AssignManaged(), remove(), list(), show())
}

func list() *cobra.Command {
	cmd := output.ListWith("list", "List managed accounts, and how many dependents are known of each", []output.Column{
		{"SYSTEM", "system"}, {"NAME", "name"}, {"ENABLED", "enabled"}, {"DEPENDENTS", "dependents"}, {"CHANGED", "password_changed"}, {"DESCRIPTION", "description"},
	}, "No survey has seen a managed account. 'moss managed check DIRECTORY' tells whether a directory can have them.", func(_ *cobra.Command, _ *api.Client, _ []string, query url.Values) (string, error) {
		query.Add("filter", "type=managed")
		return "/accounts", nil
	})
	cmd.Long = "Lists accounts whose passwords a directory makes and changes by itself, as surveys saw them. CHANGED is when a password last was.\nWhich hosts may use one, and whether they can, 'moss managed show' asks the directory."
	cmd.Example = "  moss managed list\n  moss managed list --filter dependents=0"
	return cmd
}

var lines = []output.Column{{"SYSTEM", "system"}, {"WHAT", "what"}, {"RESULT", "result"}, {"WORDS", "words"}, {"NEXT", "next"}}

func check() *cobra.Command {
	var account, container string
	var hosts []string
	cmd := &cobra.Command{
		Use: "check DIRECTORY", Short: "Check what managed accounts need there, one line each, and what to do about what is missing", Args: cobra.ExactArgs(1),
		Long: "Asks the directory, and changes nothing: whether its schema has managed accounts, its controllers give out their passwords, a root key is there and has been for so long\n" +
			"that every controller has it, and the steward may create such an account. With --account also how that one stands, and for each host that may use it, or each --host,\n" +
			"whether it is permitted, was restarted since (a host learns its groups when it starts), and has an encryption type in common with it. Ends with 3 where something is missing.",
		Example: "  moss managed check larkmoor\n  moss managed check larkmoor --container 'OU=Service Accounts,DC=larkmoor,DC=example'\n  moss managed check larkmoor --account 'gmsa-lockers$' --host kiosk4",
	}
	output.AddFlag(cmd)
	cmd.Flags().StringVar(&account, "account", "", "managed account that is there already")
	cmd.Flags().StringVar(&container, "container", "", "distinguished name of where an account is to stand; the directory's own place for them without it")
	cmd.Flags().StringArrayVar(&hosts, "host", nil, "host that is to use the account, by its name in the directory or here (repeatable); all that are permitted without it")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		query := url.Values{}
		if container != "" {
			query.Set("container", container)
		}
		for _, h := range hosts {
			query.Add("host", h)
		}
		if account != "" {
			id, err := c.Account(cmd.Context(), args[0]+"/"+account)
			if err != nil {
				return err
			}
			query.Set("account", fmt.Sprint(id))
		}
		v, err := ask(cmd, c, args[0], query)
		if err != nil {
			return err
		}
		return told(cmd, format, v)
	})
	return cmd
}

func ask(cmd *cobra.Command, c *api.Client, directory string, query url.Values) (v output.Row, err error) {
	path := "/systems/" + url.PathEscape(directory) + "/managed"
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	return v, c.Call(cmd.Context(), http.MethodGet, path, nil, &v)
}

// told writes the checks, and ends as they say.
func told(cmd *cobra.Command, format string, v output.Row) error {
	rows := output.Rows(v["checks"])
	if err := output.Write(cmd.OutOrStdout(), format, lines, rows, v); err != nil {
		return err
	}
	missing := 0
	for _, r := range rows {
		if output.Show(r["result"]) == "failed" {
			missing++
		}
	}
	if missing > 0 {
		return api.Negative("%d of %d are missing", missing, len(rows))
	}
	return nil
}

func show() *cobra.Command {
	cmd := &cobra.Command{
		Use: "show ACCOUNT", Short: "Show how a managed account stands: who may use it, its hosts, and what they need", Args: cobra.ExactArgs(1),
		Long:    "Asks the directory of the account: after how many days its password changes and when it last did, who may ask for it, which hosts that makes,\nwhen each joined, and whether each can use it. Ends with 3 where something is missing.",
		Example: "  moss managed show 'gmsa-lockers$'\n  moss managed show 'larkmoor/gmsa-lockers$' -o json",
	}
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		id, err := c.Account(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		var of struct {
			Account struct {
				System string `json:"system"`
			} `json:"account"`
		}
		if err := c.Call(cmd.Context(), http.MethodGet, fmt.Sprintf("/accounts/%d", id), nil, &of); err != nil {
			return err
		}
		v, err := ask(cmd, c, of.Account.System, url.Values{"account": {fmt.Sprint(id)}})
		if err != nil {
			return err
		}
		if format != "table" {
			return told(cmd, format, v)
		}
		facts, _ := v["account"].(map[string]any)
		if err := output.Details(cmd, facts, []output.Column{
			{"Name", "name"}, {"Stands", "dn"}, {"For", "sort"}, {"Enabled", "enabled"}, {"DNS name", "dns_name"}, {"Interval (days)", "interval_days"}, {"Changed", "changed"}, {"Services", "services"},
		}); err != nil {
			return err
		}
		for _, part := range []struct {
			title, field string
			columns      []output.Column
		}{
			{"Permitted", "permitted", []output.Column{{"NAME", "name"}, {"KIND", "kind"}, {"SID", "sid"}}},
			{"Hosts", "hosts", []output.Column{{"NAME", "name"}, {"THROUGH", "through"}, {"JOINED", "joined"}, {"ENABLED", "enabled"}}},
		} {
			fmt.Fprintf(cmd.OutOrStdout(), "\n%s:\n", part.title)
			rows := output.Rows(facts[part.field])
			for _, r := range rows {
				if latest := output.Show(r["joined_at_latest"]); latest != "" {
					r["joined"] = latest + " at the latest"
				}
			}
			if len(rows) == 0 {
				fmt.Fprintln(cmd.OutOrStdout(), "  none")
				continue
			}
			if err := output.Write(cmd.OutOrStdout(), format, part.columns, rows, rows); err != nil {
				return err
			}
		}
		if partly := output.Show(facts["partly"]); partly != "" {
			output.Remark(cmd, "there may be more hosts: %s", partly)
		}
		fmt.Fprintln(cmd.OutOrStdout())
		return told(cmd, format, v)
	})
	return cmd
}
