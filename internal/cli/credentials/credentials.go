// Package credentials has the commands about what proves accounts, and about when it ends.
package credentials

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
	"mossledger.example/moss/internal/core/expiry"
)

// Command is moss credential.
func Command() *cobra.Command {
	list := output.ListCommand("list", "List credentials: where each is accepted and held, and what is kept of it", "/credentials",
		[]output.Column{{"ID", "id"}, {"KIND", "kind"}, {"NAME", "name"}, {"SYSTEM", "system"}, {"TYPE", "type"}, {"BITS", "bits"}, {"POINTS", "points"}, {"LOCATIONS", "locations"}, {"STATE", "state"}, {"VERDICT", "verdict"}, {"ROTATED", "rotated"}, {"FINGERPRINT", "fingerprint"}},
		"No credential is known yet: survey the systems with 'moss survey run'.")
	list.Long = "Lists what proves accounts: passwords that something uses or that are in custody, and SSH keys that\nwere seen. POINTS is where one is accepted (its authority, or entries that let the holder of a key in),\nLOCATIONS where it is held (files, and log-ons that systems keep)."
	show := &cobra.Command{
		Use: "show CREDENTIAL", Short: "Show a credential with where it is accepted and held", Args: cobra.ExactArgs(1),
		Long:    "CREDENTIAL is an account in any spelling, whose password is meant; the fingerprint of a key, the\nbeginning of one, or its name (key:NAME, when an account is called so, too); or credential:NUMBER.",
		Example: "  moss credential show svc-berth\n  moss credential show SHA256:Zk3fQ9\n  moss credential show backup@tide1",
	}
	output.AddFlag(show)
	show.RunE = output.Talking(showCredential)
	return output.Group("credential", "Credentials: passwords and keys, where they are accepted and held, and when they end", list, show,
		act(expiry.SetEnd), act(expiry.Extend), act(expiry.Expire), act(expiry.Disable), act(expiry.Enable), act(expiry.Delete), issue(), life(), outlived())
}

var credentialPlaces = []output.Column{{"WHAT", "what"}, {"SYSTEM", "system"}, {"ACCOUNT", "key.lets"}, {"FILE", "path"}, {"RESTRICTIONS", "key.options"}, {"MODE", "key.mode"}}

func showCredential(cmd *cobra.Command, c *api.Client, format string, args []string) error {
	resolved, err := c.ResolveCredential(cmd.Context(), args[0])
	if err != nil {
		return err
	}
	if resolved.ID == 0 {
		own, err := c.KeysOf(cmd.Context(), resolved.AccountID)
		if err != nil {
			return err
		}
		if len(own) > 1 {
			names := make([]string, len(own))
			for i, k := range own {
				names[i] = k.Name + " (" + k.Fingerprint + ")"
			}
			return api.Exit(api.ExitUsage, fmt.Errorf("%s on %s is proven by several keys: name one by its fingerprint: %s", resolved.Name, resolved.System, strings.Join(names, ", ")))
		}
		if len(own) == 1 {
			resolved = own[0]
		}
	}
	if resolved.ID == 0 {
		return api.Negative("nothing is known to use the password of %s on %s: 'moss account show id:%d' shows the account, 'moss custody take id:%d' takes it into custody", resolved.Name, resolved.System, resolved.AccountID, resolved.AccountID)
	}
	var v struct {
		Credential output.Row   `json:"credential"`
		Dependents []output.Row `json:"dependents"`
		Incomplete []output.Row `json:"incomplete"`
	}
	// Programs get what the service said, whole.
	var raw json.RawMessage
	if err := c.Call(cmd.Context(), http.MethodGet, fmt.Sprintf("/credentials/%d", resolved.ID), nil, &raw); err != nil {
		return err
	}
	if err := json.Unmarshal(raw, &v); err != nil {
		return fmt.Errorf("the answer cannot be read: %w", err)
	}
	for _, d := range v.Dependents {
		d["what"] = "opens"
		switch output.Show(d["kind"]) {
		case "key", "cloud key":
			d["what"] = "held in"
		case "certificate":
			d["what"] = "certificate in"
		case "tls port":
			d["what"] = "shown by"
		}
		if output.Show(d["path"]) == "" {
			d["path"] = d["place"]
		}
	}
	if format != "table" {
		return output.Write(cmd.OutOrStdout(), format, credentialPlaces, v.Dependents, raw)
	}
	out := cmd.OutOrStdout()
	for _, f := range []output.Column{{"Number", "id"}, {"Kind", "kind"}, {"Name", "name"}, {"System", "system"}, {"Type", "type"}, {"Bits", "bits"}, {"Fingerprint", "fingerprint"}, {"Accepted at", "points"}, {"Held at", "locations"}, {"Ends", "not_after"}, {"Rotated", "rotated"}} {
		if text := output.Safe(output.Show(v.Credential[f.Field()])); text != "" {
			fmt.Fprintf(out, "%-12s %s\n", f.Head(), text)
		}
	}
	if output.Show(v.Credential["state"]) == "custody" {
		fmt.Fprintf(out, "%-12s since %s; %s: %s\n", "Custody", output.Show(v.Credential["taken"]), output.Show(v.Credential["verdict"]), output.Safe(output.Show(v.Credential["words"])))
	} else {
		fmt.Fprintf(out, "%-12s no; take it with 'moss custody take credential:%s'\n", "Custody", output.Show(v.Credential["id"]))
	}
	if fingerprint := output.Show(v.Credential["fingerprint"]); fingerprint == "" {
		fmt.Fprintf(out, "\nWhat depends on it: 'moss account show id:%d'.\n", resolved.AccountID)
	} else {
		fmt.Fprintln(out)
		output.Table(out, credentialPlaces, v.Dependents)
	}
	if err := showEnds(cmd, c, resolved.AccountID); err != nil {
		return err
	}
	if n := len(v.Incomplete); n > 0 {
		fmt.Fprintf(out, "\n%d systems were not read completely: it may be there too.\n", n)
	}
	return nil
}
