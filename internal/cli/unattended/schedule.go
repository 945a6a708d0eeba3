package unattended

import (
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// ScheduleCommand shows what the service does by itself, and when.
func ScheduleCommand() *cobra.Command {
	list := output.ListCommand("list", "List when credentials are rotated next, and by which policy", "/schedule", []output.Column{{"CREDENTIAL", "credential"}, {"SYSTEM", "system"}, {"STATE", "state"}, {"NEXT", "next"}, {"UNTIL", "next_ends"}, {"POLICY", "policy"}, {"WINDOW", "window"}, {"DUE SINCE", "due"}, {"TRIED", "tried"}, {"FAILED", "failed"}, {"WHAT CAME OF IT", "words"}},
		"Nothing is rotated by itself. 'moss policy add' says how often, and for which accounts.")
	return output.Group("schedule", "What the service does by itself, and when", list, nightsCommand(), dutiesCommand())
}

func nightsCommand() *cobra.Command {
	var days int
	cmd := &cobra.Command{Use: "nights", Short: "Say how many credentials are rotated when", Args: cobra.NoArgs}
	cmd.Flags().IntVar(&days, "days", 30, "how far to look ahead")
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, _ []string) error {
		if days < 1 || days > 366 {
			return api.Exit(api.ExitUsage, fmt.Errorf("--days %d: 1 to 366", days))
		}
		until := time.Now().UTC().AddDate(0, 0, days)
		var rows []output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, "/schedule/nights?until="+url.QueryEscape(until.Format(time.RFC3339)), nil, &rows); err != nil {
			return err
		}
		if len(rows) == 0 && format == "table" {
			fmt.Fprintf(cmd.OutOrStdout(), "Nothing is rotated by itself in the next %d days.\n", days)
			return nil
		}
		return output.Write(cmd.OutOrStdout(), format, []output.Column{{"FROM", "from"}, {"UNTIL", "to"}, {"POLICY", "policy"}, {"WINDOW", "window"}, {"ROTATIONS", "count"}, {"CREDENTIALS", "credentials"}}, rows, rows)
	})
	return cmd
}

func dutiesCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "duties", Short: "Show what the service does regularly, when it is due, and what came of it", Args: cobra.NoArgs}
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, _ []string) error {
		var rows []output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, "/duties", nil, &rows); err != nil {
			return err
		}
		shown := make([]output.Row, len(rows))
		for i := range rows {
			r := maps.Clone(rows[i])
			shown[i] = r
			seconds, _ := strconv.ParseInt(fmt.Sprint(r["every"]), 10, 64)
			r["interval"] = "never"
			if seconds > 0 {
				r["interval"] = (time.Duration(seconds) * time.Second).String()
			}
			switch {
			case r["running"] == true:
				r["last"] = "is running"
			case r["interrupted"] == true:
				r["last"] = "was interrupted"
			default:
				r["last"] = r["words"]
			}
		}
		return output.Write(cmd.OutOrStdout(), format, []output.Column{{"DUTY", "name"}, {"WHAT", "title"}, {"EVERY", "interval"}, {"BEGUN", "begun"}, {"WHAT CAME OF IT", "last"}, {"DUE", "due"}}, shown, rows)
	})
	return cmd
}

// FreezeCommand freezes everything.
func FreezeCommand() *cobra.Command {
	var reason string
	cmd := &cobra.Command{
		Use: "freeze", Short: "Freeze everything: no rotation begins, and what runs waits where that is safe", Args: cobra.NoArgs,
		Long: "No rotation begins, by people or policies, until 'moss thaw'. One that runs waits where it can be left for as long as one likes: before\nanything was changed, or while the old value is accepted beside the new one. One that has changed a value without\nthat goes on to its end first, for waiting would leave dependents with a value that is refused.\n\nWithout --reason it says whether everything is frozen.",
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why; it is recorded, and told to everybody")
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, _ []string) error {
		var v output.Row
		var err error
		if reason == "" {
			err = c.Call(cmd.Context(), http.MethodGet, "/freeze", nil, &v)
		} else {
			err = c.Call(cmd.Context(), http.MethodPut, "/freeze", map[string]string{"reason": reason}, &v)
		}
		if err != nil {
			return err
		}
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, []output.Column{{"FROZEN", "frozen"}, {"BY", "by"}, {"SINCE", "at"}, {"REASON", "reason"}}, []output.Row{v}, v)
		}
		if v["frozen"] == true {
			fmt.Fprintf(cmd.OutOrStdout(), "Everything is frozen by %s since %s: %s. 'moss thaw' lets it go on.\n", output.Safe(output.Show(v["by"])), output.Show(v["at"]), output.Safe(output.Show(v["reason"])))
			return nil
		}
		fmt.Fprintln(cmd.OutOrStdout(), "Nothing is frozen. 'moss freeze --reason ...' freezes everything.")
		return nil
	})
	return cmd
}

