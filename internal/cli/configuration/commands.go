package configuration

import (
	"fmt"
	"io"
	"net/http"
	"os"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// Command is for what a team decided, as text.
func Command() *cobra.Command {
	return output.Group("config", "What was decided, as text: written out, compared, applied", exportCommand(), diffCommand(), applyCommand(), schemaCommand())
}

func exportCommand() *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use: "export", Short: "Write rules, windows, policies, orders, requirements, recipients, systems, people and labels as YAML", Args: cobra.NoArgs,
		Long: "Writes what was decided, always in the same order, without secrets and without what the service works out by itself,\nso that it can be kept under version control and reviewed there. 'moss config diff' tells what was changed since.",
	}
	cmd.Flags().StringVar(&file, "file", "", "file to write; standard output by default")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, _ []string) error {
		d, err := read(cmd, c)
		if err != nil {
			return err
		}
		raw, err := write(d)
		if err != nil {
			return err
		}
		if file == "" {
			_, err := cmd.OutOrStdout().Write(raw)
			return err
		}
		return os.WriteFile(file, raw, 0o600)
	})
	return cmd
}

func diffCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "diff FILE", Short: "Tell what the service has otherwise than a file; ends with 3 when something differs", Args: cobra.ExactArgs(1),
		Long: "Compares what the service has now with a file that 'moss config export' wrote, or that somebody changed since. Parts that\nthe file does not name are not compared. Nothing is changed. - reads standard input.",
	}
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		_, p, err := previewOf(cmd, c, args[0])
		if err != nil {
			return err
		}
		rows := []output.Row{}
		for _, d := range changesOf(p) {
			d["what"] = map[string]string{"added": "only in the file", "removed": "only in the service", "changed": "differs"}[output.Show(d["what"])]
			d["service"], d["file"] = d["from"], d["to"]
			delete(d, "from")
			delete(d, "to")
			rows = append(rows, d)
		}
		if len(rows) == 0 && format == "table" {
			fmt.Fprintln(cmd.OutOrStdout(), "The service has what the file says.")
			return nil
		}
		columns := []output.Column{{"PART", "part"}, {"NAME", "name"}, {"WHAT", "what"}, {"FIELD", "field"}, {"SERVICE", "service"}, {"FILE", "file"}}
		if err := output.Write(cmd.OutOrStdout(), format, columns, rows, rows); err != nil || len(rows) == 0 {
			return err
		}
		return api.Negative("the service has %d fields or things otherwise than the file", len(rows))
	})
	return cmd
}

func documentIn(cmd *cobra.Command, name string) (document, error) {
	raw, err := content(cmd, name)
	if err != nil {
		return nil, api.Exit(api.ExitUsage, err)
	}
	file, err := parse(raw)
	if err != nil {
		return nil, api.Exit(api.ExitUsage, fmt.Errorf("%s: %w", name, err))
	}
	return file, nil
}

// previewOf asks what applying a file would change.
func previewOf(cmd *cobra.Command, c *api.Client, name string) (body map[string]any, p output.Row, err error) {
	file, err := documentIn(cmd, name)
	if err != nil {
		return nil, nil, err
	}
	body = map[string]any{"format": Format}
	for name, part := range file {
		body[name] = part
	}
	return body, p, c.Call(cmd.Context(), http.MethodPost, "/configuration/preview", body, &p)
}

