// Package rotation has the commands about custody and rotations: what is asked for,
// rehearsed, watched, decided and undone.
package rotation

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os/signal"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// CustodyCommand makes moss custody.
func CustodyCommand() *cobra.Command {
	return output.Group("custody", "Keep credentials sealed and be responsible for them", takeCommand(), verifyCommand(), releaseCommand())
}

func takeCommand() *cobra.Command {
	var passwordFile, keyFile, reason string
	var reset bool
	take := &cobra.Command{
		Use: "take CREDENTIAL", Short: "Take a password that is known, or by resetting it, or a key into custody", Args: cobra.ExactArgs(1),
		Long: "CREDENTIAL is spelled as in 'moss credential show': an account, whose password is meant, or a key.\nIt is proven where it is accepted at once. The private half of a key is read from a file that holds it.",
	}
	take.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		resolved, err := c.ResolveCredential(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		if resolved.ID == 0 {
			if resolved, err = c.Noted(cmd.Context(), resolved.AccountID); err != nil {
				return err
			}
		}
		in := map[string]any{"reset": reset, "reason": reason}
		switch {
		case reset:
		case resolved.Kind == "password":
			in["value"], err = output.ReadSecret(cmd, passwordFile, "Password of "+args[0])
		case keyFile != "":
			in["value"], err = output.ReadSecret(cmd, keyFile, "")
		}
		if err != nil {
			return err
		}
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodPost, fmt.Sprintf("/credentials/%d/custody", resolved.ID), in, &v); err != nil {
			return err
		}
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, []output.Column{{"ID", "credential.id"}, {"KIND", "credential.kind"}, {"NAME", "credential.name"}, {"SYSTEM", "credential.system"}, {"VERDICT", "credential.verdict"}, {"TAKEN", "credential.taken"}}, []output.Row{v}, v)
		}
		where := ""
		if resolved.System != "" {
			where = " on " + resolved.System
		}
		fmt.Fprintf(cmd.OutOrStdout(), "%s%s is in custody, and was proven just now: %s.\n", output.Safe(resolved.Name), output.Safe(where), strings.TrimSuffix(output.Safe(output.Show(output.FieldOf(v, "credential.words"))), "."))
		return nil
	})
	take.Flags().StringVar(&passwordFile, "password-file", "", "file with the password, - for standard input; asked for by default")
	take.Flags().StringVar(&keyFile, "private-key-file", "", "of a key: file with its private half, - for standard input; read from a host that holds it by default")
	take.Flags().BoolVar(&reset, "reset", false, "of a password: set a new one with the authority's steward; whatever still holds the old one breaks")
	take.Flags().StringVar(&reason, "reason", "", "why (needed with --reset)")
	take.MarkFlagsMutuallyExclusive("reset", "password-file", "private-key-file")
	output.AddFlag(take)
	return take
}

func verifyCommand() *cobra.Command {
	var all bool
	verify := &cobra.Command{Use: "verify [CREDENTIAL...]", Short: "Sign in with sealed values; a refusal raises the finding drift", RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		if all == (len(args) > 0) {
			return api.Exit(api.ExitUsage, errors.New("name credentials, or give --all"))
		}
		if all {
			return verifyAll(cmd, c, format)
		}
		return verifySome(cmd, c, format, args)
	})}
	output.AddFlag(verify)
	verify.Flags().BoolVar(&all, "all", false, "everything in custody")
	return verify
}

// verifyAll verifies everything in custody.
func verifyAll(cmd *cobra.Command, c *api.Client, format string) error {
	var v struct{ Accepted, Refused, Unclear int }
	if err := c.Call(cmd.Context(), http.MethodPost, "/custody/verify", nil, &v); err != nil {
		return err
	}
	if format == "table" {
		fmt.Fprintf(cmd.OutOrStdout(), "%d accepted, %d refused, %d could not be asked.\n", v.Accepted, v.Refused, v.Unclear)
	} else {
		counts := output.Row{"accepted": v.Accepted, "refused": v.Refused, "unclear": v.Unclear}
		if err := output.Write(cmd.OutOrStdout(), format, []output.Column{{"ACCEPTED", "accepted"}, {"REFUSED", "refused"}, {"UNCLEAR", "unclear"}}, []output.Row{counts}, counts); err != nil {
			return err
		}
	}
	if v.Refused+v.Unclear > 0 {
		return api.Negative("not everything was accepted: 'moss credential list --filter state=custody --filter verdict!=accepted' names what was not")
	}
	return nil
}

