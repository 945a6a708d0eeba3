// Package unattended has the commands about rotations that nobody watches: windows,
// policies, the order of restarts, the schedule, and the freeze.
package unattended

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// changed reports whether any of some flags was given.
func changed(cmd *cobra.Command, names ...string) bool {
	for _, name := range names {
		if cmd.Flags().Changed(name) {
			return true
		}
	}
	return false
}

// one reads one thing by its name.
func one(cmd *cobra.Command, c *api.Client, path, name string) (v output.Row, err error) {
	return v, c.Call(cmd.Context(), http.MethodGet, path+"/"+url.PathEscape(name), nil, &v)
}

// mustBeNew says how to change what is there already.
func mustBeNew(cmd *cobra.Command, c *api.Client, path, what, name string) error {
	_, err := one(cmd, c, path, name)
	var problem *api.Problem
	switch {
	case err == nil:
		return fmt.Errorf("there is a %s %q already: 'moss %s change' changes it", what, name, what)
	case errors.As(err, &problem) && problem.Status == http.StatusNotFound:
		return nil
	}
	return err
}

// removeCommand removes one thing by its name, as it was seen.
func removeCommand(what, path, short string) *cobra.Command {
	var yes bool
	cmd := &cobra.Command{Use: "remove " + strings.ToUpper(what), Short: short, Args: cobra.ExactArgs(1)}
	cmd.Flags().BoolVar(&yes, "yes", false, "remove it without being asked")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		v, err := one(cmd, c, path, args[0])
		if err != nil {
			return err
		}
		if what == "policy" {
			if err := printPreview(cmd, c, args[0], map[string]any{"precedence": v["precedence"], "remove": true}); err != nil {
				return err
			}
		}
		if err := output.Sure(cmd, yes, fmt.Sprintf("Remove the %s %s?", what, args[0])); err != nil {
			return err
		}
		if err := c.Call(cmd.Context(), http.MethodDelete, path+"/"+url.PathEscape(args[0])+"?revision="+output.Show(v["revision"]), nil, nil); err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "The %s %s is removed.\n", what, output.Safe(args[0]))
		return nil
	})
	return cmd
}

// span reads how long something is: 4h, 90m, 30d.
func span(flag, text string) (time.Duration, error) {
	if days, found := strings.CutSuffix(text, "d"); found {
		if n, err := strconv.Atoi(days); err == nil && n > 0 {
			return time.Duration(n) * 24 * time.Hour, nil
		}
	}
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 {
		return 0, api.Exit(api.ExitUsage, fmt.Errorf("--%s %q: write it like 4h, 90m or 30d", flag, text))
	}
	return d, nil
}

// windowFlags is a window as flags say it.
type windowFlags struct {
	at, days, rule, begins, zone, lasts, description string
	labels, systems                                  []string
	dependents                                       []int64
}

func (w *windowFlags) register(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&w.at, "at", "", "time of day at which it opens, such as 22:00")
	f.StringVar(&w.days, "days", "", "days on which it opens, such as sat,sun; every day by default")
	f.StringVar(&w.rule, "rule", "", "in place of --days: a recurrence rule of RFC 5545, such as 'FREQ=MONTHLY;BYDAY=2SU'")
	f.StringVar(&w.begins, "begins", "", "in place of --at: when it opens first, such as 2026-11-28T22:00")
	f.StringVar(&w.zone, "zone", "", "time zone by whose clock it opens, such as Europe/Oslo")
	f.StringVar(&w.lasts, "for", "", "how long it is open, such as 4h or 90m")
	f.StringVar(&w.description, "description", "", "what it is for")
	f.StringArrayVar(&w.labels, "label", nil, "it counts for accounts with this label (repeatable)")
	f.StringArrayVar(&w.systems, "system", nil, "and for what is restarted on this system (repeatable)")
	f.Int64SliceVar(&w.dependents, "dependent", nil, "and for this dependent, by its number (repeatable)")
	cmd.MarkFlagsMutuallyExclusive("days", "rule")
	cmd.MarkFlagsMutuallyExclusive("at", "begins")
	for _, name := range []string{"label", "system"} {
		_ = cmd.RegisterFlagCompletionFunc(name, cobra.NoFileCompletions)
	}
}

