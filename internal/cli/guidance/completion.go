package guidance

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// source is where the names of a kind of argument come from: a list of the service,
// the field that is completed and one that explains it.
type source struct{ path, field, about string }

// sources by what a use line calls an argument, and for the words that mean
// different things in different groups by the group before it.
var sources = map[string]source{
	"ACCOUNT":      {"/accounts", "name", "system"},
	"CREDENTIAL":   {"/accounts", "name", "system"},
	"SYSTEM":       {"/systems", "name", "kind"},
	"system NAME":  {"/systems", "name", "kind"},
	"steward NAME": {"/stewards", "name", "account"},
	"user NAME":    {"/users", "name", "roles"},
	"survey ID":    {"/surveys", "id", "state"},
	"change ID":    {"/changes", "id", "name"},
	"rule RULE":    {"/rules", "name", "label"},
	"rotate ID":    {"/rotations", "id", "credential"},
	"batch ID":     {"/batches", "id", "chosen"},
	"POLICY":       {"/policies", "name", "label"},
	"WINDOW":       {"/windows", "name", "zone"},
	"ORDER":        {"/orders", "name", "kind"},
	"finding ID":   {"/findings", "id", "what"},
	"dependent ID": {"/dependents", "id", "place"},
	"token ID":     {"/tokens", "id", "label"},
	"approval ID":  {"/approvals", "id", "what"},
	"DEPENDENT":    {"/dependents", "place", "system"},
}

// completed gives every command whose arguments are known the names that the
// service has, but those that make something new.
func completed(root *cobra.Command) {
	Each(root, func(cmd *cobra.Command) {
		if cmd.Parent() != nil && cmd.Parent().Name() == "policy" && cmd.Flags().Lookup("window") != nil {
			from := sources["WINDOW"]
			_ = cmd.RegisterFlagCompletionFunc("window", func(cmd *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
				return from.names(cmd.Context(), typed), cobra.ShellCompDirectiveNoFileComp
			})
		}
		for _, flag := range []string{"on", "authority"} {
			if cmd.Flags().Lookup(flag) == nil {
				continue
			}
			from := sources["SYSTEM"]
			_ = cmd.RegisterFlagCompletionFunc(flag, func(cmd *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
				return from.names(cmd.Context(), typed), cobra.ShellCompDirectiveNoFileComp
			})
		}
		words := strings.Fields(cmd.Use)
		if len(words) < 2 || cmd.ValidArgsFunction != nil || words[0] == "add" || cmd.Parent() == nil {
			return
		}
		name := strings.Trim(words[1], "[].")
		from, known := sources[name]
		if !known {
			if from, known = sources[cmd.Parent().Name()+" "+name]; !known {
				return
			}
		}
		several := strings.Contains(words[1], "...")
		cmd.ValidArgsFunction = func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
			if len(args) > 0 && !several {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			return from.names(cmd.Context(), typed), cobra.ShellCompDirectiveNoFileComp
		}
	})
}

// names are those that begin as was typed, at most fifty, and none when the service
// does not answer in a second.
func (s source) names(ctx context.Context, typed string) []string {
	if ctx == nil {
		ctx = context.Background()
	}
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	c, err := api.Connected()
	if err != nil {
		return nil
	}
	query := url.Values{"limit": {"50"}}
	host := ""
	if s.field == "place" { // written SYSTEM/PLACE
		if system, place, found := strings.Cut(typed, "/"); found {
			host, typed = system, place
			query.Add("filter", "system="+system)
		} else {
			return source{"/systems", "name", "kind"}.slashed(ctx, c, typed)
		}
	}
	if s.field != "id" && typed != "" {
		query.Add("filter", s.field+"*="+typed+"*")
	}
	if s.field == "id" {
		query.Set("sort", "-id")
	}
	var page struct{ Items []output.Row }
	if err := c.Call(ctx, http.MethodGet, s.path+"?"+query.Encode(), nil, &page); err != nil {
		return nil
	}
	var out []string
	for _, v := range page.Items {
		name := output.Show(v[s.field])
		if !strings.HasPrefix(name, typed) {
			continue
		}
		if host != "" {
			name = host + "/" + name
		}
		out = append(out, fmt.Sprintf("%s\t%s", output.Safe(name), output.Safe(output.Show(v[s.about]))))
	}
	return out
}

// slashed are systems whose dependents are meant.
func (s source) slashed(ctx context.Context, c *api.Client, typed string) []string {
	var page struct{ Items []output.Row }
	query := url.Values{"limit": {"50"}}
	if typed != "" {
		query.Add("filter", "name*="+typed+"*")
	}
	if err := c.Call(ctx, http.MethodGet, s.path+"?"+query.Encode(), nil, &page); err != nil {
		return nil
	}
	var out []string
	for _, v := range page.Items {
		out = append(out, output.Safe(output.Show(v["name"]))+"/")
	}
	return out
}
