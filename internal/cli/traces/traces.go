// Package traces has the commands that show what the service itself sends to a system.
package traces

import (
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// Command is moss trace.
func Command() *cobra.Command {
	list := output.ListCommand("list", "List traces, the latest first", "/traces", []output.Column{{"ID", "id"}, {"SYSTEM", "system"}, {"ACCOUNT", "account"}, {"OPERATIONS", "operations"}, {"REFUSED", "refused"}, {"FAILED", "failed"}, {"STARTED", "started"}, {"BY", "started_by"}, {"ENDS", "ends"}, {"ENDED", "ended"}, {"REASON", "reason"}},
		"Nothing was traced yet: 'moss trace start SYSTEM --for 30m --reason WHY' begins.")
	list.Example = "  moss trace list\n  moss trace list --filter ended="
	return output.Group("trace", "What the service itself sends to a system, for a time", list, start(), show(), stop())
}

func start() *cobra.Command {
	var last time.Duration
	var account, reason string
	cmd := &cobra.Command{
		Use: "start SYSTEM", Short: "Record what the service sends to a system, for a time", Args: cobra.ExactArgs(1),
		Long:    "Records every command, query and request that the service sends to a system, byte for byte, with how long it took, what came of it and what the system said.\nSecrets are left out, and so is what commands are given on their standard input. It ends by itself; what was recorded is kept for 30 days after that.",
		Example: "  moss trace start bookings1 --for 30m --reason 'which rights does the steward need'\n  moss trace start bookings-db --for 2h --account svc_reports --reason audit",
	}
	output.AddFlag(cmd)
	cmd.Flags().DurationVar(&last, "for", 0, "for how long, such as 30m; at most 24h")
	cmd.Flags().StringVar(&account, "account", "", "only what names this account")
	cmd.Flags().StringVar(&reason, "reason", "", "why")
	_ = cmd.MarkFlagRequired("for")
	_ = cmd.MarkFlagRequired("reason")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		var v output.Row
		body := map[string]any{"system": args[0], "account": account, "minutes": int(last.Minutes()), "reason": reason}
		if err := c.Call(cmd.Context(), http.MethodPost, "/traces", body, &v); err != nil {
			return err
		}
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, nil, []output.Row{v}, v)
		}
		fmt.Fprintf(cmd.OutOrStdout(), "Trace %s of what is sent to %s; it ends by itself at %s.\n", output.Show(v["id"]), output.Safe(output.Show(v["system"])), output.Show(v["ends"]))
		output.Remark(cmd, "'moss trace show %s' shows it", output.Show(v["id"]))
		return nil
	})
	return cmd
}

func show() *cobra.Command {
	cmd := output.ListWith("show TRACE", "Show what a trace has, what was refused first", []output.Column{{"AT", "at"}, {"BY", "protocol"}, {"OUTCOME", "outcome"}, {"CODE", "exit"}, {"US", "microseconds"}, {"TEXT", "text"}, {"WORDS", "words"}},
		"Nothing was sent yet.", func(cmd *cobra.Command, c *api.Client, args []string, _ url.Values) (string, error) {
			if len(args) == 0 {
				return "/traces/0/operations", nil // its columns
			}
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return "", api.Exit(api.ExitUsage, fmt.Errorf("%q is no number of a trace: 'moss trace list' lists them", args[0]))
			}
			var v output.Row
			if err := c.Call(cmd.Context(), http.MethodGet, fmt.Sprintf("/traces/%d", id), nil, &v); err != nil {
				return "", err
			}
			all, refused, failed := number(v["operations"]), number(v["refused"]), number(v["failed"])
			if all > 0 {
				output.Remark(cmd, "%d operations: %d %% done, %d refused, %d failed%s", all, 100*(all-refused-failed)/all, refused, failed, lost(v))
			}
			return fmt.Sprintf("/traces/%d/operations", id), nil
		})
	cmd.Args = cobra.ExactArgs(1)
	cmd.Example = "  moss trace show 3 --filter outcome=refused\n  moss trace show 3 --sort id -o csv > trace.csv"
	return cmd
}

func lost(v output.Row) string {
	if n := number(v["lost"]); n > 0 {
		return fmt.Sprintf("; %d more were not kept", n)
	}
	return ""
}

func number(v any) int {
	n, _ := strconv.Atoi(strings.ReplaceAll(output.Show(v), ",", ""))
	return n
}

func stop() *cobra.Command {
	cmd := &cobra.Command{Use: "stop TRACE", Short: "End a trace before its time", Args: cobra.ExactArgs(1), Example: "  moss trace stop 3"}
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		id, err := strconv.ParseInt(args[0], 10, 64)
		if err != nil {
			return api.Exit(api.ExitUsage, fmt.Errorf("%q is no number of a trace: 'moss trace list' lists them", args[0]))
		}
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodPost, fmt.Sprintf("/traces/%d/stop", id), map[string]any{}, &v); err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "Trace %d has ended; it has %s operations.\n", id, output.Show(v["operations"]))
		return nil
	})
	return cmd
}
