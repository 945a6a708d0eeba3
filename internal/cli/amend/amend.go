// Package amend has the commands that carry out what charters propose, and acts about ends.
package amend

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// Command is moss amend.
func Command() *cobra.Command {
	list := output.ListCommand("list", "List changes of rights and of ends, the latest first", "/amendments", []output.Column{{"ID", "id"}, {"KIND", "plan.kind"}, {"CHARTER", "charter"}, {"ACCOUNTS", "subject"}, {"CHANGES", "changes"}, {"REHEARSAL", "verdict"}, {"MODE", "mode"}, {"RESULT", "result"}, {"BY", "requested_by"}, {"STARTED", "started"}, {"ENDED", "ended"}, {"REASON", "reason"}},
		"Nothing was changed so yet: 'moss amend rehearse CHARTER' shows what a charter would change, 'moss credential expire CREDENTIAL' what would end.")
	list.Example = "  moss amend list\n  moss amend list --filter mode=stopped"
	return output.Group("amend", "Changes of rights that charters propose, and of when something ends: proven or undone", rehearse(), start(), show(), list,
		decide("stop", "Stop after the steps that have begun"), decide("resume", "Go on with one that stopped, trying failed steps again"),
		decide("go-on", "Go on with one that stopped, without its failed steps"), decide("undo", "Make all as it was before"))
}

func rehearse() *cobra.Command {
	var account, onFailure string
	var lines []int64
	var states []string
	cmd := &cobra.Command{
		Use: "rehearse CHARTER", Short: "Show what a charter would change, and check it: nothing is changed", Args: cobra.ExactArgs(1),
		Long:    "Plans what the charter proposes: what is missing is given first, and only when all of that is proven is what is forbidden taken. Each system is asked how it stands now.\nWhat has to be done by a person is listed with the reason; 'moss charter check CHARTER --texts' has the text for it.",
		Example: "  moss amend rehearse fuelcard-reader\n  moss amend rehearse monthly-reports --states forbidden,excess\n  moss amend rehearse monthly-reports --lines 12,15",
	}
	output.AddFlag(cmd)
	cmd.Flags().StringVar(&account, "account", "", "only this account: its number, or SYSTEM/NAME")
	cmd.Flags().Int64SliceVar(&lines, "lines", nil, "only these lines, by the numbers that 'moss charter lines' shows")
	cmd.Flags().StringSliceVar(&states, "states", nil, "which lines: missing, forbidden, excess (missing and forbidden when not given)")
	cmd.Flags().StringVar(&onFailure, "on-failure", "undo", "undo, stop or continue")
	_ = cmd.RegisterFlagCompletionFunc("states", cobra.FixedCompletions([]string{"missing", "forbidden", "excess"}, cobra.ShellCompDirectiveNoFileComp))
	_ = cmd.RegisterFlagCompletionFunc("on-failure", cobra.FixedCompletions([]string{"undo", "stop", "continue"}, cobra.ShellCompDirectiveNoFileComp))
	_ = cmd.RegisterFlagCompletionFunc("account", cobra.NoFileCompletions)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		in := map[string]any{"charter": args[0], "on_failure": onFailure}
		if account != "" {
			id, err := c.Account(cmd.Context(), account)
			if err != nil {
				return err
			}
			in["account_id"] = id
		}
		if len(lines) > 0 {
			in["lines"] = lines
		}
		if len(states) > 0 {
			in["states"] = states
		}
		v, err := Rehearse(cmd, c, format, "/amendments", in)
		if err == nil {
			output.Remark(cmd, "'moss amend start %s --reason WHY' begins it", output.Show(v["id"]))
		}
		return err
	})
	return cmd
}

