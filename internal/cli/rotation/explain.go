package rotation

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// ExplainCommand makes moss explain.
func ExplainCommand() *cobra.Command {
	var mend bool
	var reason, onFailure string
	cmd := &cobra.Command{
		Use: "explain DEPENDENT", Short: "Say why a dependent is down, with the evidence for each possible cause", Args: cobra.ExactArgs(1),
		Long:    "DEPENDENT is its number, or SYSTEM/PLACE. With --repair the cause is removed, if that can be done\nfrom here, in start order, and proven.",
		Example: "  moss explain 41\n  moss explain north1/GangwayGate\n  moss explain north1/GangwayGate --repair --reason 'Monday morning'",
	}
	cmd.Flags().BoolVar(&mend, "repair", false, "remove the cause")
	cmd.Flags().StringVar(&reason, "reason", "", "why it is repaired (needed with --repair)")
	cmd.Flags().StringVar(&onFailure, "on-failure", "stop", "when a step of the repair fails: stop, continue or undo")
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		if mend && reason == "" {
			return api.Exit(api.ExitUsage, errors.New("--repair needs --reason"))
		}
		id, err := resolveDependent(cmd, c, args[0])
		if err != nil {
			return err
		}
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodPost, "/dependents/"+url.PathEscape(id)+"/explain", nil, &v); err != nil {
			return err
		}
		if format != "table" && !mend {
			list, _ := v["causes"].([]any)
			var causes []output.Row
			for _, k := range list {
				if k, ok := k.(map[string]any); ok {
					causes = append(causes, k)
				}
			}
			if err := output.Write(cmd.OutOrStdout(), format, []output.Column{{"VERDICT", "verdict"}, {"CAUSE", "title"}, {"EVIDENCE", "evidence"}, {"NEXT", "next_step"}}, causes, v); err != nil {
				return err
			}
		} else {
			printExplanation(cmd, v)
		}
		switch {
		case mend:
			return runRepair(cmd, c, format, v, reason, onFailure)
		case v["up"] != true:
			return api.Negative("%s", output.Show(v["verdict"]))
		}
		return nil
	})
	return cmd
}

// resolveDependent takes a number, or SYSTEM/PLACE, to a dependent's number.
func resolveDependent(cmd *cobra.Command, c *api.Client, text string) (string, error) {
	system, place, found := strings.Cut(text, "/")
	if !found {
		return api.Numbered(text, "a dependent", "dependent list', or write SYSTEM/PLACE; for example '"+cmd.Parent().Name()+" explain north1/GangwayGate")
	}
	rows, _, err := output.Fetch(cmd, c, "/dependents", url.Values{"filter": {"system=" + system, "place=" + place, "gone="}}, 10)
	if err != nil {
		return "", err
	}
	var several []string
	for _, r := range rows {
		if kind := output.Show(r["kind"]); kind == "file" || kind == "cron" || kind == "task" {
			continue
		}
		several = append(several, output.Show(r["id"]))
	}
	switch len(several) {
	case 0:
		return nearDependent(cmd, c, system, place)
	case 1:
		return several[0], nil
	}
	return "", api.Exit(api.ExitUsage, fmt.Errorf("%s has several of that name: use one of the numbers %s", system, strings.Join(several, ", ")))
}

// nearDependent takes the name of a unit without its suffix (systemd.unit(5)), or
// names those that are like what was written.
func nearDependent(cmd *cobra.Command, c *api.Client, system, place string) (string, error) {
	runs := []string{"unit", "service", "pool"}
	rows, _, err := output.Fetch(cmd, c, "/dependents", url.Values{"filter": {"system=" + system, "place~" + place, "gone="}}, 50)
	if err != nil {
		return "", err
	}
	var exact, near []string
	for _, r := range rows {
		name := output.Show(r["place"])
		if !slices.Contains(runs, output.Show(r["kind"])) {
			continue
		}
		if bare, _, found := strings.Cut(name, "."); found && bare == place {
			exact = append(exact, output.Show(r["id"]))
		}
		near = append(near, system+"/"+name)
	}
	switch {
	case len(exact) == 1:
		return exact[0], nil
	case len(near) > 0:
		return "", fmt.Errorf("%s has no service, pool or unit %q; did you mean %s?", system, place, strings.Join(near[:min(len(near), 5)], " or "))
	}
	return "", fmt.Errorf("%s has no service, pool or unit %q: look with 'moss dependent list --filter system=%s'", system, place, system)
}

