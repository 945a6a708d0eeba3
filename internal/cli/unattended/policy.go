package unattended

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// policyFlags is a policy as flags say it.
type policyFlags struct {
	label, every, rule, begins, zone, window, atWindowEnd, onFailure, restart, way, quiet, description string
	precedence, spread, atOnce, length, undoDays, lead, age, idle, renew                               int
	without                                                                                            string
	patience                                                                                           time.Duration
	firstAlone, pause, resume, yes                                                                     bool
}

func (p *policyFlags) register(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&p.label, "label", "", "of the accounts that it is for; without it, it is for all in custody")
	f.IntVar(&p.precedence, "precedence", 100, "where several policies are for one account, the one with the highest decides")
	f.StringVar(&p.every, "every", "", "each credential is rotated at least once in so long, in a turn of its own: 30d, 90d")
	f.StringVar(&p.rule, "rule", "", "in place of --every: after each time of a recurrence rule of RFC 5545, such as 'FREQ=MONTHLY;BYDAY=1SU'")
	f.IntVar(&p.renew, "renew-days", 0, "in place of --every: it is for certificates in custody, and renews each with its key so many days before its end")
	f.StringVar(&p.begins, "begins", "", "with --rule: when it recurs first, such as 2026-12-06T00:00")
	f.StringVar(&p.zone, "zone", "", "with --rule: time zone by whose clock it recurs, such as Europe/Oslo")
	f.IntVar(&p.spread, "spread", 0, "with --rule: over so many openings of the window, or days, after each time (1 by default)")
	f.StringVar(&p.window, "window", "", "in which it rotates; without it, at any time")
	f.StringVar(&p.atWindowEnd, "at-window-end", "", "what becomes of a rotation that is not done when its window closes: pause (it goes on in the next) or undo")
	f.StringVar(&p.onFailure, "on-failure", "", "when a step fails: stop, continue or undo (undo by default)")
	f.StringVar(&p.restart, "restart", "", "when dependents are restarted: now, or leave (not at all)")
	f.StringVar(&p.way, "way", "", "any, replace (the old value is refused from the change on), overlap (only while both are accepted for a time) or alternate (only while another account takes its place)")
	f.BoolVar(&p.firstAlone, "first-alone", false, "change and prove one dependent before all others")
	f.StringVar(&p.quiet, "quiet-time", "", "leave an account alone for so long after somebody else changed it or a dependent: 24h, 7d")
	f.IntVar(&p.atOnce, "at-once", 0, "so many of its rotations run at the same time (4 by default)")
	f.DurationVar(&p.patience, "patience", 0, "how long a system that is away is waited for before --on-failure decides (half an hour by default)")
	f.IntVar(&p.undoDays, "undo-days", 0, "for so many days a value that was replaced is kept sealed, so that the rotation can be undone (90 by default)")
	f.IntVar(&p.lead, "lead-days", 0, "so many days before something of an account with the label ends, that is told (30 by default)")
	f.IntVar(&p.age, "max-age-days", 0, "a password of an account with the label that is older is told")
	f.IntVar(&p.idle, "idle-days", 0, "an account with the label that was not used for so many days is told")
	f.IntVar(&p.length, "length", 0, "characters of new passwords, 12 to 256 (32 by default, within what the system takes)")
	f.StringVar(&p.without, "without", "", "characters that new passwords must not have")
	f.StringVar(&p.description, "description", "", "what it is for")
	f.BoolVar(&p.yes, "yes", false, "save it without being asked")
	cmd.MarkFlagsMutuallyExclusive("every", "rule", "renew-days")
	for name, values := range map[string][]string{"at-window-end": {"pause", "undo"}, "on-failure": {"stop", "continue", "undo"}, "restart": {"now", "leave"}, "way": {"any", "replace", "overlap", "alternate"}} {
		_ = cmd.RegisterFlagCompletionFunc(name, cobra.FixedCompletions(values, cobra.ShellCompDirectiveNoFileComp))
	}
}

