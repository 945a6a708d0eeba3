package rights

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// purposes are those of preparations, in their order.
var purposes = []string{"sign-in", "read", "find", "rights", "rotate", "end", "amend", "manage"}

// PrepareCommand is moss system prepare.
func PrepareCommand() *cobra.Command {
	var wanted []string
	cmd := &cobra.Command{
		Use: "prepare SYSTEM", Short: "Print what the owner of a system must do so that it can be read and changed", Args: cobra.ExactArgs(1),
		Long: "Prints the least that is enough, as text to be copied, filled in with the steward's name and public key and with the files and units that surveys found.\n" +
			"There is no secret in it. 'moss system check' says afterwards what is still missing.",
		Example: "  moss system prepare bookings1\n  moss system prepare bookings1 --for rotate -o json",
	}
	output.AddFlag(cmd)
	cmd.Flags().StringSliceVar(&wanted, "for", nil, "only what is for this: "+strings.Join(purposes, ", "))
	_ = cmd.RegisterFlagCompletionFunc("for", cobra.FixedCompletions(purposes, cobra.ShellCompDirectiveNoFileComp))
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		for _, w := range wanted {
			if !slices.Contains(purposes, w) {
				return api.Exit(api.ExitUsage, fmt.Errorf("--for cannot be %q: %s", w, strings.Join(purposes, ", ")))
			}
		}
		var all, rows []output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, "/systems/"+url.PathEscape(args[0])+"/preparation", nil, &all); err != nil {
			return err
		}
		for _, p := range all {
			if len(wanted) == 0 || slices.Contains(wanted, output.Show(p["for"])) {
				rows = append(rows, p)
			}
		}
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, []output.Column{{"FOR", "for"}, {"WHAT", "what"}, {"WHERE", "where"}, {"LANGUAGE", "language"}, {"TEXT", "text"}}, rows, rows)
		}
		if len(rows) == 0 {
			fmt.Fprintln(cmd.OutOrStdout(), "Nothing has to be done for that.")
		}
		for i, p := range rows {
			if i > 0 {
				fmt.Fprintln(cmd.OutOrStdout())
			}
			lines := strings.Split(output.Show(p["text"]), "\n")
			for i := range lines {
				lines[i] = output.Safe(lines[i])
			}
			fmt.Fprintf(cmd.OutOrStdout(), "# For %s: %s.\n# %s.\n\n%s", output.Safe(output.Show(p["for"])), output.Safe(output.Show(p["what"])), output.Safe(output.Show(p["where"])), strings.Join(lines, "\n"))
		}
		output.Remark(cmd, "then: moss system check %s", args[0])
		return nil
	})
	return cmd
}
