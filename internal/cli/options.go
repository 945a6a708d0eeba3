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

// optionCommand is for options of all systems that have something in common.
func optionCommand() *cobra.Command {
	set := &cobra.Command{
		Use: "set FIELD=VALUE OPTION=SETTING...", Short: "Give options to all systems of a site, environment, owner or kind", Args: cobra.MinimumNArgs(2),
		Long:    "Systems that are added later have them too. Lists (paths, search, search-exclude) are added to a system's\nown; of other options a system's own counts.",
		Example: "  moss system option set environment=production 'paths=/etc/larkmoor/common.env;/opt/shared/db.conf'\n  moss system option set site='Skerry Bay' search-exclude=/srv/pictures",
	}
	set.ValidArgs = []string{"site=", "environment=", "owner=", "kind="}
	set.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		field, value, found := strings.Cut(args[0], "=")
		if !found {
			return api.Exit(api.ExitUsage, errors.New("choose systems by site=, environment=, owner= or kind="))
		}
		for _, o := range args[1:] {
			name, setting, found := strings.Cut(o, "=")
			if !found {
				return api.Exit(api.ExitUsage, fmt.Errorf("option %q: write name=value", o))
			}
			if err := c.Call(cmd.Context(), http.MethodPut, "/options", map[string]string{"field": field, "value": value, "name": name, "setting": setting}, nil); err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "All systems with %s have the option %s: the next survey uses it.\n", args[0], name)
		}
		return nil
	})
	remove := &cobra.Command{Use: "remove ID", Short: "Take an option away from them", Args: api.Numbers(1, 1, "an option", "system option list"), RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		if err := c.Call(cmd.Context(), http.MethodDelete, "/options/"+url.PathEscape(args[0]), nil, nil); err != nil {
			return err
		}
		fmt.Fprintln(cmd.OutOrStdout(), "Removed.")
		return nil
	})}
	return output.Group("option", "Options of all systems of a site, environment, owner or kind", set, remove,
		output.ListCommand("list", "List them", "/options", []output.Column{{"ID", "id"}, {"FIELD", "field"}, {"VALUE", "value"}, {"OPTION", "name"}, {"SETTING", "setting"}, {"SYSTEMS", "systems"}, {"BY", "set_by"}, {"CHANGED", "changed"}},
			"There are none. Set one with 'moss system option set environment=production paths=/etc/shared.env'."))
}
