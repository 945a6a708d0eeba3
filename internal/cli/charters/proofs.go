package charters

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// prove tries which rights of a charter a job needs.
func prove() *cobra.Command {
	var account, job, reason string
	var detach bool
	cmd := &cobra.Command{
		Use: "prove CHARTER", Short: "Try which of a charter's rights a job needs, with a scratch account", Args: cobra.ExactArgs(1),
		Long: "Gives a scratch account what the charter says, does the job as that account, takes each right away in turn and tells what fails without it. At the end the account has what it had before.\n\n" +
			"The scratch account is one on a system of the same kind that nothing uses, in custody, with the label scratch. It takes two people, who see the job.\n\n" +
			"A job is a file with a step a line, in the system's own language; lines that begin with # are left out. On unix hosts a step is a line of a shell; in PostgreSQL and MariaDB a statement, taken back where the server can; in Redis a command; in directories 'search BASE FILTER' or 'modify DN add|delete|replace ATTRIBUTE VALUE', with double quotes around what has blanks. Steps that leave something behind have to clear it up: the job is done once for each right, and twice more.",
		Example: "  moss charter prove fuelcard-reader --account bookings2/scratch --job fuelcard.job --reason 'the audit asks'\n  echo 'SELECT 1 FROM bookings' | moss charter prove monthly-reports --account bookings-db/scratch --job - --reason audit",
	}
	output.AddFlag(cmd)
	cmd.Flags().StringVar(&account, "account", "", "the scratch account: its number, or SYSTEM/NAME")
	cmd.Flags().StringVar(&job, "job", "", "file with the steps of the job; - for standard input")
	cmd.Flags().StringVar(&reason, "reason", "", "why")
	cmd.Flags().BoolVar(&detach, "detach", false, "do not wait for its end")
	for _, name := range []string{"account", "job", "reason"} {
		_ = cmd.MarkFlagRequired(name)
	}
	_ = cmd.RegisterFlagCompletionFunc("account", cobra.NoFileCompletions)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		text, err := jobText(cmd, job)
		if err != nil {
			return err
		}
		id, err := c.Account(cmd.Context(), account)
		if err != nil {
			return err
		}
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodPost, "/charters/"+url.PathEscape(args[0])+"/prove", map[string]any{"account_id": id, "job": text, "reason": reason}, &v); err != nil {
			return err
		}
		if approval := output.Show(v["waits_for_approval"]); approval != "" && format == "table" {
			fmt.Fprintf(cmd.OutOrStdout(), "Proof %s waits: it takes two people. Somebody else approves it with 'moss approval grant %s'; 'moss charter proof %s' shows how far it is then.\n", output.Show(v["id"]), approval, output.Show(v["id"]))
			return nil
		} else if approval != "" || detach {
			return printProof(cmd.OutOrStdout(), format, v)
		}
		return followProof(cmd, c, format, output.Show(v["id"]))
	})
	return cmd
}

func jobText(cmd *cobra.Command, name string) (string, error) {
	var raw []byte
	var err error
	if name == "-" {
		raw, err = io.ReadAll(io.LimitReader(cmd.InOrStdin(), 1<<17))
	} else {
		raw, err = os.ReadFile(name)
	}
	if err != nil {
		return "", api.Exit(api.ExitUsage, err)
	}
	return string(raw), nil
}

