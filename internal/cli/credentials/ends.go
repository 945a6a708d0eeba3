package credentials

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/amend"
	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
	"mossledger.example/moss/internal/core/expiry"
)

var about = map[expiry.Act]struct{ use, short, long, example string }{
	expiry.SetEnd:  {"set-end CREDENTIAL WHEN", "Have an account or an entry of a key end at a moment, or never", "WHEN is " + expiry.Forms + ".\nWhat lasts longer by it takes a second person.", "  moss credential set-end svc-berth 2027-03-31\n  moss credential set-end svc-berth '2027-03-28 18:00' --zone Europe/Oslo --reason 'the terminal closes'\n  moss credential set-end SHA256:Zk3fQ9 90d --on tide1"},
	expiry.Extend:  {"extend CREDENTIAL", "Have it last longer than it does now", "It takes a second person. How much longer is counted from when it ends now, as its system says; from this moment where that has passed.", "  moss credential extend svc-berth --by 30d --reason 'the new terminal is late'\n  moss credential extend svc-berth --until 2027-06-30"},
	expiry.Expire:  {"expire CREDENTIAL", "Have it end now: the value stays what it is, and is refused", "That is no rotation: no new value is made. What the account's password is, it stays; who gives it is refused.", "  moss credential expire svc-fuelcard\n  moss credential expire svc-fuelcard --of password --reason 'it stood in a ticket'"},
	expiry.Disable: {"disable CREDENTIAL", "Have it refused until it is enabled again, whatever its end is", "", "  moss credential disable svc-fuelcard --reason 'nobody has used it since spring'"},
	expiry.Enable:  {"enable CREDENTIAL", "Have it accepted again", "It takes a second person.", "  moss credential enable svc-fuelcard --reason 'the pumps were moved back'"},
	expiry.Delete:  {"delete CREDENTIAL", "Remove it for good", "It takes a second person, for it cannot be undone. With --watch it is disabled first and only watched for a time,\nin which 'moss amend undo' lets it in again; what asks for it meanwhile keeps it from being deleted.", "  moss credential delete svc-fuelcard --watch 30d --reason 'nobody has used it since spring'\n  moss credential delete svc-fuelcard --reason 'disabled since March, and nothing asked for it'\n  moss credential delete SHA256:Zk3fQ9 --on tide1 --reason 'nobody has the private half'"},
}

// act is a command about an end.
func act(a expiry.Act) *cobra.Command {
	words := about[a]
	var of, on, key, zone, reason, by, until, watch string
	var detach bool
	args := 1
	if a == expiry.SetEnd {
		args = 2
	}
	cmd := &cobra.Command{Use: words.use, Short: words.short, Example: words.example, Args: cobra.ExactArgs(args)}
	cmd.Long = strings.TrimSpace(words.long + "\nIt is rehearsed first: what every holder will see, in the words of its system, which dependents stop, and\nwhether it can be undone. With --reason it begins once that has passed; without, 'moss amend start' begins it.\nCREDENTIAL is an account in any spelling, or the fingerprint of a key, whose entries are meant.")
	output.AddFlag(cmd)
	f := cmd.Flags()
	f.StringVar(&of, "of", "", "of what: account, password, role; what its system offers first where it is not given")
	f.StringVar(&on, "on", "", "of a key: only the entries on this system")
	f.StringVar(&key, "key", "", "one key of a service identity: its number, or the beginning of it")
	f.StringVar(&reason, "reason", "", "why; with it the act begins")
	f.BoolVar(&detach, "detach", false, "do not wait for its end")
	complete := func(flag string, values ...string) {
		_ = cmd.RegisterFlagCompletionFunc(flag, cobra.FixedCompletions(values, cobra.ShellCompDirectiveNoFileComp))
	}
	complete("of", "account", "password", "role")
	switch a {
	case expiry.SetEnd:
		f.StringVar(&zone, "zone", "UTC", "the time zone in which a date or a time without an offset is meant, such as Europe/Oslo")
		complete("zone", "UTC", "Europe/Oslo", "Asia/Kolkata")
	case expiry.Delete:
		f.StringVar(&watch, "watch", "", "disable it first, and delete it when nothing has asked for it for so long, such as 30d")
		complete("watch", "7d", "30d", "90d")
	case expiry.Extend:
		f.StringVar(&by, "by", "", "how much longer, such as 36h, 30d or 8w")
		f.StringVar(&until, "until", "", "until when: "+expiry.Forms)
		f.StringVar(&zone, "zone", "UTC", "the time zone in which a date or a time without an offset is meant")
		complete("zone", "UTC", "Europe/Oslo", "Asia/Kolkata")
		cmd.MarkFlagsMutuallyExclusive("by", "until")
		cmd.MarkFlagsOneRequired("by", "until")
	}
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		change := map[string]any{"act": a}
		if of != "" {
			change["of"] = of
		}
		if watch != "" {
			span, err := output.Span(watch)
			if err != nil {
				return api.Exit(api.ExitUsage, err)
			}
			change["watch_hours"] = int(span.Round(time.Hour) / time.Hour)
		}
		when := until
		if a == expiry.SetEnd {
			when = args[1]
		}
		switch {
		case by != "":
			longer, err := output.Span(by)
			if err != nil {
				return api.Exit(api.ExitUsage, err)
			}
			change["by_seconds"] = int64(longer / time.Second)
		case when != "":
			end, err := endOf(when, zone)
			if err != nil {
				return api.Exit(api.ExitUsage, err)
			}
			change["end"] = end.String()
		}
		changes, err := things(cmd, c, args[0], on, key, change)
		if err != nil {
			return err
		}
		v, err := amend.Rehearse(cmd, c, format, "/expiry/rehearsals", map[string]any{"changes": changes})
		if err != nil {
			return err
		}
		if reason == "" {
			output.Remark(cmd, "nothing is changed yet: 'moss amend start %s --reason WHY' begins it", output.Show(v["id"]))
			return nil
		}
		return amend.Start(cmd, c, format, output.Show(v["id"]), reason, detach)
	})
	return cmd
}

