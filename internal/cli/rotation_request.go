package cli

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
)

// talking makes a command's work of a function that is given what most need: a
// connection and the output format.
func talking(run func(cmd *cobra.Command, c *client, format string, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		format := "table"
		if cmd.Flags().Lookup("output") != nil {
			var err error
			if format, err = outputOf(cmd); err != nil {
				return err
			}
		}
		c, err := connected()
		if err != nil {
			return err
		}
		return run(cmd, c, format, args)
	}
}

// rotationRequest are what may be asked of a rotation.
type rotationRequest struct {
	policy, restart, window string
	start                   bool
	keyType                 string
	patience                time.Duration
}

// keyFlag is for commands that take key pairs too.
func (r *rotationRequest) keyFlag(cmd *cobra.Command) {
	cmd.Flags().StringVar(&r.keyType, "key-type", "", "of a key pair: type of the new key (ssh-ed25519, ecdsa-sha2-nistp256, ssh-rsa); that of the old one by default")
	_ = cmd.RegisterFlagCompletionFunc("key-type", cobra.FixedCompletions([]string{"ssh-ed25519", "ecdsa-sha2-nistp256", "ssh-rsa"}, cobra.ShellCompDirectiveNoFileComp))
}

func (r *rotationRequest) register(cmd *cobra.Command) {
	cmd.Flags().StringVar(&r.policy, "policy", "undo", "when a step fails: stop, continue or undo")
	cmd.Flags().StringVar(&r.restart, "restart", "now", "when dependents are restarted: now, window or leave (not at all: a latent breakage until somebody does)")
	cmd.Flags().StringVar(&r.window, "window", "", "BEGIN/END or BEGIN/DURATION, such as 2026-11-24T02:00:00Z/2h, for --restart window")
	cmd.Flags().DurationVar(&r.patience, "patience", 30*time.Minute, "how long a system that is away is waited for before the policy decides; undoing waits without end")
	cmd.Flags().BoolVar(&r.start, "start-down", false, "also bring up what is down although it starts by itself")
	_ = cmd.RegisterFlagCompletionFunc("policy", cobra.FixedCompletions([]string{"stop", "continue", "undo"}, cobra.ShellCompDirectiveNoFileComp))
	_ = cmd.RegisterFlagCompletionFunc("restart", cobra.FixedCompletions([]string{"now", "window", "leave"}, cobra.ShellCompDirectiveNoFileComp))
}

// body is the request as the API takes it.
func (r *rotationRequest) body(cmd *cobra.Command) (map[string]any, error) {
	if r.patience < time.Second {
		return nil, &ExitError{ExitUsage, fmt.Errorf("--patience %s: at least a second", r.patience)}
	}
	in := map[string]any{"policy": r.policy, "restart": r.restart, "patience": int(r.patience.Seconds())}
	if r.start {
		in["start"] = true
	}
	if r.keyType != "" {
		in["type"] = r.keyType
	}
	if r.window == "" {
		return in, nil
	}
	if !cmd.Flags().Changed("restart") {
		in["restart"] = "window"
	}
	begin, end, found := strings.Cut(r.window, "/")
	from, err := time.Parse(time.RFC3339, begin)
	if err != nil || !found {
		return nil, &ExitError{ExitUsage, fmt.Errorf("window %q: write BEGIN/END with times as in 2026-11-24T02:00:00Z, or BEGIN/2h", r.window)}
	}
	to, err := time.Parse(time.RFC3339, end)
	if err != nil {
		long, err := time.ParseDuration(end)
		if err != nil || long <= 0 {
			return nil, &ExitError{ExitUsage, fmt.Errorf("window %q: %q is neither a time nor a duration", r.window, end)}
		}
		to = from.Add(long)
	}
	in["not_before"], in["not_after"] = from, to
	return in, nil
}

