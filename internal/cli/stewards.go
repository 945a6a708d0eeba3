package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"os"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// stewardFlags are what a steward is made of.
type stewardFlags struct{ account, passwordFile, keyFile string }

func (f *stewardFlags) register(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.account, "account", "", "user name, DN or principal name")
	cmd.Flags().StringVar(&f.passwordFile, "password-file", "", "file with the password, - for standard input; asked for by default")
	cmd.Flags().StringVar(&f.keyFile, "key-file", "", "file with an SSH private key")
}

// save stores a steward; it asks for the password when no key is given.
func (f *stewardFlags) save(cmd *cobra.Command, c *api.Client, name string) error {
	in := map[string]string{"account": f.account}
	if f.keyFile != "" {
		raw, err := os.ReadFile(f.keyFile)
		if err != nil {
			return err
		}
		in["private_key"] = string(raw)
	}
	if f.keyFile == "" || f.passwordFile != "" {
		password, err := output.ReadSecret(cmd, f.passwordFile, "Password of "+f.account)
		if err != nil {
			return err
		}
		in["password"] = password
	}
	if err := c.Call(cmd.Context(), http.MethodPut, "/stewards/"+url.PathEscape(name), in, nil); err != nil {
		return err
	}
	fmt.Fprintf(cmd.OutOrStdout(), "Stored the steward %s (%s), sealed.\n", output.Safe(name), output.Safe(f.account))
	return nil
}

// steward returns one that is stored, or nil.
func findSteward(ctx context.Context, c *api.Client, name string) (output.Row, error) {
	var page struct{ Items []output.Row }
	if err := c.Call(ctx, http.MethodGet, "/stewards?"+url.Values{"filter": {"name=" + name}}.Encode(), nil, &page); err != nil || len(page.Items) == 0 {
		return nil, err
	}
	return page.Items[0], nil
}

func stewardCommand() *cobra.Command {
	var added, changed stewardFlags
	add := &cobra.Command{
		Use: "add NAME", Short: "Store the account by which systems are reached, sealed", Args: cobra.ExactArgs(1),
		Example: "  moss steward add terminals --account mossmgr --key-file ~/.ssh/moss\n  moss steward add directory --account 'CN=moss,DC=larkmoor,DC=example' --password-file -",
		RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
			have, err := findSteward(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			if have != nil {
				return api.Exit(api.ExitUsage, fmt.Errorf("there is a steward %s (%s), which %s systems use: 'moss steward change %s' gives it another password or key", args[0], output.Show(have["account"]), output.Show(have["systems"]), args[0]))
			}
			return added.save(cmd, c, args[0])
		}),
	}
	added.register(add)
	_ = add.MarkFlagRequired("account")
	change := &cobra.Command{
		Use: "change NAME", Short: "Give a steward another password, key or account", Args: cobra.ExactArgs(1),
		Long: "Replaces the password and the key of a steward; what is not given is not kept. Every system that\nuses it is reached with the new one from then on: 'moss system check' tells whether it is let in.",
		RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
			have, err := findSteward(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			if have == nil {
				return api.Negative("there is no steward %s: 'moss steward list' shows them", args[0])
			}
			if changed.account == "" {
				changed.account = output.Show(have["account"])
			}
			return changed.save(cmd, c, args[0])
		}),
	}
	changed.register(change)
	remove := &cobra.Command{Use: "remove NAME", Short: "Remove a steward that no system uses", Args: cobra.ExactArgs(1), RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		return c.Call(cmd.Context(), http.MethodDelete, "/stewards/"+url.PathEscape(args[0]), nil, nil)
	})}
	return output.Group("steward", "Stewards: the accounts by which systems are reached",
		output.ListCommand("list", "List stewards", "/stewards", []output.Column{{"NAME", "name"}, {"ACCOUNT", "account"}, {"PASSWORD", "has_password"}, {"KEY", "has_key"}, {"SYSTEMS", "systems"}, {"CHANGED", "changed"}}, "There are no stewards. Add one with 'moss steward add'."), add, change, remove)
}
