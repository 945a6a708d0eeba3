package charters

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

var lineColumns = []output.Column{{"SYSTEM", "system"}, {"ACCOUNT", "account"}, {"STATE", "state"}, {"WHAT", "item"}, {"THROUGH", "through"}, {"FAILS", "at_next"}, {"WHY", "why"}, {"SINCE", "since"}}

func lines() *cobra.Command {
	cmd := output.ListWith("lines", "List what charters come to, for each account and thing", append([]output.Column{{"CHARTER", "charter"}}, append(lineColumns, output.Column{"WAS", "was"})...),
		"No charter is for any account yet.", func(cmd *cobra.Command, _ *api.Client, _ []string, query url.Values) (string, error) {
			if ended, _ := cmd.Flags().GetBool("ended"); ended {
				query.Set("ended", "true")
			}
			return "/charters/lines", nil
		})
	cmd.Flags().Bool("ended", false, "what they came to and is otherwise now; the field ended says when that was seen")
	cmd.Example = "  moss charter lines --filter state=forbidden,missing\n  moss charter lines --filter 'since>2026-11-01' --filter was=met\n  moss charter lines --ended --filter account=svc-manifest"
	return cmd
}

func check() *cobra.Command {
	var file string
	var all, texts, matrix bool
	cmd := &cobra.Command{
		Use: "check [CHARTER]", Short: "Hold a charter against its accounts, and say what to change", Args: cobra.MaximumNArgs(1),
		Long: "Holds a charter against what surveys read of its accounts, and lists what is otherwise: what is forbidden, what is missing and when that will fail, what is beyond, and what cannot be said.\n" +
			"--texts adds what the owner of each system would do, in the system's own language, with the way back beside it. Nothing is changed by it.\nWith --file a text is tried without being kept.",
		Example: "  moss charter check manifest-import\n  moss charter check manifest-import --texts\n  moss charter check manifest-import --matrix -o csv\n  moss charter check --file manifest-import.yaml",
	}
	output.AddFlag(cmd)
	cmd.Flags().StringVar(&file, "file", "", "a text that is not kept (- for standard input), in place of a charter")
	cmd.Flags().BoolVar(&all, "all", false, "list what is as it should be as well")
	cmd.Flags().BoolVar(&texts, "texts", false, "say what to do, in the language of each system")
	cmd.Flags().BoolVar(&matrix, "matrix", false, "accounts in rows, things in columns")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		if (file == "") == (len(args) == 0) {
			return api.Exit(api.ExitUsage, errors.New("name a charter, or a file with --file"))
		}
		if file != "" {
			return preview(cmd, c, format, file, all, texts)
		}
		path := "/charters/" + url.PathEscape(args[0])
		var done output.Row
		if err := c.Call(cmd.Context(), http.MethodPost, path+"/check", map[string]any{}, &done); err != nil {
			return err
		}
		if matrix {
			return showMatrix(cmd, c, format, path)
		}
		query := url.Values{"filter": {"charter=" + args[0]}}
		if !all {
			query.Add("filter", "state!=met")
		}
		rows, total, err := output.Fetch(cmd, c, "/charters/lines", query, 0)
		if err != nil {
			return err
		}
		if err := found(cmd, format, rows, texts, output.Show(done["accounts"])); err != nil {
			return err
		}
		if total > len(rows) {
			output.Remark(cmd, "%d of %d are listed", len(rows), total)
		}
		return nil
	})
	return cmd
}

func preview(cmd *cobra.Command, c *api.Client, format, file string, all, texts bool) error {
	text, err := output.ReadText(cmd, file)
	if err != nil {
		return err
	}
	var v output.Row
	if err := c.Call(cmd.Context(), http.MethodPost, "/charters/preview", map[string]any{"document": text}, &v); err != nil {
		return err
	}
	problems := output.Rows(v["problems"])
	if len(problems) > 0 {
		words := make([]string, len(problems))
		for i, p := range problems {
			words[i] = strings.TrimPrefix(fmt.Sprintf("line %s: %s: %s", output.Show(p["line"]), output.Show(p["place"]), output.Show(p["what"])), "line : ")
			words[i] = strings.ReplaceAll(words[i], ": : ", ": ")
		}
		return api.Exit(api.ExitUsage, fmt.Errorf("%s: %s", file, strings.Join(words, "; ")))
	}
	var rows []output.Row
	for _, r := range output.Rows(v["lines"]) {
		if all || output.Show(r["state"]) != "met" {
			rows = append(rows, r)
		}
	}
	if err := found(cmd, format, rows, texts, output.Show(v["accounts"])); err != nil {
		return err
	}
	if looked := output.Show(v["looked"]); looked != output.Show(v["accounts"]) {
		output.Remark(cmd, "looked at %s of %s accounts", looked, output.Show(v["accounts"]))
	}
	return nil
}