func rehearseCommand() *cobra.Command {
	var request rotationRequest
	cmd := &cobra.Command{Use: "rehearse CREDENTIAL", Short: "Say what a rotation would do, and check all that can be checked without changing anything", Args: cobra.ExactArgs(1)}
	request.register(cmd)
	request.keyFlag(cmd)
	addOutput(cmd)
	cmd.RunE = talking(func(cmd *cobra.Command, c *client, format string, args []string) error {
		in, err := request.body(cmd)
		if err != nil {
			return err
		}
		subject, err := c.credential(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		return rehearse(cmd, c, format, subject, in)
	})
	return cmd
}

// rehearse rehearses and prints what came of it.
func rehearse(cmd *cobra.Command, c *client, format, subject string, in map[string]any) error {
	var v struct {
		Rehearsal    row      `json:"rehearsal"`
		Steps        []string `json:"steps"`
		Interruption string   `json:"interruption"`
	}
	if err := c.call(cmd.Context(), http.MethodPost, subject+"/rehearsals", in, &v); err != nil {
		return err
	}
	list, _ := v.Rehearsal["checks"].([]any)
	var checks []row
	for _, k := range list {
		if k, ok := k.(map[string]any); ok {
			checks = append(checks, k)
		}
	}
	columns := []column{{"RESULT", "result"}, {"SYSTEM", "system"}, {"CHECK", "what"}, {"WORDS", "words"}, {"NEXT", "next"}}
	if format != "table" {
		if err := write(cmd.OutOrStdout(), format, columns, checks, v); err != nil {
			return err
		}
	} else {
		out := cmd.OutOrStdout()
		fmt.Fprintln(out, "What will happen, in order:")
		for i, s := range v.Steps {
			fmt.Fprintf(out, "  %2d  %s\n", i+1, safe(s))
		}
		fmt.Fprintf(out, "Expected interruption: %s\n\nWhat was checked:\n", safe(v.Interruption))
		table(out, columns, checks)
		if plan, ok := v.Rehearsal["plan"].(map[string]any); ok {
			if notes, _ := plan["notes"].([]any); len(notes) > 0 {
				fmt.Fprintln(out, "\nWorth knowing:")
				for _, n := range notes {
					n, _ := n.(map[string]any)
					words := show(n["text"])
					if kind := show(n["kind"]); kind != "info" && kind != "left-alone" {
						words = strings.ReplaceAll(kind, "-", " ") + ": " + words
					}
					fmt.Fprintf(out, "  - %s\n", safe(words))
				}
			}
		}
		fmt.Fprintf(out, "\nThe rehearsal %s.\n", show(v.Rehearsal["verdict"]))
	}
	if show(v.Rehearsal["verdict"]) != "passed" {
		return negative("the rehearsal did not pass: mend what failed and rehearse again")
	}
	return nil
}

func runCommand() *cobra.Command {
	var request rotationRequest
	var reason, override string
	var detach bool
	cmd := &cobra.Command{
		Use: "run CREDENTIAL", Short: "Rotate, with live progress", Args: cobra.ExactArgs(1),
		Long: "Rotates a credential in custody: the password of an account, or a key. It needs a rehearsal of the same that passed\nwithin the hour, or --override with a reason: somebody with the role approver then approves it first.\nInterrupting (Ctrl-C) leaves the rotation running in the service.",
	}
	request.register(cmd)
	request.keyFlag(cmd)
	cmd.Flags().StringVar(&reason, "reason", "", "why it is rotated")
	cmd.Flags().StringVar(&override, "override", "", "why it is started without a rehearsal that passed")
	addOutput(cmd)
	cmd.Flags().BoolVar(&detach, "detach", false, "start it and do not wait")
	_ = cmd.MarkFlagRequired("reason")
	cmd.RunE = talking(func(cmd *cobra.Command, c *client, format string, args []string) error {
		in, err := request.body(cmd)
		if err != nil {
			return err
		}
		subject, err := c.credential(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		in["reason"] = reason
		if override != "" {
			in["override"] = override
		}
		return startRotation(cmd, c, format, args[0], subject, in, detach)
	})
	return cmd
}

// startRotation starts a rotation and follows it.
func startRotation(cmd *cobra.Command, c *client, format, name, subject string, in map[string]any, detach bool) error {
	path := subject + "/rotations"
	if in["override"] != nil {
		path += "/override"
	}
	var v row
	if err := c.call(cmd.Context(), http.MethodPost, path, in, &v); err != nil {
		return err
	}
	if approval := show(v["waits_for_approval"]); approval != "" {
		if format != "table" {
			return write(cmd.OutOrStdout(), format, []column{{"APPROVAL", "waits_for_approval"}}, []row{v}, v)
		}
		fmt.Fprintf(cmd.OutOrStdout(), "It waits: somebody else approves it with 'moss approval approve %s'.\n", approval)
		return nil
	}
	rotation := show(fieldOf(v, "rotation.id"))
	if format == "table" {
		what := "Rotation"
		if show(fieldOf(v, "rotation.kind")) == "assign" {
			what = "Assignment"
		}
		fmt.Fprintf(cmd.OutOrStdout(), "%s %s of %s, policy %s\n", what, rotation, name, show(in["policy"]))
	}
	if detach {
		if format == "table" {
			return nil
		}
		return write(cmd.OutOrStdout(), format, []column{{"ID", "rotation.id"}, {"MODE", "rotation.mode"}}, []row{v}, v)
	}
	return follow(cmd, c, rotation, "done")
}

// assigning is what 'assign' and 'repair' share: rehearse, and unless that is
// all that was asked, start.
type assigning struct {
	request        rotationRequest
	reason         string
	only, detach   bool
	filters        []string
	search         string
	dependents     []int64
	choosing, mend bool
}

func (a *assigning) command(use, short, long string) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Long: long, Args: cobra.ExactArgs(1)}
	a.request.register(cmd)
	cmd.Flags().StringVar(&a.reason, "reason", "", "why; it is recorded")
	cmd.Flags().BoolVar(&a.only, "rehearse", false, "only rehearse it")
	cmd.Flags().BoolVar(&a.detach, "detach", false, "start it and do not wait")
	addOutput(cmd)
	cmd.RunE = talking(a.run)
	return cmd
}