// verifySome verifies credentials by name.
func verifySome(cmd *cobra.Command, c *api.Client, format string, names []string) error {
	bad, verdicts := 0, []output.Row{}
	for _, name := range names {
		subject, err := c.Credential(cmd.Context(), name)
		if err != nil {
			return err
		}
		var v struct {
			Accepted    bool
			Code, Words string
		}
		if err := c.Call(cmd.Context(), http.MethodPost, subject+"/custody/verify", nil, &v); err != nil {
			return err
		}
		word := "accepted"
		if !v.Accepted {
			bad++
			word = "refused (" + v.Code + ")"
		}
		if format == "table" {
			fmt.Fprintf(cmd.OutOrStdout(), "%s: %s: %s\n", name, word, output.Safe(v.Words))
		}
		verdicts = append(verdicts, output.Row{"credential": name, "accepted": v.Accepted, "code": v.Code, "words": v.Words})
	}
	if format != "table" {
		if err := output.Write(cmd.OutOrStdout(), format, []output.Column{{"CREDENTIAL", "credential"}, {"ACCEPTED", "accepted"}, {"CODE", "code"}, {"WORDS", "words"}}, verdicts, verdicts); err != nil {
			return err
		}
	}
	if bad > 0 {
		return api.Negative("%d of %d were refused", bad, len(names))
	}
	return nil
}

func releaseCommand() *cobra.Command {
	var why string
	release := &cobra.Command{Use: "release CREDENTIAL", Short: "End custody; the sealed values are removed", Args: cobra.ExactArgs(1), RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		subject, err := c.Credential(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		if err := c.Call(cmd.Context(), http.MethodPost, subject+"/custody/release", map[string]string{"reason": why}, nil); err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "%s is no longer in custody; its sealed values are removed.\n", args[0])
		return nil
	})}
	release.Flags().StringVar(&why, "reason", "", "why")
	_ = release.MarkFlagRequired("reason")
	return release
}

// RotateCommand makes moss rotate.
func RotateCommand() *cobra.Command {
	return output.Group("rotate", "Change a credential everywhere, proven or undone", rehearseCommand(), runCommand(), assignCommand(), repairCommand(), showRotation(),
		decideCommand("resume ID", "Go on with a stopped rotation, trying failed steps again", "resume"),
		decideCommand("go-on ID", "Go on with a stopped rotation without its failed steps", "go-on"),
		decideCommand("stop ID", "Stop a running rotation after the steps that have begun", "stop"),
		undoCommand(), lookCommand(),
		output.ListCommand("list", "List rotations", "/rotations", []output.Column{{"ID", "id"}, {"KIND", "kind"}, {"CREDENTIAL", "credential"}, {"AUTHORITY", "authority"}, {"MODE", "mode"}, {"RESULT", "result"}, {"ON FAILURE", "on_failure"}, {"BY", "requested_by"}, {"STARTED", "started"}, {"ENDED", "ended"}, {"REASON", "reason"}}, "There was no rotation yet."))
}

