package rotation

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// assigning is what 'assign' and 'repair' share: rehearse, and unless that is
// all that was asked, start.
type assigning struct {
	request        rotationRequest
	reason         string
	only, detach   bool
	filters        []string
	search         string
	dependents     []int64
	choosing, mend bool
}

func (a *assigning) command(use, short, long string) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Long: long, Args: cobra.ExactArgs(1)}
	a.request.register(cmd)
	cmd.Flags().StringVar(&a.reason, "reason", "", "why; it is recorded")
	cmd.Flags().BoolVar(&a.only, "rehearse", false, "only rehearse it")
	cmd.Flags().BoolVar(&a.detach, "detach", false, "start it and do not wait")
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(a.run)
	return cmd
}

func (a *assigning) run(cmd *cobra.Command, c *api.Client, format string, args []string) error {
	if a.reason == "" && !a.only {
		return api.Exit(api.ExitUsage, errors.New("give --reason, or --rehearse to only see what would happen"))
	}
	if a.choosing && len(a.filters) == 0 && a.search == "" && len(a.dependents) == 0 {
		return api.Exit(api.ExitUsage, errors.New("choose dependents: --filter, --search or --dependent"))
	}
	in, err := a.request.body(cmd)
	if err != nil {
		return err
	}
	subject, err := c.Credential(cmd.Context(), args[0])
	if err != nil {
		return err
	}
	if a.mend {
		in["repair"] = true
	} else {
		in["where"], in["search"], in["assign"] = a.filters, a.search, a.dependents
	}
	shown := format
	if format != "table" && !a.only {
		shown = "table" // the rotation is what was asked for; its rehearsal is not printed
	}
	out := cmd.OutOrStdout()
	if shown != format {
		cmd.SetOut(cmd.ErrOrStderr())
	}
	err = rehearse(cmd, c, shown, subject, in)
	cmd.SetOut(out)
	if err != nil || a.only {
		return err
	}
	if format == "table" {
		fmt.Fprintln(out)
	}
	in["reason"] = a.reason
	return startRotation(cmd, c, format, args[0], subject, in, a.detach)
}

func assignCommand() *cobra.Command {
	a := &assigning{choosing: true}
	cmd := a.command("assign ACCOUNT", "Let chosen services, tasks and application pools log on as an account",
		"Gives the log-on of an account in custody to dependents chosen by filters, search or number,\nall in one rotation that is rehearsed first, proven and can be undone. The account's password\nstays as it is.")
	cmd.Example = `  moss rotate assign svc-berth --filter runs_as~odile --filter kind=service --reason "Odile left"
  moss rotate assign svc-berth --filter 'executable*=*\berth\*' --restart leave --rehearse
  moss rotate assign svc-berth --dependent 41 --dependent 42 --window 2026-11-24T02:00:00Z/2h --reason "quiet hours"`
	a.choose(cmd)
	return cmd
}

func (a *assigning) choose(cmd *cobra.Command) {
	cmd.Flags().StringArrayVarP(&a.filters, "filter", "f", nil, "as in 'moss dependent list' (repeatable)")
	cmd.Flags().StringVar(&a.search, "search", "", "as in 'moss dependent list'")
	cmd.Flags().Int64SliceVar(&a.dependents, "dependent", nil, "number of a dependent (repeatable)")
}

// AssignManaged makes moss managed assign.
func AssignManaged() *cobra.Command {
	a := &assigning{choosing: true}
	cmd := a.command("assign ACCOUNT", "Let chosen services, tasks and application pools log on as a managed account",
		"Gives the log-on of a managed account to dependents chosen by filters, search or number, all in one rotation that is rehearsed first, proven and can be\nundone. Nobody needs the password: each host fetches it. Whether each can is asked before: that it is permitted, was restarted since, has an encryption type\nin common with the account, and lets it log on as a service. Undoing gives back what was there, as long as that account is in custody.")
	cmd.Example = `  moss managed assign 'gmsa-gates$' --filter system=skerry1 --filter name=KioskAgent --rehearse
  moss managed assign 'gmsa-gates$' --filter runs_as~svc-terminal --first-alone --reason "gates without a password"`
	a.choose(cmd)
	return cmd
}

func repairCommand() *cobra.Command {
	a := &assigning{mend: true}
	return a.command("repair ACCOUNT", "Give an account's current password to all that have another stored, and start what is down",
		"Finds the dependents of an account in custody whose stored password is not the current one, that\nrun on an older one, or that are down, gives them the current one, and restarts them in start order.")
}
