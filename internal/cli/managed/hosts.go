package managed

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

func install() *cobra.Command {
	var hosts []string
	var group, window, reason string
	var restart, detach bool
	cmd := &cobra.Command{
		Use: "install ACCOUNT", Short: "Let hosts fetch the password of a managed account, and restart those that have to learn of it", Args: cobra.ExactArgs(1),
		Long: "Hosts become members of the group that may ask for the password. A host learns its groups when it starts: with --restart each that has to is restarted,\n" +
			"one after the other, in a window where one is given, and no further one where one does not come back. Undoing takes them out of the group again, and restarts nothing.\n" + rehearsedFirst,
		Example: "  moss managed install 'gmsa-lockers$' --host north1\n  moss managed install 'gmsa-lockers$' --host north1 --host kiosk4 --restart --window 2026-12-01T02:00:00Z/2h --reason 'lockers at the north'",
	}
	output.AddFlag(cmd)
	f := cmd.Flags()
	f.StringArrayVar(&hosts, "host", nil, "host, by its name in the directory or here (repeatable)")
	f.StringVar(&group, "group", "", "group that they become members of; the only one that is permitted without it")
	f.BoolVar(&restart, "restart", false, "restart the hosts that have to learn of it")
	f.StringVar(&window, "window", "", "BEGIN/END or BEGIN/DURATION of the restarts, such as 2026-12-01T02:00:00Z/2h")
	f.StringVar(&reason, "reason", "", "why; with it the act begins")
	f.BoolVar(&detach, "detach", false, "do not wait for its end")
	_ = cmd.MarkFlagRequired("host")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		body := map[string]any{"hosts": hosts, "group": group, "restart": restart}
		if window != "" {
			from, to, err := output.Window(window)
			if err != nil {
				return err
			}
			body["not_before"], body["not_after"] = from, to
		}
		return ofAccount(cmd, c, format, args[0], "hosts", body, reason, detach)
	})
	return cmd
}

// ofAccount rehearses something about an account, and begins it where a reason is given.
func ofAccount(cmd *cobra.Command, c *api.Client, format, account, what string, body map[string]any, reason string, detach bool) error {
	id, err := c.Account(cmd.Context(), account)
	if err != nil {
		return err
	}
	return begun(cmd, c, format, fmt.Sprintf("/accounts/%d/managed/%s", id, what), body, reason, detach)
}

func remove() *cobra.Command {
	var hosts []string
	var group, watch, reason string
	var detach bool
	cmd := &cobra.Command{
		Use: "remove ACCOUNT", Short: "Take a managed account from hosts, from the hosts of a group, or away altogether, where nothing uses it", Args: cobra.ExactArgs(1),
		Long: "With --host hosts leave the group that may fetch the password; with --group the hosts of one more group may no longer; with neither the account is disabled,\n" +
			"watched, and deleted when nothing has asked for it. Each is refused while anything is known to use the account there, and while what runs there is not known.\n" + rehearsedFirst,
		Example: "  moss managed remove 'gmsa-lockers$' --host north1 --reason 'lockers are gone there'\n  moss managed remove 'gmsa-lockers$' --group Kiosks\n  moss managed remove 'gmsa-lockers$' --watch 7d --reason 'lockers are gone'",
	}
	output.AddFlag(cmd)
	f := cmd.Flags()
	f.StringArrayVar(&hosts, "host", nil, "host, by its name in the directory or here (repeatable)")
	f.StringVar(&group, "group", "", "group whose hosts may no longer fetch the password")
	f.StringVar(&watch, "watch", "7d", "of the account itself: how long nothing may ask for it, disabled, before it is deleted")
	f.StringVar(&reason, "reason", "", "why; with it the act begins")
	f.BoolVar(&detach, "detach", false, "do not wait for its end")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		body := map[string]any{}
		switch {
		case len(hosts) > 0 && group != "":
			return api.Exit(api.ExitUsage, errors.New("give --host or --group, not both"))
		case len(hosts) > 0:
			body["hosts"] = hosts
		case group != "":
			body["group"] = group
		default:
			span, err := output.Span(watch)
			if err != nil {
				return api.Exit(api.ExitUsage, fmt.Errorf("--watch: %w", err))
			}
			body["watch_hours"] = int(span.Round(time.Hour) / time.Hour)
		}
		return ofAccount(cmd, c, format, args[0], "removal", body, reason, detach)
	})
	return cmd
}