// Rehearse has something rehearsed and prints what came of it. One that failed is an error.
func Rehearse(cmd *cobra.Command, c *api.Client, format, path string, in any) (output.Row, error) {
	var v output.Row
	if err := c.Call(cmd.Context(), http.MethodPost, path, in, &v); err != nil {
		return nil, err
	}
	if format != "table" {
		if err := output.Write(cmd.OutOrStdout(), format, nil, []output.Row{v}, v); err != nil {
			return nil, err
		}
	} else if err := printRehearsal(cmd, v); err != nil {
		return nil, err
	}
	if output.Show(v["verdict"]) != "passed" {
		return nil, api.Exit(api.ExitNegative, errors.New("the rehearsal failed: mend what it names and rehearse again"))
	}
	return v, nil
}

// Start begins what was rehearsed, and follows it unless it shall go on by itself.
func Start(cmd *cobra.Command, c *api.Client, format, id, reason string, detach bool) error {
	return sent(cmd, c, format, id, "start", map[string]any{"reason": reason}, detach)
}

func printRehearsal(cmd *cobra.Command, v output.Row) error {
	rows := output.Rows(v["checks"])
	if err := output.Write(cmd.OutOrStdout(), "table", []output.Column{{"RESULT", "result"}, {"SYSTEM", "system"}, {"CHANGE", "what"}, {"WORDS", "words"}, {"NEXT", "next"}}, rows, rows); err != nil {
		return err
	}
	if left, _ := v["left_out"].([]any); len(left) > 0 {
		fmt.Fprintln(cmd.OutOrStdout(), "\nLeft to a person:")
		for _, l := range left {
			fmt.Fprintln(cmd.OutOrStdout(), "  "+output.Safe(output.Show(l)))
		}
	}
	fmt.Fprintf(cmd.OutOrStdout(), "\nAmendment %s: the rehearsal %s.\n", output.Show(v["id"]), output.Show(v["verdict"]))
	return nil
}

func number(word string) (int64, error) {
	id, err := strconv.ParseInt(word, 10, 64)
	if err != nil || id < 1 {
		return 0, api.Exit(api.ExitUsage, fmt.Errorf("%q is no number of an amendment: 'moss amend list' lists them", word))
	}
	return id, nil
}

func start() *cobra.Command {
	var reason string
	var detach bool
	cmd := &cobra.Command{
		Use: "start AMENDMENT", Short: "Begin what was rehearsed, once a second person has approved it", Args: cobra.ExactArgs(1),
		Long:    "Changing rights takes two people, whoever asks, and so does what lets somebody in for longer or cannot be undone. While nobody else could approve it, it begins at once and is marked so.",
		Example: "  moss amend start 3 --reason 'the reorganisation took it'",
	}
	output.AddFlag(cmd)
	cmd.Flags().StringVar(&reason, "reason", "", "why")
	cmd.Flags().BoolVar(&detach, "detach", false, "do not wait for its end")
	_ = cmd.MarkFlagRequired("reason")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		return Start(cmd, c, format, args[0], reason, detach)
	})
	return cmd
}

func decide(decision, short string) *cobra.Command {
	var reason string
	var detach bool
	cmd := &cobra.Command{Use: decision + " AMENDMENT", Short: short, Args: cobra.ExactArgs(1), Example: "  moss amend " + decision + " 3"}
	if decision == "undo" {
		cmd.Long = "Makes everything as it stood before: what was there already is left. Undoing one that has ended takes two people again, and a reason; of what one person did alone, one is enough for a day."
		cmd.Example = "  moss amend undo 3 --reason 'it was the wrong account'"
	}
	output.AddFlag(cmd)
	cmd.Flags().StringVar(&reason, "reason", "", "why")
	cmd.Flags().BoolVar(&detach, "detach", false, "do not wait for its end")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		return sent(cmd, c, format, args[0], "decide", map[string]any{"decision": decision, "reason": reason}, detach || decision == "stop")
	})
	return cmd
}

