package unattended

import (
	"fmt"
	"net/http"
	"net/url"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// TandemCommand is for accounts that take turns.
func TandemCommand() *cobra.Command {
	var reason string
	add := &cobra.Command{Use: "add WORKING RESTING", Short: "Have two accounts take turns; nothing is changed until their first turn", Args: cobra.ExactArgs(2)}
	add.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		in := map[string]any{"reason": reason}
		for i, side := range []string{"working", "resting"} {
			v, err := c.ResolveCredential(cmd.Context(), args[i])
			if err != nil {
				return err
			}
			if v.ID == 0 {
				return fmt.Errorf("%s is not in custody: take it with 'moss custody take %s' first", args[i], args[i])
			}
			in[side] = v.ID
		}
		var v tandemRow
		if err := c.Call(cmd.Context(), http.MethodPost, "/tandems", in, &v); err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "Tandem %d: %s works on %s, and %s takes its place when %s is rotated next.\n", v.ID, output.Safe(v.Working.Account), output.Safe(v.System), output.Safe(v.Resting.Account), output.Safe(v.Working.Account))
		return nil
	})
	add.Flags().StringVar(&reason, "reason", "", "why, for the ledger")

	list := output.ListWith("list", "List accounts that take turns", []output.Column{{"TANDEM", "id"}, {"SYSTEM", "system"}, {"WORKS", "working.account"}, {"RESTS", "resting.account"}, {"STATE", "state"}, {"TURNED", "turned"}, {"ADDED", "added"}, {"BY", "added_by"}},
		"No two accounts take turns: 'moss tandem add WORKING RESTING' has two of them do so.", func(*cobra.Command, *api.Client, []string, url.Values) (string, error) { return "/tandems", nil })

	show := &cobra.Command{Use: "show TANDEM", Short: "Show two accounts that take turns", Args: api.Numbers(1, 1, "a tandem", "tandem list")}
	show.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, "/tandems/"+url.PathEscape(args[0]), nil, &v); err != nil {
			return err
		}
		return output.Details(cmd, v, []output.Column{{"Tandem", "id"}, {"System", "system"}, {"Works", "working.account"}, {"Rests", "resting.account"}, {"State", "state"}, {"Changed places", "turned"}, {"Reason", "reason"}, {"Added", "added"}, {"By", "added_by"}})
	})

	output.AddFlag(show)

	var why string
	var yes bool
	remove := &cobra.Command{Use: "remove TANDEM", Short: "Have two accounts take turns no more; both stay as they are", Args: api.Numbers(1, 1, "a tandem", "tandem list")}
	remove.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		var v tandemRow
		if err := c.Call(cmd.Context(), http.MethodGet, "/tandems/"+url.PathEscape(args[0]), nil, &v); err != nil {
			return err
		}
		if err := output.Sure(cmd, yes, fmt.Sprintf("Have %s and %s take turns no more?", output.Safe(v.Working.Account), output.Safe(v.Resting.Account))); err != nil {
			return err
		}
		query := url.Values{}
		if why != "" {
			query.Set("reason", why)
		}
		if err := c.Call(cmd.Context(), http.MethodDelete, "/tandems/"+url.PathEscape(args[0])+"?"+query.Encode(), nil, nil); err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "They take turns no more. Both stay as they are: what %s may do on %s now, it may from here on.\n", output.Safe(v.Resting.Account), output.Safe(v.System))
		return nil
	})
	remove.Flags().BoolVar(&yes, "yes", false, "remove it without being asked")
	remove.Flags().StringVar(&why, "reason", "", "why, for the ledger")
	return output.Group("tandem", "Accounts that take turns: while one works, the other rests", list, show, add, remove)
}

type tandemRow struct {
	ID      int64  `json:"id"`
	System  string `json:"system"`
	Working struct {
		Account string `json:"account"`
	} `json:"working"`
	Resting struct {
		Account string `json:"account"`
	} `json:"resting"`
}
