// Package cli is the command line. It talks to the service over its HTTP API
// only; what it can do, any other program can.
package cli

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/amend"
	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/charters"
	"mossledger.example/moss/internal/cli/configuration"
	"mossledger.example/moss/internal/cli/credentials"
	"mossledger.example/moss/internal/cli/guidance"
	"mossledger.example/moss/internal/cli/labelling"
	"mossledger.example/moss/internal/cli/managed"
	"mossledger.example/moss/internal/cli/output"
	"mossledger.example/moss/internal/cli/probes"
	"mossledger.example/moss/internal/cli/rights"
	"mossledger.example/moss/internal/cli/rotation"
	"mossledger.example/moss/internal/cli/traces"
	"mossledger.example/moss/internal/cli/unattended"
)

// New makes the root command. more are commands that are not clients of the
// API: the service itself and the demonstration.
func New(version string, more ...*cobra.Command) *cobra.Command {
	root := &cobra.Command{
		Use: "moss", Short: "Moss Ledger: service accounts, what depends on them, and changing their passwords without breaking anything",
		Version: version, SilenceErrors: true, SilenceUsage: true,
		Long: `Moss Ledger keeps track of the accounts that programs use, finds what would
break if one of their passwords changed, and changes it everywhere, proven or undone.

Exit codes: 0 done, 1 it did not work, 2 the command line is wrong,
3 it worked and the answer is no (a check failed, drift, a rotation that did not
end well, a ledger that does not hold), 4 not signed in or no right.`,
	}
	root.AddCommand(more...)
	root.AddCommand(loginCommand(), logoutCommand(), stewardCommand(), systemCommand(), surveyCommand(), changeCommand(), labelling.RuleCommand(), rights.Command(), rights.RiskCommand(), managed.Command(), amend.Command(), probes.Command(), traces.Command(), charters.Command(), labelling.LabelCommand(), unattended.PolicyCommand(), unattended.WindowCommand(), unattended.OrderCommand(), unattended.ScheduleCommand(), unattended.FreezeCommand(), unattended.NotifyCommand(), unattended.RequirementCommand(), unattended.TandemCommand(), configuration.Command(), unattended.ThawCommand(), accountCommand(), dependentCommand(),
		useCommand(), radiusCommand(), searchCommand(), socketCommand(), credentials.Command(), credentials.ExpiryCommand(), rotation.CustodyCommand(), rotation.RotateCommand(), rotation.BatchCommand(), rotation.ReportCommand(), findingCommand(), rotation.ExplainCommand(), approvalCommand(), ledgerCommand(), userCommand(), tokenCommand(), sessionCommand())
	output.Screens(root)
	guidance.Give(root)
	return root
}

// Execute runs a command line and returns its exit code.
func Execute(root *cobra.Command) int {
	err := root.Execute()
	if err == nil {
		return api.ExitOK
	}
	words, usage := guidance.FlagRules(err.Error())
	fmt.Fprintln(root.ErrOrStderr(), "moss: "+safeLines(words))
	var exit *api.ExitError
	if errors.As(err, &exit) {
		return exit.Code
	}
	if usage || strings.HasPrefix(words, "unknown command") {
		return api.ExitUsage
	}
	return api.ExitFailed
}

func safeLines(text string) string {
	lines := strings.Split(text, "\n")
	for i := range lines {
		lines[i] = output.Safe(lines[i])
	}
	return strings.Join(lines, "\n")
}

