// Package labelling has the commands for rules and for the labels that they give.
package labelling

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// draft is a rule as flags say it.
type draft struct {
	label, when, whenFile, description, takeIn string
	excludes, gives, takesNot, unread          bool
}

func (d *draft) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&d.label, "label", "", "that it gives, such as rotate-90")
	cmd.Flags().StringVar(&d.when, "when", "", "condition, such as 'account.name.startsWith(\"svc-\")'; 'moss rule fields' lists what it may ask")
	cmd.Flags().StringVar(&d.whenFile, "when-file", "", "file with the condition, - for standard input")
	cmd.Flags().StringVar(&d.description, "description", "", "what it is for")
	cmd.Flags().BoolVar(&d.excludes, "exclude", false, "keep the label from accounts, whoever else gives it: an exclusion always wins")
	cmd.Flags().StringVar(&d.takeIn, "take-in", "", "window in which what it matches is taken into custody by a reset, where nothing depends on the password; the preview says which accounts that would be")
	cmd.Flags().BoolVar(&d.unread, "take-unread", false, "with --take-in: also while systems are not read completely, where something unknown may use them")
	cmd.MarkFlagsMutuallyExclusive("when", "when-file")
	cmd.MarkFlagsMutuallyExclusive("take-in", "exclude")
}

// body is what is asked for; before is the rule that it changes, if there is one.
func (d *draft) body(cmd *cobra.Command, before output.Row) (map[string]any, error) {
	if d.whenFile != "" {
		raw, err := output.ReadText(cmd, d.whenFile)
		if err != nil {
			return nil, err
		}
		d.when = strings.TrimSpace(raw)
	}
	in := map[string]any{"label": d.label, "condition": d.when, "description": d.description, "excludes": d.excludes, "take_in": d.takeIn, "take_unread": d.unread}
	for name, flag := range map[string]string{"label": "label", "description": "description", "excludes": "exclude", "take_in": "take-in", "take_unread": "take-unread"} {
		if before != nil && !cmd.Flags().Changed(flag) {
			in[name] = before[name]
			if before[name] == nil {
				delete(in, name)
			}
		}
	}
	if before != nil && d.when == "" {
		in["condition"] = before["condition"]
	}
	if d.gives {
		in["excludes"] = false
	}
	if d.takesNot {
		delete(in, "take_in")
		delete(in, "take_unread")
	}
	return in, nil
}

// RuleCommand is for rules that put labels on accounts.
func RuleCommand() *cobra.Command {
	list := output.ListCommand("list", "List the rules that put labels on accounts", "/rules", []output.Column{{"NAME", "name"}, {"LABEL", "label"}, {"EXCLUDES", "excludes"}, {"TAKES IN", "take_in"}, {"MATCHES", "matches"}, {"CONDITION", "condition"}, {"CHANGED", "changed"}, {"BY", "changed_by"}},
		"There are no rules. Add one with 'moss rule add'.")
	show := &cobra.Command{Use: "show RULE", Short: "Show a rule", Args: cobra.ExactArgs(1)}
	output.AddFlag(show)
	show.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		v, err := oneRule(cmd, c, args[0])
		if err != nil {
			return err
		}
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, nil, []output.Row{v}, v)
		}
		return output.Details(cmd, v, []output.Column{{"Name", "name"}, {"Label", "label"}, {"Excludes", "excludes"}, {"Takes into custody in", "take_in"}, {"Also while unread", "take_unread"}, {"Condition", "condition"}, {"Description", "description"}, {"Matches", "matches"}, {"Changed", "changed"}, {"By", "changed_by"}})
	})
	fields := &cobra.Command{Use: "fields", Short: "List the fields that a condition may ask", Args: cobra.NoArgs}
	output.AddFlag(fields)
	fields.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, _ []string) error {
		var rows []output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, "/rules/fields", nil, &rows); err != nil {
			return err
		}
		return output.Write(cmd.OutOrStdout(), format, []output.Column{{"FIELD", "name"}, {"TYPE", "type"}, {"WHAT", "what"}}, rows, rows)
	})
	return output.Group("rule", "Rules that put labels on accounts", list, show, fields, rulePreview(), ruleAdd(), ruleChange(), ruleRemove())
}

func oneRule(cmd *cobra.Command, c *api.Client, name string) (v output.Row, err error) {
	return v, c.Call(cmd.Context(), http.MethodGet, "/rules/"+url.PathEscape(name), nil, &v)
}

// ruleIfAny is the rule of a name, or nil.
func ruleIfAny(cmd *cobra.Command, c *api.Client, name string) (output.Row, error) {
	v, err := oneRule(cmd, c, name)
	var problem *api.Problem
	if errors.As(err, &problem) && problem.Status == http.StatusNotFound {
		return nil, nil
	}
	return v, err
}