// follow prints a rotation's journal as it is written and judges its end.
// good are the ends that are what was asked for.
func follow(cmd *cobra.Command, c *api.Client, id string, good ...string) error {
	format, err := output.FormatOf(cmd)
	if err != nil {
		return err
	}
	progress := cmd.OutOrStdout()
	if format != "table" {
		progress = cmd.ErrOrStderr() // what was asked for stands alone
	}
	ctx, stop := signal.NotifyContext(cmd.Context(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	var final output.Row
	err = c.Watch(ctx, "/rotations/"+id+"/events", func(e api.Event) error {
		var v output.Row
		if err := json.Unmarshal(e.Data, &v); err != nil {
			return err
		}
		if e.Name == "rotation" {
			final = v
			return api.ErrStreamEnd
		}
		if e.Name == "waits" {
			printWaits(progress, v)
			return nil
		}
		printRecord(progress, v)
		return nil
	})
	if ctx.Err() != nil {
		return fmt.Errorf("no longer watching; rotation %s goes on: 'moss rotate show %s'", id, id)
	}
	if err != nil {
		return err
	}
	result := output.Show(final["result"])
	if result == "" {
		result = output.Show(final["mode"])
	}
	if format == "table" {
		fmt.Fprintf(progress, "Rotation %s: %s\n", id, result)
	} else if err := output.Write(cmd.OutOrStdout(), format, []output.Column{{"ID", "id"}, {"CREDENTIAL", "credential"}, {"AUTHORITY", "authority"}, {"MODE", "mode"}, {"RESULT", "result"}, {"STARTED", "started"}, {"ENDED", "ended"}}, []output.Row{final}, final); err != nil {
		return err
	}
	if !slices.Contains(good, result) {
		return api.Negative("rotation %s ended as %s: read 'moss rotate show %s'", id, result, id)
	}
	return nil
}

// printWaits says what a rotation waits for, so that nobody thinks that it hangs.
func printWaits(out io.Writer, v output.Row) {
	if frozen := output.Show(v["frozen"]); frozen != "" {
		fmt.Fprintf(out, "  waits: %s\n", output.Safe(frozen))
	}
	if window := output.Show(v["window"]); window != "" {
		fmt.Fprintf(out, "  waits for the window %s, which opens at %s\n", output.Safe(window), output.Show(v["until"]))
	}
}

func printRecord(out io.Writer, r output.Row) {
	when := output.Show(r["time"])
	if len(when) > 19 {
		when = when[11:19]
	}
	what := output.Show(r["title"])
	if r["undo"] == true {
		what = "undo: " + what // the title already says what is put back
	}
	words := output.Safe(output.Show(r["words"]))
	if words != "" {
		words = "  " + words
	}
	switch output.Show(r["event"]) {
	case "intent", "started":
	case "outcome":
		fmt.Fprintf(out, "  %s  %-8s %s%s\n", when, output.Show(r["result"]), output.Safe(what), words)
	case "reached":
		fmt.Fprintf(out, "  %s  %-8s %s%s\n", when, output.Show(r["result"]), output.Safe(what), words)
	case "probed":
		fmt.Fprintf(out, "  %s  probed   %s: %s%s\n", when, output.Safe(what), output.Show(r["result"]), words)
	case "decision":
		fmt.Fprintf(out, "  %s  decided  %s (%s) %s\n", when, output.Show(r["result"]), output.Show(r["actor"]), output.Safe(output.Show(r["reason"])))
	case "finished":
		fmt.Fprintf(out, "  %s  finished %s\n", when, output.Show(r["result"]))
	}
}

func showRotation() *cobra.Command {
	var journal bool
	cmd := &cobra.Command{Use: "show ID", Short: "Show a rotation with its steps, or its whole journal", Args: api.Numbers(1, 1, "a rotation", "rotate list")}
	cmd.Flags().BoolVar(&journal, "journal", false, "every record: intents, outcomes, probes, decisions")
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		path := "/rotations/" + url.PathEscape(args[0])
		if journal {
			var records []output.Row
			if err := c.Call(cmd.Context(), http.MethodGet, path+"/journal", nil, &records); err != nil {
				return err
			}
			return output.Write(cmd.OutOrStdout(), format, []output.Column{{"SEQ", "seq"}, {"TIME", "time"}, {"EVENT", "event"}, {"UNDO", "undo"}, {"RESULT", "result"}, {"STEP", "title"}, {"WORDS", "words"}}, records, records)
		}
		var v struct {
			Rotation  output.Row   `json:"rotation"`
			Steps     []output.Row `json:"steps"`
			Decisions []string     `json:"decisions"`
			Proven    string       `json:"proven,omitempty"`
			Halted    string       `json:"halted,omitempty"`
			Look      *look        `json:"look,omitempty"`
			WaitsFor  string       `json:"waits_for"`
			WaitsTill time.Time    `json:"waits_till"`
			UndoUntil time.Time    `json:"undo_until"`
			Still     []output.Row `json:"interruptions"`
		}
		// Programs get what the service said, whole.
		var raw json.RawMessage
		if err := c.Call(cmd.Context(), http.MethodGet, path, nil, &raw); err != nil {
			return err
		}
		if err := json.Unmarshal(raw, &v); err != nil {
			return fmt.Errorf("the answer cannot be read: %w", err)
		}
		for _, step := range v.Steps { // people count from one, as the rehearsal does
			if index, err := strconv.Atoi(output.Show(step["index"])); err == nil {
				step["number"] = index + 1
			}
		}
		columns := []output.Column{{"#", "number"}, {"STATUS", "status"}, {"STEP", "title"}, {"WORDS", "words"}}
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, columns, v.Steps, raw)
		}
		out := cmd.OutOrStdout()
		for _, f := range []output.Column{{"Kind", "kind"}, {"Credential", "credential"}, {"Of kind", "credential_kind"}, {"Authority", "authority"}, {"Mode", "mode"}, {"Result", "result"}, {"On failure", "on_failure"}, {"By", "requested_by"}, {"Reason", "reason"}, {"Override", "override"}, {"Second person", "consent"}, {"Started", "started"}, {"Ended", "ended"}} {
			if text := output.Safe(output.Show(v.Rotation[f.Field()])); text != "" {
				fmt.Fprintf(out, "%-10s %s\n", f.Head(), text)
			}
		}
		if len(v.Decisions) > 0 {
			fmt.Fprintf(out, "%-10s %s\n", "Decisions", strings.ReplaceAll(strings.Join(v.Decisions, ", "), "leave-away", "undo --without-away"))
		}
		if !v.UndoUntil.IsZero() {
			fmt.Fprintf(out, "%-10s until %s: so long the value that it replaced is kept\n", "Undo", v.UndoUntil.UTC().Format(time.RFC3339))
		}
		if v.Proven != "" {
			fmt.Fprintf(out, "%-10s %s\n", "Proven", v.Proven)
		}
		if v.Halted != "" {
			fmt.Fprintf(out, "%-10s %s\n", "Halted", output.Safe(v.Halted))
		}
		if v.WaitsFor != "" && output.Show(v.Rotation["mode"]) == "running" {
			fmt.Fprintf(out, "%-10s for the window %s, which opens at %s\n", "Waits", output.Safe(v.WaitsFor), v.WaitsTill.UTC().Format(time.RFC3339))
		}
		if v.Look != nil && !v.Look.Due.IsZero() {
			fmt.Fprintf(out, "%-10s %s\n", "Looked at", "again at "+v.Look.Due.Format(time.RFC3339))
		}
		fmt.Fprintln(out)
		output.Table(out, columns, v.Steps)
		printStill(out, v.Still)
		if v.Look != nil && !v.Look.Looked.IsZero() {
			fmt.Fprintf(out, "\nLooked at again at %s:\n", v.Look.Looked.Format(time.RFC3339))
			output.Table(out, lookColumns, v.Look.Checks)
		}
		return nil
	})
	return cmd
}