var weekdays = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

// ruleOf makes a rule of days.
func ruleOf(days string) (string, error) {
	if days == "" {
		return "FREQ=DAILY", nil
	}
	var out []string
	for day := range strings.SplitSeq(strings.ToLower(days), ",") {
		short := day
		if len(short) > 3 {
			short = short[:3]
		}
		known := false
		for _, w := range weekdays {
			known = known || w == short
		}
		if !known {
			return "", api.Exit(api.ExitUsage, fmt.Errorf("--days: %q is no day: write %s", day, strings.Join(weekdays, ",")))
		}
		out = append(out, strings.ToUpper(short[:2]))
	}
	return "FREQ=WEEKLY;BYDAY=" + strings.Join(out, ","), nil
}

// body is what is asked for; before is the window that it changes, nil for a new one.
func (w *windowFlags) body(cmd *cobra.Command, before output.Row) (map[string]any, error) {
	in := map[string]any{}
	for _, name := range []string{"rule", "begins", "zone", "minutes", "description", "labels", "systems", "dependents", "revision"} {
		if before[name] != nil {
			in[name] = before[name]
		}
	}
	var err error
	if w.rule != "" {
		in["rule"] = w.rule
	} else if before == nil || changed(cmd, "days") {
		if in["rule"], err = ruleOf(w.days); err != nil {
			return nil, err
		}
	}
	switch {
	case w.begins != "":
		in["begins"] = w.begins
	case w.at != "":
		if _, err := time.Parse("15:04", w.at); err != nil {
			return nil, api.Exit(api.ExitUsage, fmt.Errorf("--at %q: write it like 22:00", w.at))
		}
		in["begins"] = time.Now().AddDate(0, 0, -1).Format(time.DateOnly) + "T" + w.at
	case before == nil:
		return nil, api.Exit(api.ExitUsage, errors.New("say when it opens: --at 22:00, or --begins 2026-11-28T22:00"))
	}
	if w.zone != "" {
		in["zone"] = w.zone
	}
	if w.lasts != "" {
		lasts, err := span("for", w.lasts)
		if err != nil {
			return nil, err
		}
		in["minutes"] = int(lasts.Minutes())
	}
	if changed(cmd, "description") {
		in["description"] = w.description
	}
	if changed(cmd, "label") {
		in["labels"] = w.labels
	}
	if changed(cmd, "system") {
		in["systems"] = w.systems
	}
	if changed(cmd, "dependent") {
		list := []map[string]any{}
		for _, id := range w.dependents {
			list = append(list, map[string]any{"id": id})
		}
		in["dependents"] = list
	}
	return in, nil
}

var windowDetails = []output.Column{{"Name", "name"}, {"Rule", "rule"}, {"Begins", "begins"}, {"Zone", "zone"}, {"Minutes", "minutes"}, {"Open now", "open"}, {"Labels", "labels"}, {"Systems", "systems"}, {"Dependents", "places"}, {"Policies", "policies"}, {"Description", "description"}, {"Changed", "changed"}, {"By", "changed_by"}}

// printWindow prints a window with when it is open next.
func printWindow(cmd *cobra.Command, v output.Row) error {
	list, _ := v["dependents"].([]any)
	var places []string
	for _, d := range list {
		d, _ := d.(map[string]any)
		places = append(places, output.Show(d["system"])+"/"+output.Show(d["place"]))
	}
	v["places"] = strings.Join(places, ", ")
	if err := output.Details(cmd, v, windowDetails); err != nil {
		return err
	}
	return printSlots(cmd, v)
}

