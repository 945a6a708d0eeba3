package output

import (
	"fmt"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
)

// Group makes a command that only holds others.
func Group(use, short string, commands ...*cobra.Command) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Args: func(cmd *cobra.Command, args []string) error {
		if len(args) > 0 {
			near := "."
			cmd.SuggestionsMinimumDistance = 2
			if names := cmd.SuggestionsFor(args[0]); len(names) > 0 {
				near = api.DidYouMean(names)
			}
			return api.Exit(api.ExitUsage, fmt.Errorf("there is no command %q%s See '%s --help'", args[0], near, cmd.CommandPath()))
		}
		return nil
	}, RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	cmd.AddCommand(commands...)
	return cmd
}

// Talking makes a command's work of a function that is given what most need: a
// connection and the output format.
func Talking(run func(cmd *cobra.Command, c *api.Client, format string, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		format := "table"
		if cmd.Flags().Lookup("output") != nil {
			var err error
			if format, err = FormatOf(cmd); err != nil {
				return err
			}
		}
		c, err := api.Connected()
		if err != nil {
			return err
		}
		return run(cmd, c, format, args)
	}
}