// printStill says how long dependents stood still, beside what was expected.
func printStill(out io.Writer, list []output.Row) {
	if len(list) == 0 {
		return
	}
	seconds := func(v any) string {
		ms, err := strconv.ParseInt(output.Show(v), 10, 64)
		if err != nil || ms == 0 {
			return "not measured before"
		}
		return fmt.Sprintf("%.1f s", float64(ms)/1000)
	}
	for _, r := range list {
		r["for"], r["before"] = seconds(r["milliseconds"]), seconds(r["expected"])
	}
	fmt.Fprintln(out, "\nStood still:")
	output.Table(out, []output.Column{{"SYSTEM", "system"}, {"DEPENDENT", "place"}, {"FOR", "for"}, {"EXPECTED", "before"}}, list)
}

// look is a later look at a rotation.
type look struct {
	Due    time.Time    `json:"due,omitzero"`
	Looked time.Time    `json:"looked,omitzero"`
	Checks []output.Row `json:"checks"`
}

var lookColumns = []output.Column{{"RESULT", "result"}, {"SYSTEM", "system"}, {"WHAT", "what"}, {"WORDS", "words"}, {"NEXT", "next"}}

// lookCommand looks again, now, at a rotation that has ended.
func lookCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "look ID", Short: "Look again, now, at what a rotation that has ended did and proved", Args: api.Numbers(1, 1, "a rotation", "rotate list"),
		Long: "Looks again at what a rotation that has ended did and proved: whether the new value is accepted\nand what held it holds it still, whether a former value that was still accepted is refused by now,\nwhether units run, and whether wrong passwords were given since. The service does so by itself an\nhour after the end. Nothing is changed. Exits with 1 when something is not as the rotation left it.",
	}
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		var v look
		if err := c.Call(cmd.Context(), http.MethodPost, "/rotations/"+url.PathEscape(args[0])+"/look", nil, &v); err != nil {
			return err
		}
		if err := output.Write(cmd.OutOrStdout(), format, lookColumns, v.Checks, v); err != nil {
			return err
		}
		if slices.ContainsFunc(v.Checks, func(r output.Row) bool { return output.Show(r["result"]) == "failed" }) {
			return api.Negative("something is not as the rotation left it")
		}
		return nil
	})
	return cmd
}

