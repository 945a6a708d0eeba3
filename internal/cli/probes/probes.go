// Package probes has the commands that ask ports.
package probes

import (
	"fmt"
	"net/http"
	"os"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
	"mossledger.example/moss/internal/core/reach"
)

// Command is moss probe.
func Command() *cobra.Command {
	var from []string
	var status int
	var contains, proxy, caFile string
	var steps bool
	cmd := &cobra.Command{
		Use: "probe TARGET...", Short: "Ask ports, from the service or from hosts: open, refused, filtered, or something else", Args: cobra.MinimumNArgs(1),
		Long: "Asks each TARGET: HOST:PORT, or tls://, http://, https:// or ssh:// with a host, a port where it is not the usual one, and a path.\n" +
			"Without --from the service asks; with it the SSH server of a unix host connects (AllowTcpForwarding), so it is what a program there would find.\n" +
			"Tells apart: open, refused, filtered (nothing comes back), no-address, no-route, hangs (connected, and nothing answers), wrong-answer, certificate, proxy.\n" +
			"What a page says is compared and not shown. Ends with 3 where something is not open.",
		Example: "  moss probe bookings-db.larkmoor.example:5432 --from bookings1\n  moss probe https://boards.larkmoor.example/ready --contains ready --ca-file ca.pem\n  moss probe http://boards.larkmoor.example/ --proxy http://gate.larkmoor.example:3128 --status 200",
	}
	output.AddFlag(cmd)
	cmd.Flags().StringArrayVar(&from, "from", nil, "system to ask from (repeatable); service for the service itself")
	cmd.Flags().IntVar(&status, "status", 0, "status that HTTP must answer with; any below 400 without it")
	cmd.Flags().StringVar(&contains, "contains", "", "what the answer must have in it")
	cmd.Flags().StringVar(&proxy, "proxy", "", "proxy to ask through: http://HOST:PORT, or environment for that of the service's own environment")
	cmd.Flags().StringVar(&caFile, "ca-file", "", "certificates to trust, in PEM; the system's own without it")
	cmd.Flags().BoolVar(&steps, "steps", false, "show each stage with its time")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		ca := ""
		if caFile != "" {
			raw, err := os.ReadFile(caFile)
			if err != nil {
				return api.Exit(api.ExitUsage, err)
			}
			ca = string(raw)
		}
		asks := make([]reach.Ask, 0, len(args))
		for _, target := range args {
			if _, err := reach.Parse(target); err != nil {
				return api.Exit(api.ExitUsage, fmt.Errorf("%s: %w", target, err))
			}
			asks = append(asks, reach.Ask{Target: target, Status: status, Contains: contains, Proxy: proxy, CA: ca})
		}
		for i := range from {
			if from[i] == "service" {
				from[i] = ""
			}
		}
		var rows []output.Row
		if err := c.Call(cmd.Context(), http.MethodPost, "/probes", map[string]any{"asks": asks, "from": from}, &rows); err != nil {
			return err
		}
		if err := show(cmd, format, rows, steps); err != nil {
			return err
		}
		closed := 0
		for _, r := range rows {
			if output.Show(r["outcome"]) != string(reach.Open) {
				closed++
			}
		}
		if closed > 0 {
			return api.Negative("%d of %d are not open", closed, len(rows))
		}
		return nil
	})
	cmd.AddCommand(list())
	return cmd
}

var columns = []output.Column{{"TARGET", "target"}, {"FROM", "from"}, {"OUTCOME", "outcome"}, {"WORDS", "words"}, {"BETWEEN", "between"}, {"NEXT", "next"}}

func show(cmd *cobra.Command, format string, rows []output.Row, steps bool) error {
	if format == "table" {
		for _, r := range rows {
			if output.Show(r["from"]) == "" {
				r["from"] = "the service"
			}
		}
	}
	if err := output.Write(cmd.OutOrStdout(), format, columns, rows, rows); err != nil || !steps || format != "table" {
		return err
	}
	for _, r := range rows {
		list := output.Rows(r["steps"])
		fmt.Fprintf(cmd.OutOrStdout(), "\n%s from %s:\n", output.Safe(output.Show(r["target"])), output.Safe(output.Show(r["from"])))
		if err := output.Write(cmd.OutOrStdout(), format, []output.Column{{"STAGE", "stage"}, {"MS", "milliseconds"}, {"WORDS", "words"}}, list, list); err != nil {
			return err
		}
	}
	return nil
}

func list() *cobra.Command {
	cmd := output.ListCommand("list", "List what ports answered, the latest first", "/probes", []output.Column{{"AT", "at"}, {"TARGET", "target"}, {"FROM", "from"}, {"OUTCOME", "outcome"}, {"WAS", "was"}, {"WORDS", "words"}, {"BY", "asked_by"}}, "No port was asked yet: 'moss probe HOST:PORT' asks one.")
	cmd.Example = "  moss probe list --filter target~bookings-db\n  moss probe list --filter outcome!=open --filter 'at>2026-11-01'"
	return cmd
}
