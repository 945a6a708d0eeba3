package rotation

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// rotationRequest are what may be asked of a rotation.
type rotationRequest struct {
	policy, restart, window string
	start, stopFirst        bool
	keyType, noAcceptors    string
	patience                time.Duration
	anyTime, firstAlone     bool
	atWindowEnd, way        string
	length                  int
	without, lasts          string
	authority               string
	noReload                bool
}

// keyFlag is for commands that take key pairs too.
func (r *rotationRequest) keyFlag(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&r.stopFirst, "stop-first", false, "stop what would go on with the old value before the change, and start it with the new one: where wrong passwords lock the account; needs --on-failure undo")
	cmd.Flags().StringVar(&r.noAcceptors, "no-acceptors", "", "why service principal names for which neither a key tab nor a service was found do not matter; it is recorded")
	cmd.Flags().IntVar(&r.length, "length", 0, "characters of a new password, 12 to 256 (32 by default, within what the system takes)")
	cmd.Flags().StringVar(&r.without, "without", "", "characters that a new password must not have")
	cmd.Flags().StringVar(&r.way, "way", "any", "any, replace (the old value is refused from the change on), overlap (only if both are accepted for a time) or alternate (only if another account takes its place)")
	_ = cmd.RegisterFlagCompletionFunc("way", cobra.FixedCompletions([]string{"any", "replace", "overlap", "alternate"}, cobra.ShellCompDirectiveNoFileComp))
	cmd.Flags().StringVar(&r.lasts, "lasts", "", "of a key that an issuer accepts: how many days the new one is good, such as 90d, or never; as long as the one before it by default")
	_ = cmd.RegisterFlagCompletionFunc("lasts", cobra.FixedCompletions([]string{"30d", "90d", "365d", "never"}, cobra.ShellCompDirectiveNoFileComp))
	cmd.Flags().BoolVar(&r.noReload, "no-reload", false, "of a certificate: restart also what could read its files again while it runs")
	cmd.Flags().StringVar(&r.authority, "authority", "", "of a certificate: the system that issues the new one; the one that issued the one before, or the only one, by default")
	cmd.Flags().StringVar(&r.keyType, "key-type", "", "of a key pair: type of the new key (ssh-ed25519, ecdsa-sha2-nistp256, ssh-rsa); that of the old one by default")
	_ = cmd.RegisterFlagCompletionFunc("key-type", cobra.FixedCompletions([]string{"ssh-ed25519", "ecdsa-sha2-nistp256", "ssh-rsa"}, cobra.ShellCompDirectiveNoFileComp))
}

func (r *rotationRequest) register(cmd *cobra.Command) {
	cmd.Flags().StringVar(&r.policy, "on-failure", "undo", "when a step fails: stop, continue or undo")
	cmd.Flags().StringVar(&r.restart, "restart", "now", "when dependents are restarted: now, window or leave (not at all: a latent breakage until somebody does)")
	cmd.Flags().StringVar(&r.window, "window", "", "BEGIN/END or BEGIN/DURATION, such as 2026-11-24T02:00:00Z/2h, for --restart window")
	cmd.Flags().DurationVar(&r.patience, "patience", 30*time.Minute, "how long a system that is away is waited for before that counts as a failure; undoing waits without end")
	cmd.Flags().BoolVar(&r.anyTime, "any-time", false, "no window counts: what has one is changed and restarted at any time")
	cmd.Flags().StringVar(&r.atWindowEnd, "at-window-end", "pause", "when a window closes before everything is done: pause (it goes on in the next) or undo")
	cmd.Flags().BoolVar(&r.firstAlone, "first-alone", false, "change and prove one dependent before all others")
	_ = cmd.RegisterFlagCompletionFunc("at-window-end", cobra.FixedCompletions([]string{"pause", "undo"}, cobra.ShellCompDirectiveNoFileComp))
	cmd.Flags().BoolVar(&r.start, "start-down", false, "also bring up what is down although it starts by itself")
	_ = cmd.RegisterFlagCompletionFunc("on-failure", cobra.FixedCompletions([]string{"stop", "continue", "undo"}, cobra.ShellCompDirectiveNoFileComp))
	_ = cmd.RegisterFlagCompletionFunc("restart", cobra.FixedCompletions([]string{"now", "window", "leave"}, cobra.ShellCompDirectiveNoFileComp))
}

