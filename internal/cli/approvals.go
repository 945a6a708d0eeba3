package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

type approval struct {
	ID      int64  `json:"id"`
	Kind    string `json:"kind"`
	Subject string `json:"subject"`
	What    string `json:"what"`
	Reason  string `json:"reason"`
	AskedBy string `json:"asked_by"`
	Asked   string `json:"asked"`
	State   string `json:"state"`
	Expires string `json:"expires"`
	By      string `json:"decided_by"`
	Words   string `json:"words"`
	Digest  string `json:"digest"`
	Changes []struct {
		Field string `json:"field"`
		From  string `json:"from"`
		To    string `json:"to"`
	} `json:"changes"`
}

// waits tells that something waits for a second person.
func waits(cmd *cobra.Command, v output.Row) bool {
	id := output.Show(v["waits_for_approval"])
	if id != "" {
		fmt.Fprintf(cmd.OutOrStdout(), "It waits: somebody else approves it with 'moss approval grant %s'.\n", id)
	}
	return id != ""
}

func (a approval) print(out io.Writer) {
	fmt.Fprintf(out, "Approval %d (%s), asked by %s at %s: %s\n", a.ID, a.State, output.Safe(a.AskedBy), output.Safe(a.Asked), output.Safe(a.What))
	if a.State == "asked" && a.Expires != "" {
		fmt.Fprintf(out, "  It can be approved until %s.\n", output.Safe(a.Expires))
	}
	if a.Reason != "" {
		fmt.Fprintf(out, "  Reason: %s\n", output.Safe(a.Reason))
	}
	for _, c := range a.Changes {
		if c.From == "" {
			fmt.Fprintf(out, "  %s: %s\n", output.Safe(c.Field), output.Safe(c.To))
			continue
		}
		fmt.Fprintf(out, "  %s: %q -> %q\n", output.Safe(c.Field), c.From, c.To)
	}
	if a.By != "" || a.Words != "" {
		fmt.Fprintf(out, "  %s %s\n", output.Safe(a.By), output.Safe(a.Words))
	}
}

func approvalCommand() *cobra.Command {
	showOne := &cobra.Command{Use: "show ID", Short: "Show what was asked for, before and after", Args: api.Numbers(1, 1, "an approval", "approval list")}
	output.AddFlag(showOne)
	showOne.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		var raw json.RawMessage
		if err := c.Call(cmd.Context(), http.MethodGet, "/approvals/"+url.PathEscape(args[0]), nil, &raw); err != nil {
			return err
		}
		var v approval
		if err := json.Unmarshal(raw, &v); err != nil {
			return err
		}
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, []output.Column{{"ID", "id"}}, []output.Row{{"id": v.ID}}, raw)
		}
		v.print(cmd.OutOrStdout())
		return nil
	})
	var words string
	var yes bool
	approve := &cobra.Command{
		Use: "grant ID...", Aliases: []string{"approve"}, Short: "Approve what somebody else asked for; it is done at once", Args: api.Numbers(1, 100, "an approval", "approval list"), Long: "Shows each request, asks, and approves it. What was shown is what is approved: a request\nthat changed in the meantime is refused. Without a terminal give --yes.",
		RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
			var list []approval
			for _, id := range args {
				var v approval
				if err := c.Call(cmd.Context(), http.MethodGet, "/approvals/"+url.PathEscape(id), nil, &v); err != nil {
					return err
				}
				v.print(cmd.OutOrStdout())
				list = append(list, v)
			}
			if !yes {
				answer, err := output.Ask(cmd, fmt.Sprintf("Approve %d request(s)? Write yes", len(list)))
				if err != nil {
					return api.Exit(api.ExitUsage, errors.New("there is no terminal to ask on: give --yes"))
				}
				if answer != "yes" {
					return api.Negative("nothing was approved")
				}
			}
			var failed []string
			for _, v := range list {
				var done approval
				if err := c.Call(cmd.Context(), http.MethodPost, fmt.Sprintf("/approvals/%d/approve", v.ID), map[string]string{"digest": v.Digest, "words": words}, &done); err != nil {
					failed = append(failed, fmt.Sprintf("%d: %v", v.ID, err))
					continue
				}
				fmt.Fprintf(cmd.OutOrStdout(), "Approved %d. %s\n", v.ID, output.Safe(done.Words))
			}
			if len(failed) > 0 {
				return errors.New(strings.Join(failed, "; "))
			}
			return nil
		}),
	}
	approve.Flags().StringVar(&words, "reason", "", "why; it is recorded")
	approve.Flags().BoolVar(&yes, "yes", false, "do not ask")
	var why string
	refuse := &cobra.Command{Use: "refuse ID", Short: "Refuse a request, or withdraw your own", Args: api.Numbers(1, 1, "an approval", "approval list"), RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		var v approval
		if err := c.Call(cmd.Context(), http.MethodPost, "/approvals/"+url.PathEscape(args[0])+"/refuse", map[string]string{"words": why}, &v); err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "Approval %d is %s.\n", v.ID, v.State)
		return nil
	})}
	refuse.Flags().StringVar(&why, "reason", "", "why; it is recorded")
	list := output.ListCommand("list", "List requests, the newest first", "/approvals", []output.Column{{"ID", "id"}, {"STATE", "state"}, {"KIND", "kind"}, {"SUBJECT", "subject"}, {"WHAT", "what"}, {"ASKED BY", "asked_by"}, {"ASKED", "asked"}, {"DECIDED BY", "decided_by"}, {"WORDS", "words"}}, "Nothing was asked for.")
	return output.Group("approval", "What one person asks for and another one approves", list, showOne, approve, refuse)
}