func (a *assigning) run(cmd *cobra.Command, c *client, format string, args []string) error {
	if a.reason == "" && !a.only {
		return &ExitError{ExitUsage, errors.New("give --reason, or --rehearse to only see what would happen")}
	}
	if a.choosing && len(a.filters) == 0 && a.search == "" && len(a.dependents) == 0 {
		return &ExitError{ExitUsage, errors.New("choose dependents: --filter, --search or --dependent")}
	}
	in, err := a.request.body(cmd)
	if err != nil {
		return err
	}
	subject, err := c.credential(cmd.Context(), args[0])
	if err != nil {
		return err
	}
	if a.mend {
		in["repair"] = true
	} else {
		in["where"], in["search"], in["assign"] = a.filters, a.search, a.dependents
	}
	shown := format
	if format != "table" && !a.only {
		shown = "table" // the rotation is what was asked for; its rehearsal is not printed
	}
	out := cmd.OutOrStdout()
	if shown != format {
		cmd.SetOut(cmd.ErrOrStderr())
	}
	err = rehearse(cmd, c, shown, subject, in)
	cmd.SetOut(out)
	if err != nil || a.only {
		return err
	}
	if format == "table" {
		fmt.Fprintln(out)
	}
	in["reason"] = a.reason
	return startRotation(cmd, c, format, args[0], subject, in, a.detach)
}

func assignCommand() *cobra.Command {
	a := &assigning{choosing: true}
	cmd := a.command("assign ACCOUNT", "Let chosen services, tasks and application pools log on as an account",
		"Gives the log-on of an account in custody to dependents chosen by filters, search or number,\nall in one rotation that is rehearsed first, proven and can be undone. The account's password\nstays as it is.")
	cmd.Example = `  moss rotate assign svc-berth --filter runs_as~odile --filter kind=service --reason "Odile left"
  moss rotate assign svc-berth --filter 'executable*=*\berth\*' --restart leave --rehearse
  moss rotate assign svc-berth --dependent 41 --dependent 42 --window 2026-11-24T02:00:00Z/2h --reason "quiet hours"`
	cmd.Flags().StringArrayVarP(&a.filters, "filter", "f", nil, "as in 'moss dependent list' (repeatable)")
	cmd.Flags().StringVar(&a.search, "search", "", "as in 'moss dependent list'")
	cmd.Flags().Int64SliceVar(&a.dependents, "dependent", nil, "number of a dependent (repeatable)")
	return cmd
}

func repairCommand() *cobra.Command {
	a := &assigning{mend: true}
	return a.command("repair ACCOUNT", "Give an account's current password to all that have another stored, and start what is down",
		"Finds the dependents of an account in custody whose stored password is not the current one, that\nrun on an older one, or that are down, gives them the current one, and restarts them in start order.")
}

func explainCommand() *cobra.Command {
	var mend bool
	var reason, policy string
	cmd := &cobra.Command{
		Use: "explain DEPENDENT", Short: "Say why a dependent is down, with the evidence for each possible cause", Args: cobra.ExactArgs(1),
		Long:    "DEPENDENT is its number, or SYSTEM/PLACE. With --repair the cause is removed, if that can be done\nfrom here, in start order, and proven.",
		Example: "  moss explain 41\n  moss explain north1/GangwayGate\n  moss explain north1/GangwayGate --repair --reason 'Monday morning'",
	}
	cmd.Flags().BoolVar(&mend, "repair", false, "remove the cause")
	cmd.Flags().StringVar(&reason, "reason", "", "why it is repaired (needed with --repair)")
	cmd.Flags().StringVar(&policy, "policy", "stop", "when a step of the repair fails: stop, continue or undo")
	addOutput(cmd)
	cmd.RunE = talking(func(cmd *cobra.Command, c *client, format string, args []string) error {
		if mend && reason == "" {
			return &ExitError{ExitUsage, errors.New("--repair needs --reason")}
		}
		id, err := c.dependent(cmd, args[0])
		if err != nil {
			return err
		}
		var v row
		if err := c.call(cmd.Context(), http.MethodPost, "/dependents/"+url.PathEscape(id)+"/explain", nil, &v); err != nil {
			return err
		}
		if format != "table" && !mend {
			list, _ := v["causes"].([]any)
			var causes []row
			for _, k := range list {
				if k, ok := k.(map[string]any); ok {
					causes = append(causes, k)
				}
			}
			if err := write(cmd.OutOrStdout(), format, []column{{"VERDICT", "verdict"}, {"CAUSE", "title"}, {"EVIDENCE", "evidence"}, {"NEXT", "next_step"}}, causes, v); err != nil {
				return err
			}
		} else {
			printExplanation(cmd, v)
		}
		switch {
		case mend:
			return c.repair(cmd, format, v, reason, policy)
		case v["up"] != true:
			return negative("%s", show(v["verdict"]))
		}
		return nil
	})
	return cmd
}