// endOf reads an end in a zone.
func endOf(text, zone string) (expiry.End, error) {
	location, err := time.LoadLocation(zone)
	if err != nil {
		return expiry.End{}, fmt.Errorf("%q is no time zone: write one such as Europe/Oslo, or UTC", zone)
	}
	return expiry.Parse(text, location, time.Now())
}

// things are what a credential is there: the account of a password, the entries of a key.
func things(cmd *cobra.Command, c *api.Client, spelling, on, key string, change map[string]any) ([]map[string]any, error) {
	resolved, err := c.ResolveCredential(cmd.Context(), spelling)
	if err != nil {
		return nil, err
	}
	if resolved.AccountID != 0 && resolved.Kind == "password" {
		if on != "" {
			return nil, api.Exit(api.ExitUsage, errors.New("--on is for keys, which have entries on many systems"))
		}
		if key != "" {
			id, err := issued(cmd, c, resolved, key)
			change["dependent_id"] = id
			return []map[string]any{change}, err
		}
		change["account_id"] = resolved.AccountID
		return []map[string]any{change}, nil
	}
	var v struct {
		Dependents []struct {
			ID     int64  `json:"id"`
			Kind   string `json:"kind"`
			System string `json:"system"`
		} `json:"dependents"`
	}
	if err := c.Call(cmd.Context(), http.MethodGet, fmt.Sprintf("/credentials/%d", resolved.ID), nil, &v); err != nil {
		return nil, err
	}
	var out []map[string]any
	var systems []string
	for _, d := range v.Dependents {
		if d.Kind != "authorized key" && d.Kind != "issued key" {
			continue
		}
		if !slices.Contains(systems, d.System) {
			systems = append(systems, d.System)
		}
		if on == "" || strings.EqualFold(on, d.System) {
			one := map[string]any{"dependent_id": d.ID}
			for k, v := range change {
				one[k] = v
			}
			out = append(out, one)
		}
	}
	switch {
	case len(systems) == 0:
		return nil, api.Negative("no entry is known that lets the holder of %s in", resolved.Name)
	case len(out) == 0:
		return nil, api.Exit(api.ExitUsage, fmt.Errorf("the key has no entry on %s: it has some on %s", on, strings.Join(systems, ", ")))
	}
	return out, nil
}

// issued is the number of a key of an identity, as a dependent.
func issued(cmd *cobra.Command, c *api.Client, of api.CredentialRow, key string) (int64, error) {
	var page struct {
		Items []struct {
			ID  int64 `json:"id"`
			Key struct {
				KeyID string `json:"key_id"`
			} `json:"key"`
		} `json:"items"`
	}
	query := url.Values{"account": {fmt.Sprint(of.AccountID)}, "filter": {"kind=issued key"}, "limit": {"1000"}}
	if err := c.Call(cmd.Context(), http.MethodGet, "/dependents?"+query.Encode(), nil, &page); err != nil {
		return 0, err
	}
	var found []int64
	var known []string
	for _, d := range page.Items {
		known = append(known, d.Key.KeyID)
		if strings.HasPrefix(d.Key.KeyID, key) {
			found = append(found, d.ID)
		}
	}
	switch {
	case len(found) == 1:
		return found[0], nil
	case len(found) > 1:
		return 0, api.Exit(api.ExitUsage, fmt.Errorf("%d keys of %s begin with %s: write more of it", len(found), of.Name, key))
	case len(known) == 0:
		return 0, api.Exit(api.ExitUsage, fmt.Errorf("no key of %s on %s is known: --key is for service identities of cloud projects", of.Name, of.System))
	}
	return 0, api.Exit(api.ExitUsage, fmt.Errorf("%s has no key that begins with %s: it has %s", of.Name, key, strings.Join(known, ", ")))
}

