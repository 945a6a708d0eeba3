package rotation

import (
	"fmt"
	"net/http"
	"os"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// ReportCommand makes what is handed to an auditor.
func ReportCommand() *cobra.Command {
	return output.Group("report", "Everything about a rotation or a batch, for an auditor, with the ledger's proofs",
		reportOf("rotation", "/rotations/", "rotate list", []output.Column{{"NO", "number"}, {"STEP", "title"}, {"STATUS", "status"}, {"BEGUN", "begun"}, {"ENDED", "ended"}, {"WORDS", "words"}}, "steps"),
		reportOf("batch", "/batches/", "batch list", []output.Column{{"NO", "position"}, {"CREDENTIAL", "credential"}, {"SYSTEM", "system"}, {"STATE", "state"}, {"ROTATION", "rotation_id"}, {"WORDS", "words"}}, "items"))
}

func reportOf(what, path, list string, columns []output.Column, rowsOf string) *cobra.Command {
	var page string
	cmd := &cobra.Command{
		Use: what + " ID", Short: "Report on a " + what, Args: api.Numbers(1, 1, "a "+what, list),
		Long: "Prints a summary; with -o json the whole report, with each entry of the ledger to the letter and the proof that it stands in the\nledger of a signed checkpoint; with --page FILE a page to print.",
	}
	cmd.Flags().StringVar(&page, "page", "", "write a page to print (HTML) to this file, - for standard output")
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		if page != "" {
			return writePage(cmd, c, path+args[0]+"/report.html", page)
		}
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, path+args[0]+"/report", nil, &v); err != nil {
			return err
		}
		var rows []output.Row
		items, _ := v[rowsOf].([]any)
		for _, i := range items {
			if i, ok := i.(map[string]any); ok {
				rows = append(rows, i)
			}
		}
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, columns, rows, v)
		}
		entries, _ := output.FieldOf(v, "evidence.entries").([]any)
		fmt.Fprintf(cmd.OutOrStdout(), "%s %s: %s.\n%d entries of the ledger tell of it, each with its proof to the checkpoint of %s entries (-o json).\n", what, args[0], output.Safe(output.Show(v["outcome"])), len(entries), output.Show(output.FieldOf(v, "evidence.size")))
		left, _ := v["not_covered"].([]any)
		for _, words := range left {
			fmt.Fprintf(cmd.OutOrStdout(), "Not covered: %s\n", output.Safe(output.Show(words)))
		}
		fmt.Fprintln(cmd.OutOrStdout())
		return output.Write(cmd.OutOrStdout(), format, columns, rows, v)
	})
	return cmd
}

// writePage writes a page to a file that is not there yet, or to standard output.
func writePage(cmd *cobra.Command, c *api.Client, path, file string) error {
	if file == "-" {
		return c.Fetch(cmd.Context(), path, cmd.OutOrStdout())
	}
	out, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return fmt.Errorf("the page is not written over what is there: %w", err)
	}
	err = c.Fetch(cmd.Context(), path, out)
	if closeErr := out.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		_ = os.Remove(file) // half of it is worse than none
		return err
	}
	fmt.Fprintf(cmd.OutOrStdout(), "Written to %s.\n", file)
	return nil
}