// ThawCommand lets everything go on.
func ThawCommand() *cobra.Command {
	var reason string
	cmd := &cobra.Command{Use: "thaw", Short: "Let everything go on that was frozen", Args: cobra.NoArgs}
	cmd.Flags().StringVar(&reason, "reason", "", "why; it is recorded")
	_ = cmd.MarkFlagRequired("reason")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, _ []string) error {
		if err := c.Call(cmd.Context(), http.MethodDelete, "/freeze?reason="+url.QueryEscape(reason), nil, nil); err != nil {
			return err
		}
		fmt.Fprintln(cmd.OutOrStdout(), "Everything goes on.")
		return nil
	})
	return cmd
}

// orderFlags is an order as flags say it.
type orderFlags struct {
	group, sequence []string
	atOnce          int
	description     string
}

// member reads SYSTEM/PLACE, in which * stands for any letters, or label:NAME.
func member(text string) map[string]any {
	if label, found := strings.CutPrefix(text, "label:"); found {
		return map[string]any{"label": label}
	}
	system, place, found := strings.Cut(text, "/")
	if !found {
		return map[string]any{"place": text}
	}
	out := map[string]any{}
	if system != "" && system != "*" {
		out["system"] = system
	}
	if place != "" && place != "*" {
		out["place"] = place
	}
	if len(out) == 0 {
		out["system"] = "*"
	}
	return out
}

func (o *orderFlags) register(cmd *cobra.Command) {
	cmd.Flags().StringArrayVar(&o.group, "group", nil, "a member of a group, of which only some are restarted at the same time: SYSTEM/PLACE, where * stands for any letters, or label:NAME of the account that is rotated (repeatable)")
	cmd.Flags().IntVar(&o.atOnce, "at-once", 1, "of a group: so many at the same time")
	cmd.Flags().StringArrayVar(&o.sequence, "sequence", nil, "the next stage of a sequence: all of it is proven before anything of the stage after it is restarted (repeatable, in order)")
	cmd.Flags().StringVar(&o.description, "description", "", "what it is for")
	cmd.MarkFlagsMutuallyExclusive("group", "sequence")
	cmd.MarkFlagsMutuallyExclusive("at-once", "sequence")
}

func (o *orderFlags) body(cmd *cobra.Command, before output.Row) map[string]any {
	in := map[string]any{}
	for _, name := range []string{"kind", "at_once", "members", "description", "revision"} {
		if before[name] != nil {
			in[name] = before[name]
		}
	}
	list, kind := o.group, "group"
	if len(o.sequence) > 0 {
		list, kind = o.sequence, "sequence"
	}
	if len(list) > 0 {
		members := []map[string]any{}
		for _, text := range list {
			members = append(members, member(text))
		}
		in["kind"], in["members"] = kind, members
		delete(in, "at_once")
	}
	if in["kind"] == "group" && (before == nil || changed(cmd, "at-once", "group")) {
		in["at_once"] = o.atOnce
	}
	if in["kind"] == "sequence" {
		delete(in, "at_once")
	}
	if changed(cmd, "description") {
		in["description"] = o.description
	}
	return in
}

// OrderCommand is for the order of restarts.
func OrderCommand() *cobra.Command {
	save := func(cmd *cobra.Command, c *api.Client, name string, in map[string]any) error {
		if err := c.Call(cmd.Context(), http.MethodPut, "/orders/"+url.PathEscape(name), in, nil); err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "The order %s is kept: rehearsals show it from now on.\n", output.Safe(name))
		return nil
	}
	var added, altered orderFlags
	add := &cobra.Command{Use: "add ORDER", Short: "Say that only some of a group are restarted at the same time, or what comes before what", Args: cobra.ExactArgs(1)}
	added.register(add)
	add.MarkFlagsOneRequired("group", "sequence")
	add.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		if err := mustBeNew(cmd, c, "/orders", "order", args[0]); err != nil {
			return err
		}
		return save(cmd, c, args[0], added.body(cmd, nil))
	})
	change := &cobra.Command{Use: "change ORDER", Short: "Change what is said of the order of restarts", Args: cobra.ExactArgs(1)}
	altered.register(change)
	change.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		if !changed(cmd, "group", "at-once", "sequence", "description") {
			return api.Exit(api.ExitUsage, errors.New("nothing to change: give --group, --at-once, --sequence or --description"))
		}
		before, err := one(cmd, c, "/orders", args[0])
		if err != nil {
			return err
		}
		return save(cmd, c, args[0], altered.body(cmd, before))
	})
	list := output.ListWith("list", "List what people say of the order of restarts", []output.Column{{"NAME", "name"}, {"KIND", "kind"}, {"AT ONCE", "at_once"}, {"MEMBERS", "members"}, {"DESCRIPTION", "description"}, {"CHANGED", "changed"}, {"BY", "changed_by"}},
		"Nothing is said of the order of restarts: dependents start after those that their systems say, and what has the same name on several systems is restarted one after the other.", func(*cobra.Command, *api.Client, []string, url.Values) (string, error) { return "/orders", nil })
	return output.Group("order", "In which order dependents are restarted, and how many at the same time", list, add, change, removeCommand("order", "/orders", "Remove what is said of the order of restarts"))
}