func followProof(cmd *cobra.Command, c *api.Client, format, id string) error {
	for {
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, "/proofs/"+id, nil, &v); err != nil {
			return err
		}
		if state := output.Show(v["state"]); state == "finished" || state == "stopped" {
			if err := printProof(cmd.OutOrStdout(), format, v); err != nil {
				return err
			}
			if verdict := output.Show(v["verdict"]); verdict != "minimal" {
				return api.Exit(api.ExitNegative, errors.New(proofWords(verdict, output.Show(v["words"]))))
			}
			return nil
		}
		select {
		case <-cmd.Context().Done():
			return cmd.Context().Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

func proofWords(verdict, words string) string {
	switch verdict {
	case "too-much":
		return "nothing of the job fails without some of it: the charter gives more than the job needs"
	case "too-little":
		return "the job fails with all of it: the charter gives less than the job needs, or the job does not work there"
	case "":
		return "it was not tried to the end: " + words
	}
	return "some of it could not be found out"
}

func printProof(out io.Writer, format string, v output.Row) error {
	if format != "table" {
		return output.Write(out, format, nil, []output.Row{v}, v)
	}
	for _, f := range [][2]string{{"Proof", "id"}, {"Charter", "charter"}, {"Version", "version"}, {"Account", "account"}, {"System", "system"}, {"State", "state"}, {"Verdict", "verdict"}, {"Words", "words"}, {"Reason", "reason"}, {"By", "created_by"}, {"Created", "created"}, {"Ended", "ended"}} {
		if value := output.Show(v[f[1]]); value != "" {
			fmt.Fprintf(out, "%-8s %s\n", f[0], output.Safe(value))
		}
	}
	report, _ := v["report"].(map[string]any)
	var rows []output.Row
	for _, with := range output.Rows(report["with"]) {
		if with["ok"] != true {
			rows = append(rows, output.Row{"right": "with all of it", "verdict": "fails", "step": with["step"], "words": with["words"]})
		}
	}
	for _, item := range output.Rows(report["items"]) {
		fails := output.Rows(item["fails"])
		row := output.Row{"right": item["right"], "verdict": item["verdict"], "words": item["words"]}
		if len(fails) > 0 {
			row["step"], row["words"] = fails[0]["step"], fails[0]["words"]
		}
		if len(fails) > 1 {
			row["more"] = len(fails) - 1
		}
		rows = append(rows, row)
	}
	fmt.Fprintln(out)
	if err := output.Write(out, "table", []output.Column{{"RIGHT", "right"}, {"IS", "verdict"}, {"WITHOUT IT FAILS", "step"}, {"MORE", "more"}, {"WORDS", "words"}}, rows, rows); err != nil {
		return err
	}
	for i, beside := range texts(v["beside"]) {
		if i == 0 {
			fmt.Fprintln(out, "\nNot tried, or beside it:")
		}
		fmt.Fprintln(out, "  "+output.Safe(beside))
	}
	return nil
}

func texts(v any) (out []string) {
	values, _ := v.([]any)
	for _, x := range values {
		out = append(out, output.Show(x))
	}
	return out
}

func proofs() *cobra.Command {
	cmd := output.ListCommand("proofs", "List what was tried of charters, the latest first", "/proofs", []output.Column{{"ID", "id"}, {"CHARTER", "charter"}, {"ACCOUNT", "account"}, {"SYSTEM", "system"}, {"STATE", "state"}, {"VERDICT", "verdict"}, {"BY", "created_by"}, {"CREATED", "created"}, {"REASON", "reason"}},
		"Nothing was tried yet: 'moss charter prove --help' says how.")
	cmd.Example = "  moss charter proofs\n  moss charter proofs --filter charter=monthly-reports"
	return cmd
}

func proof() *cobra.Command {
	var stop bool
	cmd := &cobra.Command{Use: "proof PROOF", Short: "Show what fails without each right", Args: cobra.ExactArgs(1), Example: "  moss charter proof 3\n  moss charter proof 3 -o json\n  moss charter proof 3 --stop"}
	output.AddFlag(cmd)
	cmd.Flags().BoolVar(&stop, "stop", false, "end it before its time; what was given for it is taken back")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		if id, err := strconv.ParseInt(args[0], 10, 64); err != nil || id < 1 {
			return api.Exit(api.ExitUsage, fmt.Errorf("%q is no number of a proof: 'moss charter proofs' lists them", args[0]))
		}
		var v output.Row
		method, at := http.MethodGet, "/proofs/"+args[0]
		var in any
		if stop {
			method, at, in = http.MethodPost, at+"/stop", map[string]any{}
		}
		if err := c.Call(cmd.Context(), method, at, in, &v); err != nil {
			return err
		}
		return printProof(cmd.OutOrStdout(), format, v)
	})
	return cmd
}