// body is the request as the API takes it.
func (r *rotationRequest) body(cmd *cobra.Command) (map[string]any, error) {
	if r.patience < time.Second {
		return nil, api.Exit(api.ExitUsage, fmt.Errorf("--patience %s: at least a second", r.patience))
	}
	in := map[string]any{"on_failure": r.policy, "restart": r.restart, "patience": int(r.patience.Seconds())}
	if r.start {
		in["start"] = true
	}
	if r.keyType != "" {
		in["type"] = r.keyType
	}
	if r.lasts != "" {
		days, err := daysOf(r.lasts)
		if err != nil {
			return nil, api.Exit(api.ExitUsage, err)
		}
		in["lasts_days"] = days
	}
	for name, value := range map[string]bool{"any_time": r.anyTime, "first_alone": r.firstAlone, "no_reload": r.noReload} {
		if value {
			in[name] = true
		}
	}
	if r.length != 0 {
		in["length"] = r.length
	}
	for name, value := range map[string]string{"at_window_end": r.atWindowEnd, "way": r.way, "without": r.without, "authority": r.authority} {
		if value != "" && value != "pause" && value != "any" {
			in[name] = value
		}
	}
	if r.stopFirst {
		in["stop_first"] = true
	}
	if r.noAcceptors != "" {
		in["no_acceptors"] = r.noAcceptors
	}
	if r.window == "" {
		return in, nil
	}
	if !cmd.Flags().Changed("restart") {
		in["restart"] = "window"
	}
	from, to, err := output.Window(r.window)
	if err != nil {
		return nil, err
	}
	in["not_before"], in["not_after"] = from, to
	return in, nil
}

func rehearseCommand() *cobra.Command {
	var request rotationRequest
	cmd := &cobra.Command{Use: "rehearse CREDENTIAL", Short: "Say what a rotation would do, and check all that can be checked without changing anything", Args: cobra.ExactArgs(1)}
	request.register(cmd)
	request.keyFlag(cmd)
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		in, err := request.body(cmd)
		if err != nil {
			return err
		}
		subject, err := c.Credential(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		return rehearse(cmd, c, format, subject, in)
	})
	return cmd
}

// rehearse rehearses and prints what came of it.
func rehearse(cmd *cobra.Command, c *api.Client, format, subject string, in map[string]any) error {
	var v struct {
		Rehearsal    output.Row `json:"rehearsal"`
		Steps        []string   `json:"steps"`
		Interruption string     `json:"interruption"`
	}
	if err := c.Call(cmd.Context(), http.MethodPost, subject+"/rehearsals", in, &v); err != nil {
		return err
	}
	list, _ := v.Rehearsal["checks"].([]any)
	var checks []output.Row
	for _, k := range list {
		if k, ok := k.(map[string]any); ok {
			checks = append(checks, k)
		}
	}
	columns := []output.Column{{"RESULT", "result"}, {"SYSTEM", "system"}, {"CHECK", "what"}, {"WORDS", "words"}, {"NEXT", "next"}}
	if format != "table" {
		if err := output.Write(cmd.OutOrStdout(), format, columns, checks, v); err != nil {
			return err
		}
	} else {
		out := cmd.OutOrStdout()
		fmt.Fprintln(out, "What will happen, in order:")
		for i, s := range v.Steps {
			fmt.Fprintf(out, "  %2d  %s\n", i+1, output.Safe(s))
		}
		fmt.Fprintf(out, "Expected interruption: %s\n\nWhat was checked:\n", output.Safe(v.Interruption))
		output.Table(out, columns, checks)
		if plan, ok := v.Rehearsal["plan"].(map[string]any); ok {
			if notes, _ := plan["notes"].([]any); len(notes) > 0 {
				fmt.Fprintln(out, "\nWorth knowing:")
				for _, n := range notes {
					n, _ := n.(map[string]any)
					words := output.Show(n["text"])
					if kind := output.Show(n["kind"]); kind != "info" && kind != "left-alone" {
						words = strings.ReplaceAll(kind, "-", " ") + ": " + words
					}
					fmt.Fprintf(out, "  - %s\n", output.Safe(words))
				}
			}
		}
		fmt.Fprintf(out, "\nThe rehearsal %s.\n", output.Show(v.Rehearsal["verdict"]))
	}
	if output.Show(v.Rehearsal["verdict"]) != "passed" {
		return api.Negative("the rehearsal did not pass: mend what failed and rehearse again")
	}
	return nil
}