// found prints lines, and what to do about them.
func found(cmd *cobra.Command, format string, rows []output.Row, texts bool, accounts string) error {
	if format != "table" {
		if err := output.Write(cmd.OutOrStdout(), format, append(lineColumns, output.Column{"TEXT", "proposal.text"}, output.Column{"BACK", "proposal.back"}), rows, rows); err != nil {
			return err
		}
		return verdict(rows)
	}
	if accounts == "" {
		fmt.Fprintln(cmd.OutOrStdout(), "It is for no account: no rule and nobody has put its label on one.")
		return nil
	}
	if len(rows) == 0 {
		fmt.Fprintf(cmd.OutOrStdout(), "All of it holds, for %s.\n", counted(accounts))
		return nil
	}
	if err := output.Write(cmd.OutOrStdout(), format, lineColumns, rows, rows); err != nil {
		return err
	}
	if texts {
		sayTexts(cmd, rows)
	} else {
		output.Remark(cmd, "--texts says what to do about each, and how to take it back")
	}
	return verdict(rows)
}

func counted(accounts string) string {
	switch accounts {
	case "":
		return "no account"
	case "1":
		return "one account"
	}
	return accounts + " accounts"
}

// verdict is the end of a check, for scripts: what is forbidden or missing is no success.
func verdict(rows []output.Row) error {
	count := map[string]int{}
	for _, r := range rows {
		count[output.Show(r["state"])]++
	}
	if count["forbidden"]+count["missing"] > 0 {
		return api.Negative("%d forbidden, %d missing", count["forbidden"], count["missing"])
	}
	return nil
}

func sayTexts(cmd *cobra.Command, rows []output.Row) {
	out := cmd.OutOrStdout()
	for _, r := range rows {
		if r["change"] == nil {
			continue
		}
		fmt.Fprintf(out, "\n# %s/%s, %s: %s\n", output.Safe(output.Show(r["system"])), output.Safe(output.Show(r["account"])), output.Show(r["state"]), output.Safe(output.Show(r["item"])))
		p, told := r["proposal"].(map[string]any)
		if !told {
			fmt.Fprintf(out, "# No text for it: %s.\n", output.Safe(output.Show(r["no_proposal"])))
			continue
		}
		fmt.Fprintf(out, "# %s:\n\n", output.Safe(output.Show(p["where"])))
		paper(cmd, output.Show(p["text"]))
		back := "\n# To take it back"
		if language := output.Show(p["back_language"]); language != "" {
			back += " (" + language + ")"
		}
		fmt.Fprintln(out, back+":")
		for line := range strings.Lines(output.Show(p["back"])) {
			fmt.Fprintln(out, "#   "+output.Safe(strings.TrimRight(line, "\r\n")))
		}
	}
}

func showMatrix(cmd *cobra.Command, c *api.Client, format, path string) error {
	var v output.Row
	if err := c.Call(cmd.Context(), http.MethodGet, path+"/matrix?limit=1000", nil, &v); err != nil {
		return err
	}
	columns := []output.Column{{"SYSTEM", "system"}, {"ACCOUNT", "account"}}
	items := output.Rows(v["items"])
	for i, item := range items {
		columns = append(columns, output.Column{output.Show(item["item"]), fmt.Sprint("c", i)})
	}
	columns = append(columns, output.Column{"BEYOND", "beyond"})
	rows := output.Rows(v["rows"])
	for _, r := range rows {
		cells, _ := r["cells"].([]any)
		for i := range items {
			if i < len(cells) {
				r[fmt.Sprint("c", i)] = cells[i]
			}
		}
		delete(r, "cells")
	}
	if more := output.Show(v["more"]); more != "" {
		output.Remark(cmd, "%s more accounts are not listed", more)
	}
	return output.Write(cmd.OutOrStdout(), format, columns, rows, v)
}
