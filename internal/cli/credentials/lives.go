package credentials

import (
	"errors"
	"fmt"
	"net/http"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// life is moss credential life.
func life() *cobra.Command {
	cmd := &cobra.Command{Use: "life ACCOUNT", Short: "Tell the life of what proves an account, and of each of its keys", Args: cobra.ExactArgs(1), Example: "  moss credential life svc-fuelcard\n  moss credential life feeds/kiosktimes -o json"}
	cmd.Long = "Tells when each was made, first seen by a survey, last used, changed, rotated, and when it ends, as far as its\nsystem tells; and why it may have outlived its purpose: not used or not changed for longer than the policy of its\nlabel lets it (90 and 365 days where none says), disabled, or ended. 'moss credential delete --watch 30d' ends one safely."
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		resolved, err := c.ResolveCredential(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		if resolved.AccountID == 0 {
			return api.Exit(api.ExitUsage, errors.New("lives are told of an account and of the keys that prove it: name an account"))
		}
		var rows []output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, fmt.Sprintf("/accounts/%d/lives", resolved.AccountID), nil, &rows); err != nil {
			return err
		}
		return output.Write(cmd.OutOrStdout(), format, []output.Column{{"WHAT", "what"}, {"NAME", "name"}, {"MADE", "born"}, {"FIRST SEEN", "first_seen"}, {"LAST USED", "last_used"}, {"CHANGED", "changed"}, {"ROTATED", "rotated"}, {"ENDS", "left"}, {"OUTLIVES", "outlives"}}, rows, rows)
	})
	return cmd
}