func printExplanation(cmd *cobra.Command, v output.Row) {
	out := cmd.OutOrStdout()
	fmt.Fprintln(out, output.Safe(output.Show(v["verdict"])))
	for depth, at := 0, v; at != nil; depth++ {
		if depth > 0 {
			fmt.Fprintf(out, "\nThe one that failed first: %s\n", output.Safe(output.Show(output.FieldOf(at, "dependent.place"))))
		}
		ruledOut := 0
		list, _ := at["causes"].([]any)
		for _, k := range list {
			k, _ := k.(map[string]any)
			if verdict := output.Show(k["verdict"]); verdict == "ruled out" || verdict == "not known" {
				ruledOut++
				continue
			}
			fmt.Fprintf(out, "\n  %s: %s\n", output.Show(k["verdict"]), output.Safe(output.Show(k["title"])))
			evidence, _ := k["evidence"].([]any)
			for _, e := range evidence {
				fmt.Fprintf(out, "      %s\n", output.Safe(output.Show(e)))
			}
			if next := output.Show(k["next_step"]); next != "" {
				fmt.Fprintf(out, "      next: %s\n", output.Safe(next))
			}
		}
		for _, wanted := range []string{"ruled out", "not known"} {
			var titles []string
			for _, k := range list {
				k, _ := k.(map[string]any)
				if output.Show(k["verdict"]) == wanted {
					titles = append(titles, output.Show(k["title"]))
				}
			}
			if len(titles) > 0 {
				fmt.Fprintf(out, "\n  %s: %s\n", wanted, output.Safe(strings.Join(titles, "; ")))
			}
		}
		at, _ = at["first"].(map[string]any)
	}
	if words := output.Show(output.FieldOf(v, "repair.words")); words != "" {
		fmt.Fprintf(out, "\nRepair: %s\n", output.Safe(words))
	}
}

// runRepair does what an explanation proposes.
func runRepair(cmd *cobra.Command, c *api.Client, format string, v output.Row, reason, onFailure string) error {
	r, _ := v["repair"].(map[string]any)
	if r == nil {
		return api.Negative("nothing can be repaired from here: %s", output.Show(v["verdict"]))
	}
	if output.Show(r["kind"]) == "start" {
		var done struct{ Words []string }
		if err := c.Call(cmd.Context(), http.MethodPost, "/dependents/start", map[string]any{"dependents": r["start"], "reason": reason}, &done); err != nil {
			return err
		}
		for _, w := range done.Words {
			fmt.Fprintln(cmd.OutOrStdout(), output.Safe(w))
		}
		return nil
	}
	account, err := strconv.ParseInt(output.Show(r["account_id"]), 10, 64)
	if err != nil {
		return fmt.Errorf("the service proposes a repair without an account: %w", err)
	}
	in := map[string]any{"on_failure": onFailure, "start": true}
	if output.Show(r["kind"]) == "assign" {
		in["assign"] = r["assign"]
	}
	fmt.Fprintln(cmd.OutOrStdout())
	noted, err := c.Noted(cmd.Context(), account)
	if err != nil {
		return err
	}
	subject := fmt.Sprintf("/credentials/%d", noted.ID)
	if err := rehearse(cmd, c, "table", subject, in); err != nil {
		return err
	}
	fmt.Fprintln(cmd.OutOrStdout())
	in["reason"] = reason
	return startRotation(cmd, c, format, output.Show(r["account"]), subject, in, false)
}
