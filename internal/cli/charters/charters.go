// Package charters has the commands about charters.
package charters

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
	"mossledger.example/moss/internal/core/charter"
)

// Command is moss charter.
func Command() *cobra.Command {
	return output.Group("charter", "What accounts of a role must have, may have and must never have", list(), show(), add(), change(), remove(), draft(), check(), prove(), proof(), proofs(), lines())
}

func list() *cobra.Command {
	cmd := output.ListCommand("list", "List charters, with what they come to", "/charters", []output.Column{
		{"NAME", "name"}, {"LABEL", "label"}, {"ACCOUNTS", "accounts"}, {"FORBIDDEN", "forbidden"}, {"MISSING", "missing"}, {"DIFFERS", "differs"}, {"UNKNOWN", "unknown"}, {"EXCESS", "excess"}, {"VERSION", "version"}, {"CHANGED", "changed"},
	}, "There is none. Begin with one that is ready ('moss charter list --ready'), or with what accounts have ('moss charter draft --help').")
	cmd.Example = "  moss charter list\n  moss charter list --ready\n  moss charter list --filter 'forbidden>0'"
	all := cmd.RunE
	var ready bool
	cmd.Flags().BoolVar(&ready, "ready", false, "those to begin with that come with the program, in place of your own")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if !ready {
			return all(cmd, args)
		}
		return output.Talking(func(cmd *cobra.Command, c *api.Client, format string, _ []string) error {
			var rows []output.Row
			if err := c.Call(cmd.Context(), http.MethodGet, "/charters/ready", nil, &rows); err != nil {
				return err
			}
			if err := output.Write(cmd.OutOrStdout(), format, []output.Column{{"NAME", "name"}, {"DESCRIPTION", "description"}}, rows, rows); err != nil {
				return err
			}
			output.Remark(cmd, "'moss charter show NAME --ready' shows one, 'moss charter add NAME --ready' keeps it")
			return nil
		})(cmd, args)
	}
	return cmd
}

// readyOne is one that comes with the program.
func readyOne(cmd *cobra.Command, c *api.Client, name string) (string, error) {
	var rows []output.Row
	if err := c.Call(cmd.Context(), http.MethodGet, "/charters/ready", nil, &rows); err != nil {
		return "", err
	}
	for _, r := range rows {
		if output.Show(r["name"]) == name {
			return output.Show(r["document"]), nil
		}
	}
	return "", api.Exit(api.ExitUsage, fmt.Errorf("no charter that is ready is named %q: 'moss charter list --ready' lists them", name))
}

// paper prints a text as it is, made safe line by line.
func paper(cmd *cobra.Command, text string) {
	for line := range strings.Lines(text) {
		fmt.Fprintln(cmd.OutOrStdout(), output.Safe(strings.TrimRight(line, "\r\n")))
	}
}

func show() *cobra.Command {
	var ready, versions, schema bool
	var version int64
	cmd := &cobra.Command{
		Use: "show [CHARTER]", Short: "Show a charter as it is written", Args: cobra.MaximumNArgs(1),
		Example: "  moss charter show manifest-import\n  moss charter show manifest-import --versions\n  moss charter show unix-service --ready\n  moss charter show --schema",
	}
	output.AddFlag(cmd)
	cmd.Flags().BoolVar(&ready, "ready", false, "one that comes with the program")
	cmd.Flags().BoolVar(&versions, "versions", false, "list what it said before")
	cmd.Flags().Int64Var(&version, "version", 0, "as it was then")
	cmd.Flags().BoolVar(&schema, "schema", false, "what a charter may be, as a JSON Schema (draft 2020-12)")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		if schema {
			paper(cmd, string(charter.Schema()))
			return nil
		}
		if len(args) == 0 {
			return api.Exit(api.ExitUsage, errors.New("name a charter: 'moss charter list' lists them"))
		}
		if ready {
			text, err := readyOne(cmd, c, args[0])
			if err == nil {
				paper(cmd, text)
			}
			return err
		}
		if versions || version > 0 {
			return showVersions(cmd, c, format, args[0], version)
		}
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, "/charters/"+url.PathEscape(args[0]), nil, &v); err != nil {
			return err
		}
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, nil, []output.Row{v}, v)
		}
		paper(cmd, output.Show(v["document"]))
		output.Remark(cmd, "version %s, %s, by %s", output.Show(v["version"]), output.Show(v["changed"]), output.Show(v["changed_by"]))
		return nil
	})
	return cmd
}

func showVersions(cmd *cobra.Command, c *api.Client, format, name string, version int64) error {
	var rows []output.Row
	if err := c.Call(cmd.Context(), http.MethodGet, "/charters/"+url.PathEscape(name)+"/versions", nil, &rows); err != nil {
		return err
	}
	if version == 0 {
		return output.Write(cmd.OutOrStdout(), format, []output.Column{{"VERSION", "version"}, {"CHANGED", "changed"}, {"BY", "changed_by"}}, rows, rows)
	}
	for _, r := range rows {
		if output.Show(r["version"]) == strconv.FormatInt(version, 10) {
			paper(cmd, output.Show(r["document"]))
			return nil
		}
	}
	return api.Exit(api.ExitUsage, fmt.Errorf("%s has no version %d", name, version))
}

func put(cmd *cobra.Command, c *api.Client, name, text string, version int64) (output.Row, error) {
	var v output.Row
	err := c.Call(cmd.Context(), http.MethodPut, "/charters/"+url.PathEscape(name), map[string]any{"document": text, "version": version}, &v)
	return v, err
}