// preview asks what a draft would do, and prints it for people.
func preview(cmd *cobra.Command, c *api.Client, in map[string]any) (p output.Row, err error) {
	if err := c.Call(cmd.Context(), http.MethodPost, "/rules/preview", in, &p); err != nil {
		return nil, err
	}
	return p, nil
}

func printPreview(cmd *cobra.Command, p output.Row) {
	out := cmd.OutOrStdout()
	fmt.Fprintf(out, "Accounts that it matches: %s; that it stops matching: %s. Labels gained: %s, lost: %s.\n", output.Show(p["matches"]), output.Show(p["stops"]), output.Show(p["gain"]), output.Show(p["lose"]))
	if failed := output.Show(p["failed"]); failed != "" {
		fmt.Fprintf(out, "It cannot be decided for some accounts: %s\n", output.Safe(failed))
	}
	if rows := effects(p["rows"], "gains", "gains", "loses"); len(rows) > 0 {
		fmt.Fprintln(out)
		output.Table(out, []output.Column{{"ACCOUNT", "account"}, {"SYSTEM", "system"}, {"BECOMES", "becomes"}, {"LABEL", "label"}, {"MEANS", "means"}, {"ID", "account_id"}}, rows)
	}
	if rows := effects(p["takings"], "takes", "taken", "not taken"); len(rows) > 0 {
		fmt.Fprintf(out, "\nTaken into custody by a reset, while its window is open: %s; not taken: %s.\n\n", output.Show(p["takes"]), output.Show(p["not_taken"]))
		output.Table(out, []output.Column{{"ACCOUNT", "account"}, {"SYSTEM", "system"}, {"BECOMES", "becomes"}, {"WHY NOT", "words"}, {"ID", "account_id"}}, rows)
	}
}

// effects are rows of a preview, with what becomes of each in a word.
func effects(v any, field, yes, no string) (rows []output.Row) {
	list, _ := v.([]any)
	for _, r := range list {
		if r, ok := r.(map[string]any); ok {
			r["becomes"] = no
			if r[field] == true {
				r["becomes"] = yes
			}
			rows = append(rows, r)
		}
	}
	return rows
}

func rulePreview() *cobra.Command {
	var d draft
	cmd := &cobra.Command{Use: "preview RULE", Short: "Show which accounts a rule would match, and what they would get or lose; nothing is kept", Args: cobra.ExactArgs(1)}
	output.AddFlag(cmd)
	d.flags(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		before, err := ruleIfAny(cmd, c, args[0])
		if err != nil {
			return err
		}
		in, err := d.body(cmd, before)
		if err != nil {
			return err
		}
		in["name"] = args[0]
		p, err := preview(cmd, c, in)
		if err != nil {
			return err
		}
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, nil, []output.Row{p}, p)
		}
		printPreview(cmd, p)
		return nil
	})
	return cmd
}

// save previews a draft, asks, and saves what was shown.
func save(cmd *cobra.Command, c *api.Client, name string, in map[string]any, yes bool) error {
	in["name"] = name
	p, err := preview(cmd, c, in)
	if err != nil {
		return err
	}
	printPreview(cmd, p)
	if err := output.Sure(cmd, yes, "Save it?"); err != nil {
		return err
	}
	var did output.Row
	path := "/rules/" + url.PathEscape(name)
	if in["remove"] == true {
		err = c.Call(cmd.Context(), http.MethodDelete, path+"?mark="+url.QueryEscape(output.Show(p["mark"])), nil, &did)
	} else {
		in["mark"] = p["mark"]
		err = c.Call(cmd.Context(), http.MethodPut, path, in, &did)
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(cmd.OutOrStdout(), "Done: the rules were applied to %s accounts, and match %s of them otherwise than before.\n", output.Show(did["accounts"]), output.Show(did["changed"]))
	return nil
}

func ruleAdd() *cobra.Command {
	var d draft
	var yes bool
	cmd := &cobra.Command{Use: "add RULE", Short: "Add a rule: what it would do is shown, and asked about", Args: cobra.ExactArgs(1)}
	d.flags(cmd)
	cmd.Flags().BoolVar(&yes, "yes", false, "save it without being asked")
	_ = cmd.MarkFlagRequired("label")
	cmd.MarkFlagsOneRequired("when", "when-file")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		before, err := ruleIfAny(cmd, c, args[0])
		if err != nil {
			return err
		}
		if before != nil {
			return fmt.Errorf("there is a rule %q already: 'moss rule change' changes it", args[0])
		}
		in, err := d.body(cmd, nil)
		if err != nil {
			return err
		}
		return save(cmd, c, args[0], in, yes)
	})
	return cmd
}

