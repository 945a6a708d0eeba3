package cli

import (
	"fmt"
	"net/http"

	"github.com/spf13/cobra"
)

func credentialCommand() *cobra.Command {
	list := listCommand("list", "List credentials: where each is accepted and held, and what is kept of it", "/credentials",
		[]column{{"ID", "id"}, {"KIND", "kind"}, {"NAME", "name"}, {"SYSTEM", "system"}, {"TYPE", "type"}, {"BITS", "bits"}, {"POINTS", "points"}, {"LOCATIONS", "locations"}, {"STATE", "state"}, {"VERDICT", "verdict"}, {"ROTATED", "rotated"}, {"FINGERPRINT", "fingerprint"}},
		"No credential is known yet: survey the systems with 'moss survey run'.")
	list.Long = "Lists what proves accounts: passwords that something uses or that are in custody, and SSH keys that\nwere seen. POINTS is where one is accepted (its authority, or entries that let the holder of a key in),\nLOCATIONS where it is held (files, and log-ons that systems keep)."
	show := &cobra.Command{
		Use: "show CREDENTIAL", Short: "Show a credential with where it is accepted and held", Args: cobra.ExactArgs(1),
		Long:    "CREDENTIAL is an account in any spelling, whose password is meant; the fingerprint of a key, the\nbeginning of one, or its name (key:NAME, when an account is called so, too); or credential:NUMBER.",
		Example: "  moss credential show svc-berth\n  moss credential show SHA256:Zk3fQ9\n  moss credential show backup@tide1",
	}
	addOutput(show)
	show.RunE = talking(showCredential)
	return group("credential", "Credentials: passwords and keys, where they are accepted and held", list, show)
}

var credentialPlaces = []column{{"WHAT", "what"}, {"SYSTEM", "system"}, {"ACCOUNT", "key.lets"}, {"FILE", "path"}, {"RESTRICTIONS", "key.options"}, {"MODE", "key.mode"}}

func showCredential(cmd *cobra.Command, c *client, format string, args []string) error {
	resolved, err := c.resolveCredential(cmd.Context(), args[0])
	if err != nil {
		return err
	}
	if resolved.ID == 0 {
		return negative("nothing is known to use the password of %s on %s: 'moss account show id:%d' shows the account, 'moss custody take id:%d' takes it into custody", resolved.Name, resolved.System, resolved.AccountID, resolved.AccountID)
	}
	var v struct {
		Credential row   `json:"credential"`
		Dependents []row `json:"dependents"`
		Incomplete []row `json:"incomplete"`
	}
	if err := c.call(cmd.Context(), http.MethodGet, fmt.Sprintf("/credentials/%d", resolved.ID), nil, &v); err != nil {
		return err
	}
	for _, d := range v.Dependents {
		d["what"] = "opens"
		if show(d["kind"]) == "key" {
			d["what"] = "held in"
		}
	}
	if format != "table" {
		return write(cmd.OutOrStdout(), format, credentialPlaces, v.Dependents, v)
	}
	out := cmd.OutOrStdout()
	for _, f := range []column{{"Number", "id"}, {"Kind", "kind"}, {"Name", "name"}, {"System", "system"}, {"Type", "type"}, {"Bits", "bits"}, {"Fingerprint", "fingerprint"}, {"Accepted at", "points"}, {"Held at", "locations"}, {"Ends", "not_after"}, {"Rotated", "rotated"}} {
		if text := safe(show(v.Credential[f.field])); text != "" {
			fmt.Fprintf(out, "%-12s %s\n", f.head, text)
		}
	}
	if show(v.Credential["state"]) == "custody" {
		fmt.Fprintf(out, "%-12s since %s; %s: %s\n", "Custody", show(v.Credential["taken"]), show(v.Credential["verdict"]), safe(show(v.Credential["words"])))
	} else {
		fmt.Fprintf(out, "%-12s no; take it with 'moss custody take credential:%s'\n", "Custody", show(v.Credential["id"]))
	}
	if resolved.AccountID != 0 {
		fmt.Fprintf(out, "\nWhat depends on it: 'moss account show id:%d'.\n", resolved.AccountID)
	} else {
		fmt.Fprintln(out)
		table(out, credentialPlaces, v.Dependents)
	}
	if n := len(v.Incomplete); n > 0 {
		fmt.Fprintf(out, "\n%d systems were not read completely: it may be there too.\n", n)
	}
	return nil
}
