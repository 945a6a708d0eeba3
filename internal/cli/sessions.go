package cli

import (
	"fmt"
	"net/http"
	"net/url"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// sessionCommand shows who is signed in to the console.
func sessionCommand() *cobra.Command {
	end := &cobra.Command{Use: "end ID", Short: "End a session, wherever it is open", Args: cobra.ExactArgs(1), RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		if err := c.Call(cmd.Context(), http.MethodDelete, "/sessions/"+url.PathEscape(args[0]), nil, nil); err != nil {
			return err
		}
		fmt.Fprintln(cmd.OutOrStdout(), "Ended.")
		return nil
	})}
	return output.Group("session", "Who is signed in to the console", output.ListCommand("list", "List who is signed in to the console, and from where: oneself, or all for an administrator", "/sessions", []output.Column{{"ID", "id"}, {"USER", "user"}, {"FROM", "address"}, {"SINCE", "created"}, {"ENDS", "expires"}}, "Nobody is signed in to the console."), end)
}