// kept are the fields that a change keeps.
var kept = []string{"label", "precedence", "every_days", "renew_days", "rule", "begins", "zone", "spread", "window", "at_window_end", "on_failure", "restart", "way", "first_alone", "quiet_hours", "at_once", "patience", "length", "without", "undo_days", "lead_days", "max_age_days", "idle_days", "paused", "description", "revision"}

// body is what is asked for; before is the policy that it changes, nil for a new one.
func (p *policyFlags) body(cmd *cobra.Command, before output.Row) (map[string]any, error) {
	in := map[string]any{"precedence": p.precedence}
	for _, name := range kept {
		if before[name] != nil {
			in[name] = before[name]
		}
	}
	for flag, set := range map[string]struct {
		field string
		value any
	}{
		"label": {"label", p.label}, "precedence": {"precedence", p.precedence}, "begins": {"begins", p.begins}, "zone": {"zone", p.zone}, "spread": {"spread", p.spread}, "window": {"window", p.window}, "at-window-end": {"at_window_end", p.atWindowEnd},
		"on-failure": {"on_failure", p.onFailure}, "restart": {"restart", p.restart}, "way": {"way", p.way}, "first-alone": {"first_alone", p.firstAlone}, "at-once": {"at_once", p.atOnce}, "patience": {"patience", int(p.patience.Seconds())}, "description": {"description", p.description}, "length": {"length", p.length}, "undo-days": {"undo_days", p.undoDays}, "renew-days": {"renew_days", p.renew}, "lead-days": {"lead_days", p.lead}, "max-age-days": {"max_age_days", p.age}, "idle-days": {"idle_days", p.idle}, "without": {"without", p.without},
	} {
		if changed(cmd, flag) {
			in[set.field] = set.value
		}
	}
	if p.every != "" {
		every, err := span("every", p.every)
		if err != nil {
			return nil, err
		}
		if every < 24*time.Hour || every%(24*time.Hour) != 0 {
			return nil, api.Exit(api.ExitUsage, fmt.Errorf("--every %s: write whole days, such as 30d", p.every))
		}
		in["every_days"] = int(every.Hours() / 24)
	}
	if p.rule != "" {
		in["rule"] = p.rule
	}
	// What says how often in another way is not kept.
	for way, others := range map[string][]string{
		"every": {"renew_days", "rule", "begins", "zone", "spread"}, "rule": {"renew_days", "every_days"}, "renew-days": {"every_days", "rule", "begins", "zone", "spread"},
	} {
		for _, name := range others {
			if changed(cmd, way) {
				delete(in, name)
			}
		}
	}
	if p.quiet != "" {
		quiet, err := span("quiet-time", p.quiet)
		if err != nil {
			return nil, err
		}
		in["quiet_hours"] = int(quiet.Hours())
	}
	if p.pause || p.resume {
		in["paused"] = p.pause
	}
	return in, nil
}

// printPreview asks what a policy would do, and prints it.
func printPreview(cmd *cobra.Command, c *api.Client, name string, in map[string]any) error {
	var p output.Row
	if err := c.Call(cmd.Context(), http.MethodPost, "/policies/"+url.PathEscape(name)+"/preview", in, &p); err != nil {
		return err
	}
	out := cmd.OutOrStdout()
	if in["remove"] != true {
		fmt.Fprintf(out, "Credentials that it decides for: %s; not now: %s. Rotated %s", output.Show(p["decides"]), output.Show(p["gains"]), output.Safe(output.Show(p["often"])))
		if n := output.Show(p["openings"]); n != "1" && n != "0" {
			fmt.Fprintf(out, ", over %s openings", n)
		}
		if most := output.Show(p["most"]); most != "0" && most != "" {
			fmt.Fprintf(out, ", at most %s in one", most)
		}
		fmt.Fprintln(out, ".")
	}
	if loses := output.Show(p["loses"]); loses != "0" {
		fmt.Fprintf(out, "Credentials that it decides for now, and would not any more: %s.\n", loses)
	}
	warnings, _ := p["warnings"].([]any)
	for _, w := range warnings {
		fmt.Fprintf(out, "Note: %s.\n", output.Safe(output.Show(w)))
	}
	list, _ := p["rows"].([]any)
	var rows []output.Row
	for _, r := range list {
		if r, ok := r.(map[string]any); ok {
			rows = append(rows, r)
		}
	}
	if len(rows) > 0 {
		fmt.Fprintln(out)
		output.Table(out, []output.Column{{"CREDENTIAL", "credential"}, {"SYSTEM", "system"}, {"POLICY NOW", "was"}, {"BECOMES", "becomes"}, {"NEXT", "next"}}, rows)
	}
	return nil
}

