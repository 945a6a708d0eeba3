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

// limitCommand says what a holder of a password can carry.
func limitCommand() *cobra.Command {
	var longest int
	var without string
	var remove bool
	limit := &cobra.Command{
		Use: "limit ID", Short: "Say what a dependent can carry of a password", Args: api.Numbers(1, 1, "a dependent", "dependent list"),
		Long:    "New passwords keep to what everything that holds or reads them can carry. The service tries the text\nof each file by itself; that the field of an old program is short, or takes some characters for\nsomething else, no file tells: you do.",
		Example: "  moss dependent limit 17 --longest 16 --without '~.'\n  moss dependent limit 17 --remove",
		RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
			if remove == (longest != 0 || without != "") {
				return api.Exit(api.ExitUsage, errors.New("give --longest, --without or both, or --remove"))
			}
			var v struct {
				Place, System string
				Limit         *struct {
					Longest int
					Without string
				}
			}
			if err := c.Call(cmd.Context(), http.MethodPut, "/dependents/"+url.PathEscape(args[0])+"/limit", map[string]any{"longest": longest, "without": without}, &v); err != nil {
				return err
			}
			if v.Limit == nil {
				output.Remark(cmd, "%s on %s has no limit", v.Place, v.System)
				return nil
			}
			var words []string
			if v.Limit.Longest > 0 {
				words = append(words, fmt.Sprintf("at most %d characters", v.Limit.Longest))
			}
			if v.Limit.Without != "" {
				words = append(words, "none of "+v.Limit.Without)
			}
			output.Remark(cmd, "%s on %s takes %s: new passwords keep to it", v.Place, v.System, strings.Join(words, ", "))
			return nil
		}),
	}
	limit.Flags().IntVar(&longest, "longest", 0, "characters that it takes at most")
	limit.Flags().StringVar(&without, "without", "", "characters that it does not take")
	limit.Flags().BoolVar(&remove, "remove", false, "it has no limit")
	return limit
}