// undoCommand undoes a rotation. One that is finished is rehearsed first and
// asked for, like a rotation.
func undoCommand() *cobra.Command {
	var reason string
	var only, yes, without bool
	cmd := &cobra.Command{
		Use: "undo ID", Short: "Put the old value back everywhere and prove it", Args: api.Numbers(1, 1, "a rotation", "rotate list"),
		Long: "Puts the old value back everywhere and proves it. Undoing a finished rotation changes\neverything once more, so it needs what a rotation needs: a reason, a rehearsal that passes\n(made here and shown), and a confirmation, or --yes where there is no terminal.",
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why; it is recorded")
	cmd.Flags().BoolVar(&only, "rehearse", false, "only rehearse it")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.Flags().BoolVar(&without, "without-away", false, "of one that is being undone: do without the places that are away; they keep the new value")
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		path := "/rotations/" + url.PathEscape(args[0])
		decision := "undo"
		if without {
			decision = "leave-away"
		}
		var now struct {
			Rotation output.Row `json:"rotation"`
		}
		if err := c.Call(cmd.Context(), http.MethodGet, path, nil, &now); err != nil {
			return err
		}
		// Whether one can do without what is away, the service says.
		if finished := !without && output.Show(now.Rotation["mode"]) == "finished" && output.Show(now.Rotation["result"]) != "undo-incomplete"; finished {
			if reason == "" && !only {
				return api.Exit(api.ExitUsage, errors.New("give --reason, or --rehearse to only see what would happen"))
			}
			if err := rehearse(cmd, c, format, path, map[string]any{}); err != nil || only {
				return err
			}
			if !yes {
				answer, err := output.Ask(cmd, "Undo rotation "+args[0]+" everywhere? Write yes")
				if err != nil {
					return api.Exit(api.ExitUsage, errors.New("there is no terminal to ask on: give --yes"))
				}
				if answer != "yes" {
					return api.Negative("nothing was undone")
				}
			}
		}
		if err := c.Call(cmd.Context(), http.MethodPost, path+"/decision", map[string]string{"decision": decision, "reason": reason}, nil); err != nil {
			return err
		}
		return follow(cmd, c, args[0], "undone")
	})
	return cmd
}

func decideCommand(use, short, decision string) *cobra.Command {
	var reason string
	cmd := &cobra.Command{Use: use, Short: short, Args: api.Numbers(1, 1, "a rotation", "rotate list"), RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		if err := c.Call(cmd.Context(), http.MethodPost, "/rotations/"+url.PathEscape(args[0])+"/decision", map[string]string{"decision": decision, "reason": reason}, nil); err != nil {
			return err
		}
		if decision == "stop" {
			fmt.Fprintf(cmd.OutOrStdout(), "Rotation %s stops after the steps that have begun.\n", args[0])
			return nil
		}
		return follow(cmd, c, args[0], "done")
	})}
	cmd.Flags().StringVar(&reason, "reason", "", "why; it is recorded")
	output.AddFlag(cmd)
	return cmd
}