// sent sends what is to be done and follows what comes of it.
func sent(cmd *cobra.Command, c *api.Client, format, word, act string, in map[string]any, detach bool) error {
	id, err := number(word)
	if err != nil {
		return err
	}
	var v output.Row
	if err := c.Call(cmd.Context(), http.MethodPost, fmt.Sprintf("/amendments/%d/%s", id, act), in, &v); err != nil {
		return err
	}
	if approval := output.Show(v["waits_for_approval"]); approval != "" {
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, nil, []output.Row{v}, v)
		}
		fmt.Fprintf(cmd.OutOrStdout(), "It waits: this takes two people. Somebody else approves it with 'moss approval grant %s'.\n", approval)
		return nil
	}
	if detach {
		return printed(cmd.OutOrStdout(), format, v)
	}
	return follow(cmd, c, format, id, map[string]string{"undo": "undone"}[output.Show(in["decision"])])
}

func show() *cobra.Command {
	cmd := &cobra.Command{Use: "show AMENDMENT", Short: "Show a change of rights or of ends with its steps", Args: cobra.ExactArgs(1), Example: "  moss amend show 3\n  moss amend show 3 -o json"}
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		id, err := number(args[0])
		if err != nil {
			return err
		}
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, fmt.Sprintf("/amendments/%d", id), nil, &v); err != nil {
			return err
		}
		return printed(cmd.OutOrStdout(), format, v)
	})
	return cmd
}

func printed(out io.Writer, format string, v output.Row) error {
	if format != "table" {
		return output.Write(out, format, nil, []output.Row{v}, v)
	}
	facts := [][2]string{{"Amendment", "id"}, {"Charter", "charter"}, {"Accounts", "subject"}, {"Mode", "mode"}, {"Result", "result"}, {"Reason", "reason"}, {"By", "requested_by"}, {"Consent", "consent"}, {"Approval", "approval_id"}, {"Started", "started"}, {"Ended", "ended"}, {"Halted", "halted"}, {"Watches", "watches_until"}}
	for _, f := range facts {
		if value := output.Show(v[f[1]]); value != "" {
			fmt.Fprintf(out, "%-10s %s\n", f[0], output.Safe(value))
		}
	}
	fmt.Fprintln(out)
	rows := output.Rows(v["steps"])
	if err := output.Write(out, "table", []output.Column{{"STEP", "index"}, {"STATUS", "status"}, {"WHAT", "title"}, {"WORDS", "words"}}, rows, rows); err != nil {
		return err
	}
	var words []string
	for _, d := range asList(v["decisions"]) {
		if d != "leave-away" {
			words = append(words, "'moss amend "+d+" "+output.Show(v["id"])+"'")
		}
	}
	if len(words) > 0 {
		fmt.Fprintln(out, "\nWhat it takes now: "+strings.Join(words, ", "))
	}
	return nil
}

func asList(v any) (out []string) {
	list, _ := v.([]any)
	for _, x := range list {
		out = append(out, output.Show(x))
	}
	return out
}

// follow waits for the end and judges it.
func follow(cmd *cobra.Command, c *api.Client, format string, id int64, want string) error {
	if want == "" {
		want = "done"
	}
	for {
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, fmt.Sprintf("/amendments/%d", id), nil, &v); err != nil {
			return err
		}
		mode, result := output.Show(v["mode"]), output.Show(v["result"])
		if mode != "running" && mode != "undoing" {
			if err := printed(cmd.OutOrStdout(), format, v); err != nil {
				return err
			}
			if result != want {
				return api.Exit(api.ExitNegative, fmt.Errorf("amendment %d is %s %s", id, mode, result))
			}
			return nil
		}
		if until := output.Show(v["watches_until"]); until != "" { // days, mostly: nobody waits for that here
			if err := printed(cmd.OutOrStdout(), format, v); err != nil {
				return err
			}
			output.Remark(cmd, "until %s nothing happens but watching: 'moss amend undo %d --reason WHY' lets it in again", until, id)
			return nil
		}
		select {
		case <-cmd.Context().Done():
			return cmd.Context().Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}