func printSlots(cmd *cobra.Command, v output.Row) error {
	list, _ := v["slots"].([]any)
	out := cmd.OutOrStdout()
	if len(list) == 0 {
		fmt.Fprintln(out, "It does not open any more.")
		return nil
	}
	zone, err := time.LoadLocation(output.Show(v["zone"]))
	if err != nil {
		zone = time.UTC
	}
	fmt.Fprintln(out, "\nIt is open:")
	for _, s := range list[:min(len(list), 5)] {
		s, _ := s.(map[string]any)
		from, err := time.Parse(time.RFC3339, fmt.Sprint(s["from"]))
		if err != nil {
			return fmt.Errorf("the service says when it opens in a way that cannot be read: %w", err)
		}
		to, err := time.Parse(time.RFC3339, fmt.Sprint(s["to"]))
		if err != nil {
			return fmt.Errorf("the service says when it closes in a way that cannot be read: %w", err)
		}
		fmt.Fprintf(out, "  %s to %s  (%s UTC)\n", from.In(zone).Format("Mon 2006-01-02 15:04"), to.In(zone).Format("15:04 MST"), from.UTC().Format("15:04"))
	}
	return nil
}

// WindowCommand is for windows.
func WindowCommand() *cobra.Command {
	list := output.ListCommand("list", "List windows, with when they are open", "/windows", []output.Column{{"NAME", "name"}, {"OPEN", "open"}, {"RULE", "rule"}, {"BEGINS", "begins"}, {"ZONE", "zone"}, {"MINUTES", "minutes"}, {"LABELS", "labels"}, {"SYSTEMS", "systems"}, {"POLICIES", "policies"}, {"DESCRIPTION", "description"}},
		"There are no windows: what is rotated is restarted at any time. Add one with 'moss window add'.")
	show := &cobra.Command{Use: "show WINDOW", Short: "Show a window, and when it is open next", Args: cobra.ExactArgs(1)}
	output.AddFlag(show)
	show.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		v, err := one(cmd, c, "/windows", args[0])
		if err != nil {
			return err
		}
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, nil, []output.Row{v}, v)
		}
		return printWindow(cmd, v)
	})
	return output.Group("window", "Times in which something may be changed or restarted", list, show, windowAdd(), windowChange(), removeCommand("window", "/windows", "Remove a window that no policy rotates in"))
}

// saveWindow saves one, and shows it.
func saveWindow(cmd *cobra.Command, c *api.Client, name string, in map[string]any) error {
	var v output.Row
	if err := c.Call(cmd.Context(), http.MethodPut, "/windows/"+url.PathEscape(name), in, &v); err != nil {
		return err
	}
	fmt.Fprintf(cmd.OutOrStdout(), "The window %s is kept.\n", output.Safe(name))
	return printSlots(cmd, v)
}

func windowAdd() *cobra.Command {
	var w windowFlags
	cmd := &cobra.Command{Use: "add WINDOW", Short: "Add a window: when it is open, and for what it counts", Args: cobra.ExactArgs(1)}
	w.register(cmd)
	_ = cmd.MarkFlagRequired("zone")
	_ = cmd.MarkFlagRequired("for")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		if err := mustBeNew(cmd, c, "/windows", "window", args[0]); err != nil {
			return err
		}
		in, err := w.body(cmd, nil)
		if err != nil {
			return err
		}
		return saveWindow(cmd, c, args[0], in)
	})
	return cmd
}

func windowChange() *cobra.Command {
	var w windowFlags
	cmd := &cobra.Command{Use: "change WINDOW", Short: "Change a window; lists that are given replace those that it has", Args: cobra.ExactArgs(1)}
	w.register(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		if !changed(cmd, "at", "days", "rule", "begins", "zone", "for", "description", "label", "system", "dependent") {
			return api.Exit(api.ExitUsage, errors.New("nothing to change: see 'moss window change --help'"))
		}
		before, err := one(cmd, c, "/windows", args[0])
		if err != nil {
			return err
		}
		in, err := w.body(cmd, before)
		if err != nil {
			return err
		}
		return saveWindow(cmd, c, args[0], in)
	})
	return cmd
}
