package cli

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
	"mossledger.example/moss/internal/core/radius"
)

func radiusCommand() *cobra.Command {
	var evidence []string
	var mentions bool
	var as string
	var hops int
	cmd := &cobra.Command{
		Use: "radius ACCOUNT", Short: "Show what would be touched if an account's credential changed", Args: cobra.ExactArgs(1),
		Long: `Shows the places that use an account, the programs that read those places, what needs
these programs to run, and who is connected to them; each with how it is known. At the
end stands what the picture rests on: systems that were not read completely.

Other tools take the graph with --as dot, --as graphml or -o json.`,
	}
	cmd.Flags().StringSliceVar(&evidence, "evidence", nil, "only ties of these kinds: configured, held, observed, declared")
	cmd.Flags().BoolVar(&mentions, "mentions", false, "also files that only mention the account")
	cmd.Flags().IntVar(&hops, "hops", 6, "how far to go: 1 for the account's own dependents")
	cmd.Flags().StringVar(&as, "as", "tree", "tree, dot or graphml")
	_ = cmd.RegisterFlagCompletionFunc("evidence", cobra.FixedCompletions([]string{"configured", "held", "observed", "declared"}, cobra.ShellCompDirectiveNoFileComp))
	_ = cmd.RegisterFlagCompletionFunc("as", cobra.FixedCompletions([]string{"tree", "dot", "graphml"}, cobra.ShellCompDirectiveNoFileComp))
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		id, err := c.Account(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		query := url.Values{"evidence": evidence, "hops": {fmt.Sprint(hops)}}
		if len(evidence) == 0 {
			query.Del("evidence")
		}
		if mentions {
			query.Set("mentions", "true")
		}
		var answer json.RawMessage
		if err := c.Call(cmd.Context(), http.MethodGet, fmt.Sprintf("/accounts/%d/radius?%s", id, query.Encode()), nil, &answer); err != nil {
			return err
		}
		var v struct {
			Graph   radius.Graph   `json:"graph"`
			Summary radius.Summary `json:"summary"`
			Words   string         `json:"words"`
		}
		if err := json.Unmarshal(answer, &v); err != nil {
			return fmt.Errorf("the answer of the service cannot be read: %w", err)
		}
		out := cmd.OutOrStdout()
		if format != "table" {
			var columns []output.Column
			var nodes []output.Row
			if format == "csv" {
				columns = []output.Column{{"SYSTEM", "system"}, {"KIND", "of"}, {"NAME", "name"}, {"STATE", "state"}, {"HOP", "hop"}}
				raw, err := json.Marshal(v.Graph.Nodes)
				if err != nil {
					return err
				}
				if err := json.Unmarshal(raw, &nodes); err != nil {
					return err
				}
			}
			return output.Write(out, format, columns, nodes, answer)
		}
		switch as {
		case "dot":
			return v.Graph.WriteDOT(out)
		case "graphml":
			return v.Graph.WriteGraphML(out)
		case "tree":
		default:
			return api.Exit(api.ExitUsage, fmt.Errorf("--as takes tree, dot or graphml, not %q", as))
		}
		for _, line := range v.Graph.Tree() {
			fmt.Fprintln(out, output.Safe(line))
		}
		fmt.Fprintln(out)
		fmt.Fprintf(out, "%d dependents of its own and %d further ones on %d systems.", v.Summary.Direct, v.Summary.Further, len(v.Summary.Systems))
		if n := len(v.Summary.Down); n > 0 {
			fmt.Fprintf(out, " %d already down: %s.", n, output.Safe(strings.Join(v.Summary.Down, ", ")))
		}
		if v.Graph.More {
			fmt.Fprint(out, " There are more than are shown.")
		}
		fmt.Fprintf(out, "\nHow complete this is: %s.\n", output.Safe(v.Words))
		return nil
	})
	return cmd
}

func searchCommand() *cobra.Command {
	var limit int
	cmd := &cobra.Command{Use: "search WORD...", Short: "Find accounts, dependents and systems by words or their beginnings", Args: cobra.MinimumNArgs(1)}
	cmd.Flags().IntVarP(&limit, "limit", "n", 20, "of each kind, at most 100")
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		var hits []output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, "/search?"+url.Values{"q": {strings.Join(args, " ")}, "limit": {fmt.Sprint(limit)}}.Encode(), nil, &hits); err != nil {
			return err
		}
		if len(hits) == 0 && format == "table" {
			fmt.Fprintln(cmd.OutOrStdout(), "Nothing was found. Every word must stand somewhere in a name, a place or a description; its beginning is enough.")
			return nil
		}
		return output.Write(cmd.OutOrStdout(), format, []output.Column{{"KIND", "kind"}, {"ID", "id"}, {"NAME", "name"}, {"OF", "of"}, {"SYSTEM", "system"}, {"DETAIL", "detail"}}, hits, hits)
	})
	return cmd
}

func socketCommand() *cobra.Command {
	return output.Group("socket", "Connections and listening ports of hosts",
		output.ListCommand("list", "List connections and listening ports", "/sockets", []output.Column{{"SYSTEM", "system"}, {"LISTENS", "listens"}, {"LOCAL", "local"}, {"PORT", "local_port"}, {"PEER", "peer"}, {"PEER PORT", "peer_port"}, {"PEER SYSTEM", "peer_system"}, {"UNIT", "unit"}, {"PROGRAM", "program"}},
			"No sockets are known yet. A survey of unix hosts reads them."))
}