func loginCommand() *cobra.Command {
	var server, name, passwordFile, ca, codeFile string
	var setUp bool
	cmd := &cobra.Command{
		Use: "login", Short: "Sign in to a service, or set it up the first time", Args: cobra.NoArgs,
		Example: "  moss login --server http://127.0.0.1:7443 --set-up\n  moss login --name ines --password-file pw.txt",
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, _ := api.LoadSession() // an earlier server is the default
			device := s.Device
			if server != "" {
				s = api.Session{Server: server}
			}
			if ca != "" {
				s.CA = ca
			}
			if s.Server == "" {
				return api.Exit(api.ExitUsage, errors.New("which service? give --server URL"))
			}
			c, err := api.NewClient(api.Session{Server: s.Server, CA: s.CA})
			if err != nil {
				return err
			}
			var status struct {
				SetUp bool `json:"set_up"`
			}
			if err := c.Call(cmd.Context(), http.MethodGet, "/status", nil, &status); err != nil {
				return err
			}
			if !status.SetUp && !setUp {
				return api.Exit(api.ExitSignIn, errors.New("nobody can sign in yet: run it with --set-up and the one-time code that the service printed"))
			}
			code := ""
			if setUp {
				if code, err = output.ReadSecret(cmd, codeFile, "Set-up code"); err != nil {
					return err
				}
			}
			if name == "" {
				if name, err = output.Ask(cmd, "Name"); err != nil {
					return err
				}
			}
			password, err := output.ReadSecret(cmd, passwordFile, "Password")
			if err != nil {
				return err
			}
			if setUp {
				if err := c.Call(cmd.Context(), http.MethodPost, "/setup", map[string]string{"code": code, "name": name, "password": password}, nil); err != nil {
					return err
				}
			}
			var me struct {
				Name, Token, Device string
				Roles               []string
			}
			if err := c.Call(cmd.Context(), http.MethodPost, "/sessions", map[string]any{"name": name, "password": password, "token": true, "device": device}, &me); err != nil {
				return err
			}
			s.Token, s.Name, s.Device = me.Token, me.Name, me.Device
			if err := s.Save(); err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "Signed in to %s as %s (%s).\n", s.Server, me.Name, strings.Join(me.Roles, ", "))
			return nil
		},
	}
	cmd.Flags().StringVar(&server, "server", "", "URL of the service; the one of the last sign-in by default")
	cmd.Flags().StringVar(&name, "name", "", "your name; asked for by default")
	cmd.Flags().StringVar(&passwordFile, "password-file", "", "file with the password, - for standard input; asked for by default")
	cmd.Flags().StringVar(&ca, "ca-file", "", "PEM of the CA that signed the service's certificate")
	cmd.Flags().BoolVar(&setUp, "set-up", false, "make the first user with the one-time code")
	cmd.Flags().StringVar(&codeFile, "code-file", "", "file with the set-up code; asked for by default")
	return cmd
}

func logoutCommand() *cobra.Command {
	return &cobra.Command{Use: "logout", Short: "Sign out: the token of this command line ends", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		s, err := api.LoadSession()
		if err != nil || s.Token == "" {
			return api.Exit(api.ExitSignIn, errors.New("nobody is signed in here"))
		}
		c, err := api.NewClient(s)
		if err != nil {
			return err
		}
		ended := c.Call(cmd.Context(), http.MethodDelete, "/sessions/current", nil, nil)
		// The server and the mark of this device stay for the next time.
		s.Token, s.Name = "", ""
		if err := s.Save(); err != nil {
			return err
		}
		var refused *api.ExitError
		if ended != nil && !errors.As(ended, &refused) { // refused: it had ended already
			return fmt.Errorf("signed out here, but the token could not be ended: revoke it with 'moss token revoke': %w", ended)
		}
		fmt.Fprintln(cmd.OutOrStdout(), "Signed out; the token has ended.")
		return nil
	}}
}