func applyCommand() *cobra.Command {
	var yes, show bool
	var reason string
	cmd := &cobra.Command{
		Use: "apply FILE", Short: "Have the service decide what a file says: all of it, or nothing", Args: cobra.ExactArgs(1),
		Long: "Shows what would be added, changed and removed, and what each rule would do, asks, and applies it. A part that the file\ndoes not name stays as it is; what a part that it names does not have is removed. Where a requirement is changed or removed,\nall of it waits for a second person. Applied again, nothing changes. - reads standard input.",
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "apply it without being asked")
	cmd.Flags().BoolVar(&show, "preview", false, "only show what it would do; ends with 3 when that is anything")
	cmd.Flags().StringVar(&reason, "reason", "", "why (recorded)")
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		body, p, err := previewOf(cmd, c, args[0])
		if err != nil {
			return err
		}
		changes := changesOf(p)
		if format == "table" {
			printEffects(cmd, p, changes)
		}
		if len(changes) == 0 || show {
			if format != "table" {
				return output.Write(cmd.OutOrStdout(), format, changeColumns, changes, p)
			}
			if len(changes) > 0 {
				return api.Negative("applying it would change %d fields or things", len(changes))
			}
			return nil
		}
		if err := output.Sure(cmd, yes, "Apply it?"); err != nil {
			return err
		}
		var did output.Row
		if err := c.Call(cmd.Context(), http.MethodPost, "/configuration/apply", map[string]any{"document": body, "mark": p["mark"], "reason": reason}, &did); err != nil {
			return err
		}
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, changeColumns, changesOf(did), did)
		}
		if id := output.Show(did["waits_for_approval"]); id != "" {
			fmt.Fprintf(cmd.OutOrStdout(), "All of it waits: somebody else approves it with 'moss approval grant %s'.\n", id)
			return nil
		}
		fmt.Fprintln(cmd.OutOrStdout(), "Done: all of it is applied.")
		return nil
	})
	return cmd
}

var changeColumns = []output.Column{{"PART", "part"}, {"NAME", "name"}, {"WHAT", "what"}, {"FIELD", "field"}, {"FROM", "from"}, {"TO", "to"}}

// changesOf has a row for each field that differs, and one for each thing that goes.
func changesOf(p output.Row) []output.Row {
	rows := []output.Row{}
	list, _ := p["changes"].([]any)
	for _, one := range list {
		v, _ := one.(map[string]any)
		row := func() output.Row { return output.Row{"part": v["part"], "name": v["name"], "what": v["what"]} }
		fields, _ := v["fields"].([]any)
		if v["what"] == "removed" || len(fields) == 0 {
			rows = append(rows, row())
			continue
		}
		for _, f := range fields {
			r := row()
			if field, ok := f.(map[string]any); ok {
				r["field"], r["from"], r["to"] = field["field"], field["from"], field["to"]
			}
			rows = append(rows, r)
		}
	}
	return rows
}

// printEffects prints what applying a file would do.
func printEffects(cmd *cobra.Command, p output.Row, changes []output.Row) {
	out := cmd.OutOrStdout()
	if len(changes) == 0 {
		fmt.Fprintln(out, "The service has what the file says: there is nothing to apply.")
		return
	}
	output.Table(out, changeColumns, changes)
	rules, _ := p["rules"].([]any)
	for _, one := range rules {
		r, _ := one.(map[string]any)
		fmt.Fprintf(out, "\nThe rule %s matches %s accounts and stops matching %s; labels gained: %s, lost: %s; taken into custody: %s.", output.Safe(output.Show(r["rule"])), output.Show(r["matches"]), output.Show(r["stops"]), output.Show(r["gain"]), output.Show(r["lose"]), output.Show(r["takes"]))
		if failed := output.Show(r["failed"]); failed != "" {
			fmt.Fprintf(out, " It cannot be decided for some accounts: %s", output.Safe(failed))
		}
	}
	if len(rules) > 0 {
		fmt.Fprintln(out)
	}
	if second, _ := p["second"].([]any); len(second) > 0 {
		fmt.Fprintf(out, "\nA second person is needed, once there is one, for all of it: %s.\n", output.Safe(output.Show(p["second"])))
	}
}

func schemaCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "schema", Short: "Print the JSON Schema of such files (draft 2020-12), for editors and checks", Args: cobra.NoArgs}
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, _ []string) error {
		var v map[string]any
		if err := c.Call(cmd.Context(), http.MethodGet, "/configuration/schema", nil, &v); err != nil {
			return err
		}
		return output.Write(cmd.OutOrStdout(), "json", nil, nil, v)
	})
	return cmd
}

// mostBytes of a file are read.
const mostBytes = 8 << 20

func content(cmd *cobra.Command, name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(io.LimitReader(cmd.InOrStdin(), mostBytes))
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, mostBytes))
}
