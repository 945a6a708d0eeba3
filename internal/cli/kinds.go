package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// kind is a kind of system as the service describes it.
type kind struct {
	Kind    string   `json:"kind"`
	Title   string   `json:"title"`
	Class   string   `json:"class"`
	Port    int      `json:"port"`
	Proof   string   `json:"proof"`
	SignIn  []string `json:"sign_in"`
	Options []struct {
		Name    string   `json:"name"`
		Type    string   `json:"type"`
		Choices []string `json:"choices,omitempty"`
		Default string   `json:"default,omitempty"`
		Help    string   `json:"help"`
		Reading bool     `json:"reading,omitempty"`
		Adds    bool     `json:"adds,omitempty"`
	} `json:"options"`
	Scopes []string `json:"scopes"`
	Acts   []string `json:"acts"`
	Verbs  []string `json:"verbs"`
	Ends   []struct {
		Act string `json:"act"`
		Of  string `json:"of"`
		How string `json:"how"`
	} `json:"ends"`
}

func listKinds(ctx context.Context, c *api.Client) (list []kind, err error) {
	return list, c.Call(ctx, http.MethodGet, "/kinds", nil, &list)
}

var kindColumns = []output.Column{{"KIND", "kind"}, {"PORT", "port"}, {"OPTION", "option"}, {"SETTING", "setting"}, {"DEFAULT", "default"}, {"APPROVED", "approved"}, {"WHAT IT IS", "help"}}

// kindsCommand tells which kinds of system there are, with their options.
func kindsCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "kinds [KIND]", Short: "List the kinds of system, with their options", Args: cobra.MaximumNArgs(1),
		Long:              "An option that is APPROVED decides where secrets go: changing it takes a second person.",
		ValidArgsFunction: completeKinds,
	}
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		all, err := listKinds(cmd.Context(), c)
		if err != nil {
			return err
		}
		var rows []output.Row
		var shown []kind
		for _, k := range all {
			if len(args) > 0 && k.Kind != args[0] {
				continue
			}
			shown = append(shown, k)
			first := output.Row{"kind": k.Kind, "port": k.Port}
			for _, o := range k.Options {
				setting := o.Type
				if len(o.Choices) > 0 {
					setting = strings.Join(o.Choices, "|")
					if o.Type != "choice" {
						setting = o.Type + "|" + setting
					}
				}
				first["option"], first["setting"], first["default"], first["help"] = o.Name, setting, o.Default, o.Help
				if !o.Reading {
					first["approved"] = "yes"
				}
				rows, first = append(rows, first), output.Row{}
			}
		}
		if len(shown) == 0 {
			var names []string
			for _, k := range all {
				names = append(names, k.Kind)
			}
			return api.Negative("there is no kind %q: %s", args[0], strings.Join(names, ", "))
		}
		if err := output.Write(cmd.OutOrStdout(), format, kindColumns, rows, shown); err != nil || format != "table" || len(args) == 0 {
			return err
		}
		k := shown[0]
		fmt.Fprintf(cmd.OutOrStdout(), "\nA %s is known by its %s; a steward signs in with a %s.\nIt is read for: %s.\nIt can: %s.\nRights there are to: %s.\n", k.Title, k.Proof, strings.Join(k.SignIn, " or a "), strings.Join(k.Scopes, ", "), strings.Join(k.Acts, ", "), strings.Join(k.Verbs, ", "))
		for _, e := range k.Ends {
			fmt.Fprintf(cmd.OutOrStdout(), "%s of the %s: %s.\n", e.Act, e.Of, e.How)
		}
		return nil
	})
	return cmd
}

func completeKinds(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	c, err := api.Connected()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	all, err := listKinds(cmd.Context(), c)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []string
	for _, k := range all {
		out = append(out, k.Kind+"\t"+k.Title)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// completeOptions completes the options of the kind that is given, or of all.
func completeOptions(cmd *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
	const no = cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
	c, err := api.Connected()
	if err != nil {
		return nil, no
	}
	all, err := listKinds(cmd.Context(), c)
	if err != nil {
		return nil, no
	}
	wanted, _ := cmd.Flags().GetString("kind")
	var out []string
	for _, k := range all {
		if wanted != "" && k.Kind != wanted {
			continue
		}
		for _, o := range k.Options {
			name, _, chosen := strings.Cut(typed, "=")
			switch {
			case !chosen:
				out = append(out, o.Name+"=\t"+o.Help)
			case name == o.Name:
				for _, choice := range o.Choices {
					out = append(out, o.Name+"="+choice)
				}
			}
		}
	}
	return out, no
}