// dependent takes a number, or SYSTEM/PLACE, to a dependent's number.
func (c *client) dependent(cmd *cobra.Command, text string) (string, error) {
	system, place, found := strings.Cut(text, "/")
	if !found {
		return numbered(text, "a dependent", "dependent list', or write SYSTEM/PLACE; for example '"+cmd.Parent().Name()+" explain north1/GangwayGate")
	}
	rows, _, err := fetch(cmd, c, "/dependents", url.Values{"filter": {"system=" + system, "place=" + place, "gone="}}, 10)
	if err != nil {
		return "", err
	}
	var several []string
	for _, r := range rows {
		if kind := show(r["kind"]); kind == "file" || kind == "cron" || kind == "task" {
			continue
		}
		several = append(several, show(r["id"]))
	}
	switch len(several) {
	case 0:
		return "", fmt.Errorf("%s has no service, pool or unit %q: look with 'moss dependent list --filter system=%s'", system, place, system)
	case 1:
		return several[0], nil
	}
	return "", &ExitError{ExitUsage, fmt.Errorf("%s has several of that name: use one of the numbers %s", system, strings.Join(several, ", "))}
}

func printExplanation(cmd *cobra.Command, v row) {
	out := cmd.OutOrStdout()
	fmt.Fprintln(out, safe(show(v["verdict"])))
	for depth, at := 0, v; at != nil; depth++ {
		if depth > 0 {
			fmt.Fprintf(out, "\nThe one that failed first: %s\n", safe(show(fieldOf(at, "dependent.place"))))
		}
		ruledOut := 0
		list, _ := at["causes"].([]any)
		for _, k := range list {
			k, _ := k.(map[string]any)
			if verdict := show(k["verdict"]); verdict == "ruled out" || verdict == "not known" {
				ruledOut++
				continue
			}
			fmt.Fprintf(out, "\n  %s: %s\n", show(k["verdict"]), safe(show(k["title"])))
			evidence, _ := k["evidence"].([]any)
			for _, e := range evidence {
				fmt.Fprintf(out, "      %s\n", safe(show(e)))
			}
			if next := show(k["next_step"]); next != "" {
				fmt.Fprintf(out, "      next: %s\n", safe(next))
			}
		}
		for _, wanted := range []string{"ruled out", "not known"} {
			var titles []string
			for _, k := range list {
				k, _ := k.(map[string]any)
				if show(k["verdict"]) == wanted {
					titles = append(titles, show(k["title"]))
				}
			}
			if len(titles) > 0 {
				fmt.Fprintf(out, "\n  %s: %s\n", wanted, safe(strings.Join(titles, "; ")))
			}
		}
		at, _ = at["first"].(map[string]any)
	}
	if words := show(fieldOf(v, "repair.words")); words != "" {
		fmt.Fprintf(out, "\nRepair: %s\n", safe(words))
	}
}

// repair does what an explanation proposes.
func (c *client) repair(cmd *cobra.Command, format string, v row, reason, policy string) error {
	r, _ := v["repair"].(map[string]any)
	if r == nil {
		return negative("nothing can be repaired from here: %s", show(v["verdict"]))
	}
	if show(r["kind"]) == "start" {
		var done struct{ Words []string }
		if err := c.call(cmd.Context(), http.MethodPost, "/dependents/start", map[string]any{"dependents": r["start"], "reason": reason}, &done); err != nil {
			return err
		}
		for _, w := range done.Words {
			fmt.Fprintln(cmd.OutOrStdout(), safe(w))
		}
		return nil
	}
	account, err := strconv.ParseInt(show(r["account_id"]), 10, 64)
	if err != nil {
		return fmt.Errorf("the service proposes a repair without an account: %w", err)
	}
	in := map[string]any{"policy": policy, "start": true}
	if show(r["kind"]) == "assign" {
		in["assign"] = r["assign"]
	}
	fmt.Fprintln(cmd.OutOrStdout())
	id, err := c.noted(cmd.Context(), account)
	if err != nil {
		return err
	}
	subject := fmt.Sprintf("/credentials/%d", id)
	if err := rehearse(cmd, c, "table", subject, in); err != nil {
		return err
	}
	fmt.Fprintln(cmd.OutOrStdout())
	in["reason"] = reason
	return startRotation(cmd, c, format, show(r["account"]), subject, in, false)
}