// savePolicy shows what a policy would do, asks, and saves it.
func savePolicy(cmd *cobra.Command, c *api.Client, name string, in map[string]any, yes bool) error {
	draft := map[string]any{}
	for k, v := range in {
		draft[k] = v
	}
	if err := printPreview(cmd, c, name, draft); err != nil {
		return err
	}
	if err := output.Sure(cmd, yes, "Save it?"); err != nil {
		return err
	}
	if err := c.Call(cmd.Context(), http.MethodPut, "/policies/"+url.PathEscape(name), in, nil); err != nil {
		return err
	}
	fmt.Fprintf(cmd.OutOrStdout(), "The policy %s is kept. 'moss schedule list' shows when credentials are rotated.\n", output.Safe(name))
	return nil
}

// PolicyCommand is for policies.
func PolicyCommand() *cobra.Command {
	list := output.ListCommand("list", "List policies, the one that decides before all others first", "/policies", []output.Column{{"NAME", "name"}, {"PRECEDENCE", "precedence"}, {"LABEL", "label"}, {"DAYS", "every_days"}, {"RENEW", "renew_days"}, {"RULE", "rule"}, {"WINDOW", "window"}, {"CREDENTIALS", "credentials"}, {"DUE", "due"}, {"PAUSED", "paused"}, {"DESCRIPTION", "description"}},
		"There are no policies: credentials are rotated by people only. Add one with 'moss policy add'.")
	show := &cobra.Command{Use: "show POLICY", Short: "Show a policy", Args: cobra.ExactArgs(1)}
	output.AddFlag(show)
	show.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		v, err := one(cmd, c, "/policies", args[0])
		if err != nil {
			return err
		}
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, nil, []output.Row{v}, v)
		}
		return output.Details(cmd, v, []output.Column{{"Name", "name"}, {"Precedence", "precedence"}, {"Label", "label"}, {"Every days", "every_days"}, {"Renew (days before the end)", "renew_days"}, {"Rule", "rule"}, {"Begins", "begins"}, {"Zone", "zone"}, {"Spread", "spread"}, {"Window", "window"}, {"At window end", "at_window_end"}, {"On failure", "on_failure"}, {"Restart", "restart"}, {"Way", "way"}, {"First alone", "first_alone"}, {"Quiet hours", "quiet_hours"}, {"At once", "at_once"}, {"Patience (s)", "patience"}, {"Length", "length"}, {"Without", "without"}, {"Undo for (days)", "undo_days"}, {"Lead (days)", "lead_days"}, {"Greatest age (days)", "max_age_days"}, {"Idle (days)", "idle_days"}, {"Paused", "paused"}, {"Credentials", "credentials"}, {"Due", "due"}, {"Description", "description"}, {"Changed", "changed"}, {"By", "changed_by"}})
	})
	return output.Group("policy", "How often, when and how credentials are rotated while nobody watches", list, show, policyAdd(), policyChange(), removeCommand("policy", "/policies", "Remove a policy: what it decides for now is shown, and asked about"), policyWhy())
}