// named reads a text and the name that it says.
func named(cmd *cobra.Command, file string) (name, text string, err error) {
	if text, err = output.ReadText(cmd, file); err != nil {
		return "", "", err
	}
	d, err := charter.Parse(text)
	if err != nil {
		return "", "", api.Exit(api.ExitUsage, fmt.Errorf("%s: %w", file, err))
	}
	return d.Name, text, nil
}

func add() *cobra.Command {
	var ready bool
	cmd := &cobra.Command{
		Use: "add FILE", Short: "Keep a charter, from a file (- for standard input)", Args: cobra.ExactArgs(1),
		Long:    "Keeps a charter under the name that the text says. It is held against the accounts with its label at once, and after each survey.\nWith --ready, FILE is the name of one that comes with the program.",
		Example: "  moss charter add manifest-import.yaml\n  moss charter draft manifest-import bookings1/svc-manifest | moss charter add -\n  moss charter add unix-service --ready",
	}
	cmd.Flags().BoolVar(&ready, "ready", false, "one that comes with the program, by its name")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		name, text := args[0], ""
		var err error
		if ready {
			text, err = readyOne(cmd, c, name)
		} else {
			name, text, err = named(cmd, args[0])
		}
		if err != nil {
			return err
		}
		v, err := put(cmd, c, name, text, 0)
		if err != nil {
			return err
		}
		return kept(cmd, v)
	})
	return cmd
}

func kept(cmd *cobra.Command, v output.Row) error {
	fmt.Fprintf(cmd.OutOrStdout(), "The charter %s is kept as version %s; it is for %s.\n", output.Safe(output.Show(v["name"])), output.Show(v["version"]), counted(output.Show(v["accounts"])))
	if output.Show(v["label"]) == "" {
		output.Remark(cmd, "it has no label yet, so it is for nobody: add label: to it")
	} else {
		output.Remark(cmd, "'moss charter check %s' says what it comes to", output.Show(v["name"]))
	}
	return nil
}

func change() *cobra.Command {
	cmd := &cobra.Command{
		Use: "change FILE", Short: "Replace a charter by what a file says (- for standard input)", Args: cobra.ExactArgs(1),
		Long:    "Replaces the charter of the name that the text says. The ledger keeps what was changed, and every version stays ('moss charter show NAME --versions').\nTo begin with what it says now: moss charter show NAME > FILE.",
		Example: "  moss charter change manifest-import.yaml",
	}
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		name, text, err := named(cmd, args[0])
		if err != nil {
			return err
		}
		var was output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, "/charters/"+url.PathEscape(name), nil, &was); err != nil {
			return err
		}
		version, _ := strconv.ParseInt(output.Show(was["version"]), 10, 64)
		v, err := put(cmd, c, name, text, version)
		if err != nil {
			return err
		}
		return kept(cmd, v)
	})
	return cmd
}

func remove() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{Use: "remove CHARTER", Short: "Remove a charter; what it said stays among its versions", Args: cobra.ExactArgs(1), Example: "  moss charter remove manifest-import --yes"}
	cmd.Flags().BoolVar(&yes, "yes", false, "remove it without being asked")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		var was output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, "/charters/"+url.PathEscape(args[0]), nil, &was); err != nil {
			return err
		}
		if err := output.Sure(cmd, yes, fmt.Sprintf("Remove the charter %s?", args[0])); err != nil {
			return err
		}
		if err := c.Call(cmd.Context(), http.MethodDelete, "/charters/"+url.PathEscape(args[0])+"?version="+url.QueryEscape(output.Show(was["version"])), nil, nil); err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "The charter %s is removed.\n", output.Safe(args[0]))
		return nil
	})
	return cmd
}

func draft() *cobra.Command {
	cmd := &cobra.Command{
		Use: "draft CHARTER [ACCOUNT...]", Short: "Write a charter from what accounts have, or from what was sent", Args: cobra.MinimumNArgs(1),
		Long:    "Writes a charter to standard output, and keeps nothing. What all of the accounts have, they must; what some have, they may.\nThat they have it does not say that they need it: take out what they do not.\nFrom a trace it is the smallest grant that what was sent takes, also what was refused; what could not be read is told. 'moss charter prove' tries whether less would do.",
		Example: "  moss charter draft manifest-import bookings1/svc-manifest bookings2/svc-manifest > manifest-import.yaml\n  moss charter draft steward-of-hosts --trace 3 > steward-of-hosts.yaml",
	}
	var traces []int64
	cmd.Flags().Int64SliceVar(&traces, "trace", nil, "from what was sent while this trace ran; can be given several times")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		ids := make([]int64, 0, len(args)-1)
		for _, a := range args[1:] {
			id, err := c.Account(cmd.Context(), a)
			if err != nil {
				return err
			}
			ids = append(ids, id)
		}
		var v output.Row
		body := map[string]any{"name": args[0]}
		if len(ids) > 0 {
			body["accounts"] = ids
		}
		if len(traces) > 0 {
			body["traces"] = traces
		}
		if err := c.Call(cmd.Context(), http.MethodPost, "/charters/draft", body, &v); err != nil {
			return err
		}
		paper(cmd, output.Show(v["document"]))
		if unread := output.Show(v["unread"]); unread != "" {
			output.Remark(cmd, "not all rights are known of %s", unread)
		}
		for _, line := range texts(v["not_read"]) {
			output.Remark(cmd, "not read: %s", output.Safe(line))
		}
		return nil
	})
	return cmd
}