func userCommand() *cobra.Command {
	var roles []string
	var passwordFile string
	add := &cobra.Command{Use: "add NAME", Short: "Add a person", Args: cobra.ExactArgs(1), RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		password, err := output.ReadSecret(cmd, passwordFile, "Password of "+args[0])
		if err != nil {
			return err
		}
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodPost, "/users", map[string]any{"name": args[0], "password": password, "roles": roles}, &v); err != nil {
			return err
		}
		if waits(cmd, v) {
			return nil
		}
		fmt.Fprintf(cmd.OutOrStdout(), "Added %s (%s).\n", args[0], strings.Join(roles, ", "))
		return nil
	})}
	add.Flags().StringSliceVar(&roles, "role", []string{"viewer"}, "viewer, operator, approver, auditor, administrator (repeatable)")
	add.Flags().StringVar(&passwordFile, "password-file", "", "file with the password, - for standard input; asked for by default")
	var oldFile, newFile string
	password := &cobra.Command{Use: "password", Short: "Change your own password; all your sessions and tokens end", Args: cobra.NoArgs, RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, _ []string) error {
		before, err := output.ReadSecret(cmd, oldFile, "Old password")
		if err != nil {
			return err
		}
		after, err := output.ReadSecret(cmd, newFile, "New password")
		if err != nil {
			return err
		}
		if err := c.Call(cmd.Context(), http.MethodPost, "/me/password", map[string]string{"old": before, "new": after}, nil); err != nil {
			return err
		}
		fmt.Fprintln(cmd.OutOrStdout(), "Changed. Sign in again with 'moss login'.")
		return nil
	})}
	password.Flags().StringVar(&oldFile, "old-file", "", "file with the old password, - for standard input; asked for by default")
	password.Flags().StringVar(&newFile, "new-file", "", "file with the new password; asked for by default")
	var newRoles []string
	var disable, enable bool
	var resetFile string
	change := &cobra.Command{Use: "change NAME", Short: "Change roles, password or state of a person", Args: cobra.ExactArgs(1), RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		in := map[string]any{}
		if len(newRoles) > 0 {
			in["roles"] = newRoles
		}
		if disable || enable {
			in["disabled"] = disable
		}
		if resetFile != "" {
			password, err := output.ReadSecret(cmd, resetFile, "New password of "+args[0])
			if err != nil {
				return err
			}
			in["password"] = password
		}
		if len(in) == 0 {
			return api.Exit(api.ExitUsage, errors.New("nothing to change: give --role, --password-file, --disable or --enable"))
		}
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodPatch, "/users/"+url.PathEscape(args[0]), in, &v); err != nil {
			return err
		}
		if waits(cmd, v) {
			return nil
		}
		fmt.Fprintf(cmd.OutOrStdout(), "Changed %s.\n", args[0])
		return nil
	})}
	change.Flags().StringSliceVar(&newRoles, "role", nil, "the roles from now on (repeatable)")
	change.Flags().StringVar(&resetFile, "password-file", "", "file with a new password for somebody who lost theirs, - for standard input")
	change.Flags().BoolVar(&disable, "disable", false, "end all sessions and tokens and refuse sign-in")
	change.Flags().BoolVar(&enable, "enable", false, "allow sign-in again")
	change.MarkFlagsMutuallyExclusive("enable", "disable")
	return output.Group("user", "People who sign in to Moss Ledger",
		output.ListCommand("list", "List people", "/users", []output.Column{{"NAME", "name"}, {"ROLES", "roles"}, {"DISABLED", "disabled"}, {"CREATED", "created"}}, "There are no people."), add, change, password)
}

func tokenCommand() *cobra.Command {
	var calendar bool
	add := &cobra.Command{Use: "add LABEL", Short: "Make an API token; it is shown once", Args: cobra.ExactArgs(1), RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		var made struct{ Token string }
		in := map[string]string{"label": args[0]}
		if calendar {
			in["only"] = "calendar"
		}
		if err := c.Call(cmd.Context(), http.MethodPost, "/tokens", in, &made); err != nil {
			return err
		}
		fmt.Fprintln(cmd.OutOrStdout(), made.Token)
		return nil
	})}
	add.Flags().BoolVar(&calendar, "calendar", false, "it reads the calendars (/api/v1/schedule.ics, /api/v1/expiry.ics) and nothing else, for a year; send it as a password")
	revoke := &cobra.Command{Use: "revoke ID", Short: "Revoke an API token", Args: api.Numbers(1, 1, "a token", "token list"), RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		if err := c.Call(cmd.Context(), http.MethodDelete, "/tokens/"+args[0], nil, nil); err != nil {
			return err
		}
		fmt.Fprintln(cmd.OutOrStdout(), "Revoked.")
		return nil
	})}
	return output.Group("token", "API tokens", output.ListCommand("list", "List API tokens", "/tokens", []output.Column{{"ID", "id"}, {"USER", "user"}, {"LABEL", "label"}, {"ONLY", "only"}, {"CREATED", "created"}, {"EXPIRES", "expires"}, {"REVOKED", "revoked"}}, "There are no tokens."), add, revoke)
}