// showEnds prints when an account and what proves it end.
func showEnds(cmd *cobra.Command, c *api.Client, account int64) error {
	if account == 0 {
		return nil
	}
	var rows []output.Row
	if err := c.Call(cmd.Context(), http.MethodGet, fmt.Sprintf("/accounts/%d/ends", account), nil, &rows); err != nil {
		return err
	}
	for _, r := range rows {
		text := output.Show(r["left"])
		if at := output.Show(r["at"]); at != "" {
			text += " (" + at + ")"
		}
		if why := output.Show(r["why"]); why != "" {
			text += ": " + why
		}
		what := output.Show(r["what"])
		if place := output.Show(r["place"]); place != "" && (what == "membership" || what == "right") {
			what += " (" + place + ")"
		}
		fmt.Fprintf(cmd.OutOrStdout(), "The %s %s\n", output.Safe(what), output.Safe(text))
	}
	return nil
}

// ExpiryCommand is moss expiry.
func ExpiryCommand() *cobra.Command {
	list := output.ListWith("list", "List what ends, what ends first at the top", []output.Column{{"LEFT", "left"}, {"AT", "at"}, {"WHAT", "what"}, {"NAME", "name"}, {"SYSTEM", "system"}, {"USED BY", "dependents"}, {"LIVE", "live"}, {"WHY", "why"}, {"PLACE", "place"}, {"LABELS", "labels"}},
		"Nothing is known that ends. Surveys read it: 'moss survey run'.", func(cmd *cobra.Command, _ *api.Client, _ []string, query url.Values) (string, error) {
			if label, _ := cmd.Flags().GetString("label"); label != "" {
				query.Set("label", label)
			}
			return "/expiry", nil
		})
	list.Flags().String("label", "", "only of accounts with this label")
	list.Long = "Lists passwords, accounts, roles, keys, certificates and what is given for a while by when they end: what has ended first, what is not\nknown and what never ends last. LIVE is no for accounts that are disabled, and for computers.\nThat an account itself never ends is so of nearly all: they are listed by the filters what=account and state=never."
	list.Example = "  moss expiry list\n  moss expiry list --filter at<2027-01-01 --filter live=yes --sort at\n  moss expiry list --filter state=never --filter what=key\n  moss expiry list --label production -o csv"
	timeline := &cobra.Command{Use: "timeline", Short: "Count what has ended, ends soon, later, never, and what is not known", Args: cobra.NoArgs, Example: "  moss expiry timeline"}
	output.AddFlag(timeline)
	timeline.RunE = output.Talking(showTimeline)
	return output.Group("expiry", "What ends when: passwords, accounts, roles, keys, certificates, memberships and rights", list, timeline, forecast())
}

var partWords = map[string]string{"past": "has ended", "7": "within 7 days", "30": "within 30 days", "90": "within 90 days", "later": "later", "never": "never", "unknown": "not known"}

func showTimeline(cmd *cobra.Command, c *api.Client, format string, _ []string) error {
	var rows []output.Row
	if err := c.Call(cmd.Context(), http.MethodGet, "/expiry/timeline", nil, &rows); err != nil {
		return err
	}
	if format == "table" {
		for _, r := range rows {
			r["part"] = partWords[output.Show(r["part"])]
		}
	}
	return output.Write(cmd.OutOrStdout(), format, []output.Column{{"ENDS", "part"}, {"WHAT", "what"}, {"LIVE", "live"}, {"COUNT", "count"}}, rows, rows)
}

func forecast() *cobra.Command {
	var days int
	cmd := &cobra.Command{Use: "forecast", Short: "Count what ends on each day from today on", Args: cobra.NoArgs, Example: "  moss expiry forecast\n  moss expiry forecast --days 365 -o csv", Long: "Counts by days of UTC, of accounts that are enabled. The feed /api/v1/expiry.ics has what something depends on\none by one: 'moss token add calendar --calendar' makes a token for it."}
	output.AddFlag(cmd)
	cmd.Flags().IntVar(&days, "days", 90, "how many days")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, _ []string) error {
		var v struct {
			From  string       `json:"from"`
			Days  []output.Row `json:"days"`
			Past  int          `json:"past"`
			Never int          `json:"never"`
		}
		if err := c.Call(cmd.Context(), http.MethodGet, fmt.Sprintf("/expiry/forecast?days=%d", days), nil, &v); err != nil {
			return err
		}
		columns := []output.Column{{"DAY", "day"}, {"WHAT", "what"}, {"LIVE", "live"}, {"COUNT", "count"}}
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, columns, v.Days, v)
		}
		if len(v.Days) == 0 {
			fmt.Fprintf(cmd.OutOrStdout(), "Nothing ends in the %d days from %s on.\n", days, v.From)
		} else {
			output.Table(cmd.OutOrStdout(), append(columns, output.Column{"", "bar"}), bars(v.Days))
		}
		output.Remark(cmd, "%d have ended before, %d never end", v.Past, v.Never)
		return nil
	})
	return cmd
}

// bars draws how many end on a day beside the others.
func bars(rows []output.Row) []output.Row {
	most := 1.0
	for _, r := range rows {
		if n, _ := r["count"].(float64); n > most {
			most = n
		}
	}
	for _, r := range rows {
		n, _ := r["count"].(float64)
		r["bar"] = strings.Repeat("█", max(1, int(n/most*30)))
	}
	return rows
}
