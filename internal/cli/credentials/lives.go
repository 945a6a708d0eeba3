package credentials

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// acts are what was done about an end from here, in words.
func acts(list any) string {
	var out []string
	all, _ := list.([]any)
	for _, one := range all {
		m, _ := one.(map[string]any)
		words := output.Show(m["act"])
		if until := output.Show(m["until"]); until != "" {
			words += " " + until
		}
		out = append(out, fmt.Sprintf("%s by %s on %s (amendment %s)", words, output.Show(m["by"]), output.Show(m["at"]), output.Show(m["amendment_id"])))
	}
	return strings.Join(out, ", ")
}

// life is moss credential life.
func life() *cobra.Command {
	cmd := &cobra.Command{Use: "life ACCOUNT", Short: "Tell the life of what proves an account, and of each of its keys", Args: cobra.ExactArgs(1), Example: "  moss credential life svc-fuelcard\n  moss credential life feeds/kiosktimes -o json"}
	cmd.Long = "Tells when each was made, first seen by a survey, last used, changed, rotated, and when it ends, as far as its\nsystem tells; and why it may have outlived its purpose: not used or not changed for longer than the policy of its\nlabel lets it (90 and 365 days where none says), disabled, or ended. 'moss credential delete --watch 30d' ends one safely."
	output.AddFlag(cmd)
	columns := []output.Column{{"WHAT", "what"}, {"NAME", "name"}, {"MADE", "born"}, {"FIRST SEEN", "first_seen"}, {"LAST USED", "last_used"}, {"CHANGED", "changed"}, {"ROTATED", "rotated"}, {"ENDS", "left"}, {"DONE FROM HERE", "made"}, {"OUTLIVES", "outlives"}}
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		resolved, err := c.ResolveCredential(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		if resolved.AccountID == 0 {
			return api.Exit(api.ExitUsage, errors.New("lives are told of an account and of the keys that prove it: name an account"))
		}
		var rows []output.Row
		var raw json.RawMessage
		if err := c.Call(cmd.Context(), http.MethodGet, fmt.Sprintf("/accounts/%d/lives", resolved.AccountID), nil, &raw); err != nil {
			return err
		}
		if err := json.Unmarshal(raw, &rows); err != nil {
			return fmt.Errorf("the answer cannot be read: %w", err)
		}
		if format == "table" {
			for _, r := range rows {
				r["made"] = acts(r["made"])
			}
			return output.Write(cmd.OutOrStdout(), format, columns, rows, raw)
		}
		return output.Write(cmd.OutOrStdout(), format, columns, rows, raw)
	})
	return cmd
}

// outlived is moss credential outlived.
func outlived() *cobra.Command {
	cmd := output.ListCommand("outlived", "List what has outlived its purpose, what has most first, and how each is ended safely", "/outlived", []output.Column{
		{"POINTS", "points"}, {"WHAT", "what"}, {"NAME", "name"}, {"SYSTEM", "system"}, {"WHY", "reasons"}, {"USED BY", "dependents"}, {"REMEDY", "remedy"}, {"REHEARSE IT", "command"}, {"SINCE", "since"},
	}, "Nothing is known to have outlived its purpose.")
	cmd.Long = "Lists accounts that programs use (something depends on them, they are in custody or have a label, or are of a data\nstore or a cloud) and keys that let somebody in: unused, disabled, ended or unchanged for longer than the policy of\ntheir label lets them (90 and 365 days where none says), or whose owner is gone. What is not known is no reason.\nREMEDY: delete (disabled, watched for a time, then deleted), disable, rotate, or look, for something depends on it.\nIt is judged after each survey, and once a day."
	cmd.Example = "  moss credential outlived\n  moss credential outlived --filter remedy=delete --filter 'points>50'\n  moss credential outlived --filter reasons~owner -o json"
	return cmd
}