func policyAdd() *cobra.Command {
	var p policyFlags
	cmd := &cobra.Command{Use: "add POLICY", Short: "Add a policy: what it would do is shown, and asked about", Args: cobra.ExactArgs(1)}
	p.register(cmd)
	cmd.Flags().BoolVar(&p.pause, "paused", false, "it decides, and nothing is rotated yet")
	cmd.MarkFlagsOneRequired("every", "rule", "renew-days")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		if err := mustBeNew(cmd, c, "/policies", "policy", args[0]); err != nil {
			return err
		}
		in, err := p.body(cmd, nil)
		if err != nil {
			return err
		}
		return savePolicy(cmd, c, args[0], in, p.yes)
	})
	return cmd
}

func policyChange() *cobra.Command {
	var p policyFlags
	cmd := &cobra.Command{Use: "change POLICY", Short: "Change a policy, pause it or let it go on: what that would do is shown, and asked about", Args: cobra.ExactArgs(1)}
	p.register(cmd)
	cmd.Flags().BoolVar(&p.pause, "pause", false, "it goes on deciding, and nothing is rotated")
	cmd.Flags().BoolVar(&p.resume, "resume", false, "rotate again")
	cmd.MarkFlagsMutuallyExclusive("pause", "resume")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		if !changed(cmd, "label", "precedence", "every", "rule", "begins", "zone", "spread", "window", "at-window-end", "on-failure", "restart", "way", "first-alone", "quiet-time", "at-once", "patience", "length", "without", "undo-days", "description", "renew-days", "lead-days", "max-age-days", "idle-days", "pause", "resume") {
			return api.Exit(api.ExitUsage, errors.New("nothing to change: see 'moss policy change --help'"))
		}
		before, err := one(cmd, c, "/policies", args[0])
		if err != nil {
			return err
		}
		in, err := p.body(cmd, before)
		if err != nil {
			return err
		}
		return savePolicy(cmd, c, args[0], in, p.yes)
	})
	return cmd
}

func policyWhy() *cobra.Command {
	cmd := &cobra.Command{Use: "why ACCOUNT", Short: "Say which policy decides for an account, why, and when it is rotated", Args: cobra.ExactArgs(1)}
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		id, err := c.Account(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		var v struct {
			Account, System, Words, Window string
			Labels                         []string
			Policies, Turns                []output.Row
		}
		path := fmt.Sprintf("/accounts/%d/policy", id)
		if format != "table" {
			var raw output.Row
			if err := c.Call(cmd.Context(), http.MethodGet, path, nil, &raw); err != nil {
				return err
			}
			return output.Write(cmd.OutOrStdout(), format, nil, []output.Row{raw}, raw)
		}
		if err := c.Call(cmd.Context(), http.MethodGet, path, nil, &v); err != nil {
			return err
		}
		out := cmd.OutOrStdout()
		labels := "no labels"
		switch len(v.Labels) {
		case 0:
		case 1:
			labels = "the label " + v.Labels[0]
		default:
			labels = "the labels " + strings.Join(v.Labels, ", ")
		}
		fmt.Fprintf(out, "%s on %s has %s: %s.\n", output.Safe(v.Account), output.Safe(v.System), output.Safe(labels), output.Safe(v.Words))
		if v.Window != "" {
			fmt.Fprintf(out, "Also people rotate it in the window %s.\n", output.Safe(v.Window))
		}
		if len(v.Policies) > 0 {
			fmt.Fprintln(out)
			output.Table(out, []output.Column{{"POLICY", "policy"}, {"PRECEDENCE", "precedence"}, {"LABEL", "label"}, {"DECIDES", "decides"}, {"BECAUSE", "because"}}, v.Policies)
		}
		if len(v.Turns) > 0 {
			fmt.Fprintln(out)
			output.Table(out, []output.Column{{"STATE", "state"}, {"NEXT", "next"}, {"UNTIL", "next_ends"}, {"DUE SINCE", "due"}, {"TRIED", "tried"}, {"WHAT CAME OF IT", "words"}}, v.Turns)
		}
		return nil
	})
	return cmd
}
