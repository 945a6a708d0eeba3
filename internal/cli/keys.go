package cli

import (
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"
)

func keyCommand() *cobra.Command {
	list := listCommand("list", "List key pairs: how many accounts they open, and how many files hold them", "/keys",
		[]column{{"ID", "id"}, {"NAME", "name"}, {"TYPE", "type"}, {"BITS", "bits"}, {"DOORS", "doors"}, {"HOLDERS", "holders"}, {"CUSTODY", "custody"}, {"VERDICT", "verdict"}, {"ROTATED", "rotated"}, {"FINGERPRINT", "fingerprint"}},
		"No key pair was seen: survey the hosts with 'moss survey run'.")
	show := &cobra.Command{
		Use: "show KEY", Short: "Show a key pair with what it opens and where it is held", Args: cobra.ExactArgs(1),
		Long:    "KEY is a fingerprint or the beginning of one, key:NUMBER, or a name.",
		Example: "  moss key show SHA256:Zk3fQ9\n  moss key show backup@tide1",
	}
	addOutput(show)
	show.RunE = talking(showKey)
	return group("key", "SSH key pairs: what they open, and who holds them", list, show)
}

var keyPlaces = []column{{"WHAT", "what"}, {"SYSTEM", "system"}, {"ACCOUNT", "key.lets"}, {"FILE", "path"}, {"RESTRICTIONS", "key.options"}, {"MODE", "key.mode"}}

func showKey(cmd *cobra.Command, c *client, format string, args []string) error {
	id, err := c.key(cmd.Context(), args[0])
	if err != nil {
		return err
	}
	var v struct {
		Key        row   `json:"key"`
		Dependents []row `json:"dependents"`
		Custody    row   `json:"custody,omitempty"`
		Incomplete []row `json:"incomplete"`
	}
	if err := c.call(cmd.Context(), http.MethodGet, fmt.Sprintf("/keys/%d", id), nil, &v); err != nil {
		return err
	}
	for _, d := range v.Dependents {
		d["what"] = "opens"
		if show(d["kind"]) == "key" {
			d["what"] = "held in"
		}
	}
	if format != "table" {
		return write(cmd.OutOrStdout(), format, keyPlaces, v.Dependents, v)
	}
	out := cmd.OutOrStdout()
	for _, f := range []column{{"Name", "name"}, {"Type", "type"}, {"Bits", "bits"}, {"Fingerprint", "fingerprint"}, {"Rotated", "rotated"}} {
		if text := safe(show(v.Key[f.field])); text != "" {
			fmt.Fprintf(out, "%-12s %s\n", f.head, text)
		}
	}
	if v.Custody != nil {
		fmt.Fprintf(out, "%-12s since %s; %s: %s\n", "Custody", show(v.Custody["taken"]), show(v.Custody["verdict"]), safe(show(v.Custody["words"])))
	} else {
		fmt.Fprintf(out, "%-12s no; take it with 'moss custody take %s'\n", "Custody", show(v.Key["fingerprint"]))
	}
	fmt.Fprintln(out)
	table(out, keyPlaces, v.Dependents)
	if n := len(v.Incomplete); n > 0 {
		fmt.Fprintf(out, "\n%d systems were not read completely: the key may be there too.\n", n)
	}
	return nil
}

// takeKey takes a key pair into custody.
func takeKey(cmd *cobra.Command, c *client, format, subject, file string) error {
	in := map[string]any{}
	if file != "" {
		text, err := readSecret(cmd, file, "")
		if err != nil {
			return err
		}
		in["private_key"] = text
	}
	var v row
	if err := c.call(cmd.Context(), http.MethodPost, subject+"/custody", in, &v); err != nil {
		return err
	}
	if format != "table" {
		return write(cmd.OutOrStdout(), format, []column{{"ID", "key.id"}, {"NAME", "key.name"}, {"VERDICT", "custody.verdict"}, {"TAKEN", "custody.taken"}}, []row{v}, v)
	}
	fmt.Fprintf(cmd.OutOrStdout(), "The key %s is in custody: %s.\n", safe(show(fieldOf(v, "key.name"))), strings.TrimSuffix(safe(show(fieldOf(v, "custody.words"))), "."))
	return nil
}
