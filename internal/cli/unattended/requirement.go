package unattended

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// requirementFlags is a requirement as flags say it.
type requirementFlags struct {
	label, description, reason string
	restarts, hours            int
	kinds                      []string
	unread                     bool
}

func (r *requirementFlags) register(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&r.label, "label", "", "of the accounts that it is for; without it, it is for all")
	f.IntVar(&r.restarts, "restarts", 0, "at least so many dependents are restarted")
	f.StringArrayVar(&r.kinds, "dependent-kind", nil, "with --restarts: only dependents of this kind are counted (repeatable)")
	f.BoolVar(&r.unread, "unread", false, "systems could not be read completely: something there may use the account")
	f.IntVar(&r.hours, "hours", 0, "for so long a request waits; 24 by default")
	f.StringVar(&r.description, "description", "", "what it is for")
	_ = cmd.RegisterFlagCompletionFunc("label", cobra.NoFileCompletions)
}

func (r *requirementFlags) body(cmd *cobra.Command, before output.Row) map[string]any {
	in := map[string]any{}
	for _, name := range []string{"label", "restarts", "kinds", "unread", "hours", "description", "revision"} {
		if before[name] != nil {
			in[name] = before[name]
		}
	}
	for flag, set := range map[string]struct {
		field string
		value any
	}{"label": {"label", r.label}, "restarts": {"restarts", r.restarts}, "dependent-kind": {"kinds", r.kinds}, "unread": {"unread", r.unread}, "hours": {"hours", r.hours}, "description": {"description", r.description}, "reason": {"reason", r.reason}} {
		if changed(cmd, flag) {
			in[set.field] = set.value
		}
	}
	return in
}

// saidOf tells what came of a change.
func saidOf(cmd *cobra.Command, v output.Row, done string) {
	if id := output.Show(v["waits_for_approval"]); id != "" {
		fmt.Fprintf(cmd.OutOrStdout(), "It waits: somebody else approves it with 'moss approval grant %s'.\n", id)
		return
	}
	fmt.Fprintln(cmd.OutOrStdout(), done)
}

// RequirementCommand is for which rotations a second person is needed.
func RequirementCommand() *cobra.Command {
	list := output.ListCommand("list", "List for which rotations a second person is needed", "/requirements", []output.Column{{"NAME", "name"}, {"LABEL", "label"}, {"RESTARTS", "restarts"}, {"KINDS", "kinds"}, {"UNREAD", "unread"}, {"HOURS", "hours"}, {"DESCRIPTION", "description"}},
		"One person is enough for every rotation. Add a requirement with 'moss requirement add'.")
	show := &cobra.Command{Use: "show REQUIREMENT", Short: "Show one", Args: cobra.ExactArgs(1)}
	output.AddFlag(show)
	show.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		v, err := one(cmd, c, "/requirements", args[0])
		if err != nil {
			return err
		}
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, nil, []output.Row{v}, v)
		}
		return output.Details(cmd, v, []output.Column{{"Name", "name"}, {"Label", "label"}, {"Restarts", "restarts"}, {"Kinds", "kinds"}, {"Unread", "unread"}, {"Hours", "hours"}, {"Description", "description"}, {"Changed", "changed"}, {"By", "changed_by"}})
	})
	return output.Group("requirement", "For which rotations a second person is needed", list, show, requirementAdd(), requirementChange(), requirementRemove())
}

func requirementAdd() *cobra.Command {
	var r requirementFlags
	cmd := &cobra.Command{Use: "add REQUIREMENT", Short: "Say for which rotations a second person is needed; all that is said must hold", Args: cobra.ExactArgs(1)}
	r.register(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		if err := mustBeNew(cmd, c, "/requirements", "requirement", args[0]); err != nil {
			return err
		}
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodPut, "/requirements/"+url.PathEscape(args[0]), r.body(cmd, nil), &v); err != nil {
			return err
		}
		saidOf(cmd, v, "The requirement "+output.Safe(args[0])+" is kept: rehearsals show it from now on.")
		return nil
	})
	return cmd
}

func requirementChange() *cobra.Command {
	var r requirementFlags
	cmd := &cobra.Command{Use: "change REQUIREMENT", Short: "Change one; a second person approves that, once there is one", Args: cobra.ExactArgs(1)}
	r.register(cmd)
	cmd.Flags().StringVar(&r.reason, "reason", "", "why")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		if cmd.Flags().NFlag() == 0 {
			return api.Exit(api.ExitUsage, errors.New("nothing to change: see 'moss requirement change --help'"))
		}
		before, err := one(cmd, c, "/requirements", args[0])
		if err != nil {
			return err
		}
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodPut, "/requirements/"+url.PathEscape(args[0]), r.body(cmd, before), &v); err != nil {
			return err
		}
		saidOf(cmd, v, "The requirement "+output.Safe(args[0])+" is changed.")
		return nil
	})
	return cmd
}

func requirementRemove() *cobra.Command {
	var reason string
	var yes bool
	cmd := &cobra.Command{Use: "remove REQUIREMENT", Short: "Remove one; a second person approves that, once there is one", Args: cobra.ExactArgs(1)}
	cmd.Flags().StringVar(&reason, "reason", "", "why")
	cmd.Flags().BoolVar(&yes, "yes", false, "remove it without being asked")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		before, err := one(cmd, c, "/requirements", args[0])
		if err != nil {
			return err
		}
		if err := output.Sure(cmd, yes, fmt.Sprintf("Remove the requirement %s?", args[0])); err != nil {
			return err
		}
		var v output.Row
		query := url.Values{"revision": {output.Show(before["revision"])}, "reason": {reason}}
		if err := c.Call(cmd.Context(), http.MethodDelete, "/requirements/"+url.PathEscape(args[0])+"?"+query.Encode(), nil, &v); err != nil {
			return err
		}
		saidOf(cmd, v, "The requirement "+output.Safe(args[0])+" is removed.")
		return nil
	})
	return cmd
}