func runCommand() *cobra.Command {
	var request rotationRequest
	var reason, override, emergency string
	var detach bool
	var many together
	cmd := &cobra.Command{
		Use: "run [CREDENTIAL]", Short: "Rotate one credential, or many together, with live progress", Args: cobra.MaximumNArgs(1),
		Long: "Rotates a credential in custody: the password of an account, or a key. It needs a rehearsal of the same that passed\nwithin the hour, or --override with a reason: somebody with the role approver then approves it first.\nInterrupting (Ctrl-C) leaves the rotation running in the service.\n\nWith --label, --file or --filter many are rotated together: all are rehearsed first, and nothing is started when one does\nnot pass, unless --despite-failures says so.",
	}
	request.register(cmd)
	request.keyFlag(cmd)
	cmd.Flags().StringVar(&reason, "reason", "", "why it is rotated")
	cmd.Flags().StringVar(&override, "override", "", "why it is started without a rehearsal that passed")
	cmd.Flags().StringVar(&emergency, "emergency", "", "why it does not wait for the second person that it needs; everybody is told of it")
	cmd.MarkFlagsMutuallyExclusive("override", "emergency")
	output.AddFlag(cmd)
	cmd.Flags().BoolVar(&detach, "detach", false, "start it and do not wait")
	many.flags(cmd)
	_ = cmd.MarkFlagRequired("reason")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		if many.many(cmd) == (len(args) > 0) {
			return api.Exit(api.ExitUsage, errors.New("name one credential, or choose many with --label, --file or --filter"))
		}
		in, err := request.body(cmd)
		if err != nil {
			return err
		}
		if many.many(cmd) {
			if override != "" || emergency != "" || detach {
				return api.Exit(api.ExitUsage, errors.New("--override, --emergency and --detach are for one credential at a time"))
			}
			in["reason"] = reason
			return many.run(cmd, c, format, in)
		}
		subject, err := c.Credential(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		in["reason"] = reason
		if override != "" {
			in["override"] = override
		}
		if emergency != "" {
			in["emergency"] = emergency
		}
		return startRotation(cmd, c, format, args[0], subject, in, detach)
	})
	return cmd
}

// startRotation starts a rotation and follows it.
func startRotation(cmd *cobra.Command, c *api.Client, format, name, subject string, in map[string]any, detach bool) error {
	path := subject + "/rotations"
	if in["override"] != nil {
		path += "/override"
	}
	var v output.Row
	if err := c.Call(cmd.Context(), http.MethodPost, path, in, &v); err != nil {
		return err
	}
	if approval := output.Show(v["waits_for_approval"]); approval != "" {
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, []output.Column{{"APPROVAL", "waits_for_approval"}}, []output.Row{v}, v)
		}
		fmt.Fprintf(cmd.OutOrStdout(), "It waits: somebody else approves it with 'moss approval grant %s'.\n", approval)
		return nil
	}
	rotation := output.Show(output.FieldOf(v, "rotation.id"))
	if format == "table" {
		what := "Rotation"
		if output.Show(output.FieldOf(v, "rotation.kind")) == "assign" {
			what = "Assignment"
		}
		fmt.Fprintf(cmd.OutOrStdout(), "%s %s of %s, on failure %s\n", what, rotation, name, output.Show(in["on_failure"]))
	}
	if detach {
		if format == "table" {
			return nil
		}
		return output.Write(cmd.OutOrStdout(), format, []output.Column{{"ID", "rotation.id"}, {"MODE", "rotation.mode"}}, []output.Row{v}, v)
	}
	return follow(cmd, c, rotation, "done")
}

// daysOf reads for how many days a new key is good; below 0 for without end.
func daysOf(text string) (int, error) {
	if text == "never" {
		return -1, nil
	}
	days, err := strconv.Atoi(strings.TrimSuffix(text, "d"))
	if err != nil || !strings.HasSuffix(text, "d") || days < 1 {
		return 0, fmt.Errorf("--lasts %q: write whole days, such as 90d, or never", text)
	}
	return days, nil
}