func ruleChange() *cobra.Command {
	var d draft
	var yes bool
	cmd := &cobra.Command{Use: "change RULE", Short: "Change a rule: what that would do is shown, and asked about", Args: cobra.ExactArgs(1)}
	d.flags(cmd)
	cmd.Flags().BoolVar(&d.gives, "give", false, "give the label, where it excluded before")
	cmd.Flags().BoolVar(&d.takesNot, "no-take", false, "only give the label, and take nothing more into custody")
	cmd.MarkFlagsMutuallyExclusive("give", "exclude")
	cmd.MarkFlagsMutuallyExclusive("take-in", "no-take")
	cmd.Flags().BoolVar(&yes, "yes", false, "save it without being asked")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		changes := 0
		for _, name := range []string{"label", "when", "when-file", "description", "exclude", "give", "take-in", "take-unread", "no-take"} {
			if cmd.Flags().Changed(name) {
				changes++
			}
		}
		if changes == 0 {
			return api.Exit(api.ExitUsage, errors.New("nothing to change: give --label, --when, --when-file, --description, --exclude, --give, --take-in or --no-take"))
		}
		before, err := oneRule(cmd, c, args[0])
		if err != nil {
			return err
		}
		in, err := d.body(cmd, before)
		if err != nil {
			return err
		}
		return save(cmd, c, args[0], in, yes)
	})
	return cmd
}

func ruleRemove() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{Use: "remove RULE", Short: "Remove a rule: which labels would go is shown, and asked about", Args: cobra.ExactArgs(1)}
	cmd.Flags().BoolVar(&yes, "yes", false, "remove it without being asked")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		return save(cmd, c, args[0], map[string]any{"remove": true}, yes)
	})
	return cmd
}

// LabelCommand is for labels on accounts.
func LabelCommand() *cobra.Command {
	list := &cobra.Command{Use: "list [ACCOUNT]", Short: "List labels, or those of an account with why it has them", Args: cobra.MaximumNArgs(1)}
	output.AddFlag(list)
	list.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		path, columns := "/labels", []output.Column{{"LABEL", "label"}, {"ACCOUNTS", "accounts"}, {"BY HAND", "by_hand"}, {"RULES", "rules"}}
		if len(args) == 1 {
			id, err := c.Account(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			path, columns = fmt.Sprintf("/accounts/%d/labels", id), []output.Column{{"LABEL", "label"}, {"ON IT", "on"}, {"BY RULES", "rules"}, {"KEPT AWAY BY", "excluded"}, {"BY HAND", "set_by"}, {"REASON", "reason"}}
		}
		var rows []output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, path, nil, &rows); err != nil {
			return err
		}
		if len(rows) == 0 && format == "table" {
			fmt.Fprintln(cmd.OutOrStdout(), "There are no labels. 'moss rule add' gives them by a condition, 'moss label put' by hand.")
			return nil
		}
		return output.Write(cmd.OutOrStdout(), format, columns, rows, rows)
	})
	byHand := func(use, short, method string) *cobra.Command {
		var reason string
		cmd := &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(2)}
		cmd.Flags().StringVar(&reason, "reason", "", "why (recorded)")
		_ = cmd.MarkFlagRequired("reason")
		cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
			id, err := c.Account(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			path := fmt.Sprintf("/accounts/%d/labels/%s", id, url.PathEscape(args[1]))
			var now []output.Row
			if method == http.MethodDelete {
				err = c.Call(cmd.Context(), method, path+"?reason="+url.QueryEscape(reason), nil, &now)
			} else {
				err = c.Call(cmd.Context(), method, path, map[string]string{"reason": reason}, &now)
			}
			if err != nil {
				return err
			}
			return sayLabel(cmd, args[1], now)
		})
		return cmd
	}
	return output.Group("label", "Labels on accounts", list,
		byHand("put ACCOUNT LABEL", "Give an account a label by hand", http.MethodPut), byHand("drop ACCOUNT LABEL", "Take a label away that was given by hand", http.MethodDelete))
}

// sayLabel says what came of a label: a rule may keep it away, or give it all the same.
func sayLabel(cmd *cobra.Command, label string, now []output.Row) error {
	words := "It does not have the label " + label + "."
	for _, v := range now {
		if output.Show(v["label"]) != label {
			continue
		}
		switch {
		case v["on"] != true:
			words = fmt.Sprintf("It does not have the label %s: the rule %s keeps it away.", label, output.Show(v["excluded"]))
		case v["by_hand"] != true:
			words = fmt.Sprintf("It has the label %s still: the rule %s gives it.", label, output.Show(v["rules"]))
		default:
			words = "It has the label " + label + "."
		}
	}
	fmt.Fprintln(cmd.OutOrStdout(), output.Safe(words))
	return nil
}
