package unattended

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
	"mossledger.example/moss/internal/core/notice"
)

// recipientFlags is a recipient as flags say it.
type recipientFlags struct {
	webhook, syslog, mail, user, from, trustedCA, least, secretFile, description string
	to, events, labels                                                           []string
	pause, resume                                                                bool
}

func (r *recipientFlags) register(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&r.webhook, "webhook", "", "an https address that gets messages as JSON, signed (RFC 9421)")
	f.StringVar(&r.syslog, "syslog", "", "host and port of a receiver of system logs over TLS (RFC 5425), such as logs.larkmoor.example:6514")
	f.StringVar(&r.mail, "mail", "", "host and port of a mail server: 587 for STARTTLS, 465 for TLS from the beginning")
	f.StringVar(&r.user, "user", "", "with --mail: who signs in to the mail server; nobody by default")
	f.StringVar(&r.from, "from", "", "with --mail: the address that it is from")
	f.StringArrayVar(&r.to, "to", nil, "with --mail: the address of somebody who gets it (repeatable)")
	f.StringVar(&r.trustedCA, "ca-file", "", "file with certificates in PEM that prove the other side; those that the service's machine trusts by default")
	f.StringVar(&r.secretFile, "secret-file", "", "file with what messages to a webhook are signed with, or the mail user's password, - for standard input; asked for by default")
	f.StringArrayVar(&r.events, "event", nil, "only events of this name, with * for any letters at the end, such as 'rotation.*' (repeatable)")
	f.StringVar(&r.least, "least", "", "nothing less grave: critical, error, warning (by default), notice or informational")
	f.StringArrayVar(&r.labels, "label", nil, "only what is about an account with this label (repeatable)")
	f.StringVar(&r.description, "description", "", "what it is for")
	cmd.MarkFlagsMutuallyExclusive("webhook", "syslog", "mail")
	_ = cmd.RegisterFlagCompletionFunc("least", cobra.FixedCompletions(notice.Severities(), cobra.ShellCompDirectiveNoFileComp))
	for _, name := range []string{"label", "event", "webhook", "syslog", "mail", "user", "from", "to", "description"} {
		_ = cmd.RegisterFlagCompletionFunc(name, cobra.NoFileCompletions)
	}
}

// body is what is asked for; before is the recipient that it changes, nil for a new one.
func (r *recipientFlags) body(cmd *cobra.Command, before output.Row) (map[string]any, error) {
	in := map[string]any{}
	for _, name := range []string{"kind", "address", "user", "from", "to", "trusted_ca", "events", "least", "labels", "paused", "description", "revision"} {
		if before[name] != nil {
			in[name] = before[name]
		}
	}
	for kind, address := range map[string]string{"webhook": r.webhook, "syslog": r.syslog, "mail": r.mail} {
		if address != "" {
			in["kind"], in["address"] = kind, address
		}
	}
	if in["kind"] == nil {
		return nil, api.Exit(api.ExitUsage, errors.New("say where it is told: --webhook, --syslog or --mail"))
	}
	for flag, set := range map[string]struct {
		field string
		value any
	}{"user": {"user", r.user}, "from": {"from", r.from}, "to": {"to", r.to}, "event": {"events", r.events}, "least": {"least", r.least}, "label": {"labels", r.labels}, "description": {"description", r.description}, "pause": {"paused", true}, "resume": {"paused", false}} {
		if changed(cmd, flag) {
			in[set.field] = set.value
		}
	}
	if r.trustedCA != "" {
		raw, err := os.ReadFile(r.trustedCA)
		if err != nil {
			return nil, err
		}
		in["trusted_ca"] = string(raw)
	}
	needs := in["kind"] == "webhook" || in["kind"] == "mail" && in["user"] != nil && in["user"] != ""
	if r.secretFile != "" || before == nil && needs {
		secret, err := output.ReadSecret(cmd, r.secretFile, "Secret of the "+fmt.Sprint(in["kind"]))
		if err != nil {
			return nil, err
		}
		in["secret"] = secret
	}
	return in, nil
}

var recipientDetails = []output.Column{{"Name", "name"}, {"Kind", "kind"}, {"Address", "address"}, {"User", "user"}, {"From", "from"}, {"To", "to"}, {"Secret", "secret"}, {"Events", "events"}, {"Least", "least"}, {"Labels", "labels"}, {"Paused", "paused"}, {"Told since", "since"}, {"Waiting", "waiting"}, {"Given up", "given_up"}, {"Last sent", "sent"}, {"Trouble", "trouble"}, {"Description", "description"}, {"Changed", "changed"}, {"By", "changed_by"}}

// NotifyCommand is for who is told what happens.
func NotifyCommand() *cobra.Command {
	list := output.ListCommand("list", "List who is told what happens", "/recipients", []output.Column{{"NAME", "name"}, {"KIND", "kind"}, {"ADDRESS", "address"}, {"LEAST", "least"}, {"EVENTS", "events"}, {"LABELS", "labels"}, {"PAUSED", "paused"}, {"WAITING", "waiting"}, {"GIVEN UP", "given_up"}, {"LAST SENT", "sent"}, {"TROUBLE", "trouble"}},
		"Nobody is told what happens. Add a recipient with 'moss notify add'.")
	sent := output.ListCommand("messages", "List messages that were sent, wait or were given up, the latest first", "/messages", []output.Column{{"ID", "id"}, {"RECIPIENT", "recipient"}, {"STATE", "state"}, {"SEVERITY", "severity"}, {"EVENTS", "number"}, {"SUBJECT", "subject"}, {"ATTEMPTS", "attempts"}, {"MADE", "made"}, {"WORDS", "words"}},
		"There are no messages.")
	events := &cobra.Command{Use: "events", Short: "List the events that are told, and how grave each is when all goes well", Args: cobra.NoArgs}
	output.AddFlag(events)
	events.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, _ []string) error {
		var rows []output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, "/event-names", nil, &rows); err != nil {
			return err
		}
		return output.Write(cmd.OutOrStdout(), format, []output.Column{{"EVENT", "name"}, {"SEVERITY", "severity"}}, rows, rows)
	})
	show := &cobra.Command{Use: "show RECIPIENT", Short: "Show a recipient, and how it stands with it", Args: cobra.ExactArgs(1)}
	output.AddFlag(show)
	show.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		v, err := one(cmd, c, "/recipients", args[0])
		if err != nil {
			return err
		}
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, nil, []output.Row{v}, v)
		}
		return output.Details(cmd, v, recipientDetails)
	})
	test := &cobra.Command{Use: "test RECIPIENT", Short: "Send a test now, and tell what the other side says", Args: cobra.ExactArgs(1)}
	test.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		var v struct{ Said string }
		if err := c.Call(cmd.Context(), http.MethodPost, "/recipients/"+url.PathEscape(args[0])+"/test", nil, &v); err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "Sent to %s: %s.\n", output.Safe(args[0]), output.Safe(v.Said))
		return nil
	})
	retry := &cobra.Command{Use: "retry RECIPIENT", Short: "Send again what was given up", Args: cobra.ExactArgs(1)}
	retry.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		var v struct{ Messages int64 }
		if err := c.Call(cmd.Context(), http.MethodPost, "/recipients/"+url.PathEscape(args[0])+"/retry", nil, &v); err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "%d messages to %s are sent again.\n", v.Messages, output.Safe(args[0]))
		return nil
	})
	return output.Group("notify", "Who is told what happens: webhooks, receivers of system logs, mail", list, show, recipientAdd(), recipientChange(), test, sent, retry, events, removeCommand("recipient", "/recipients", "Remove a recipient, which is told so first"))
}

func saveRecipient(cmd *cobra.Command, c *api.Client, name string, in map[string]any) error {
	if err := c.Call(cmd.Context(), http.MethodPut, "/recipients/"+url.PathEscape(name), in, nil); err != nil {
		return err
	}
	fmt.Fprintf(cmd.OutOrStdout(), "The recipient %s is kept. 'moss notify test %s' shows whether messages arrive.\n", output.Safe(name), output.Safe(name))
	return nil
}

func recipientAdd() *cobra.Command {
	var r recipientFlags
	cmd := &cobra.Command{
		Use: "add RECIPIENT", Short: "Add somebody who is told what happens: where, and what", Args: cobra.ExactArgs(1),
		Example: "  moss notify add duty --webhook https://duty.larkmoor.example/moss --secret-file duty.key\n  moss notify add trail --syslog logs.larkmoor.example:6514 --least informational\n  moss notify add team --mail mail.larkmoor.example:587 --from moss@larkmoor.example --to ferries@larkmoor.example --event 'rotation.*' --event finding.raised",
	}
	r.register(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		_, err := one(cmd, c, "/recipients", args[0])
		var problem *api.Problem
		switch {
		case err == nil:
			return fmt.Errorf("there is a recipient %q already: 'moss notify change' changes it", args[0])
		case !errors.As(err, &problem) || problem.Status != http.StatusNotFound:
			return err
		}
		in, err := r.body(cmd, nil)
		if err != nil {
			return err
		}
		return saveRecipient(cmd, c, args[0], in)
	})
	return cmd
}

func recipientChange() *cobra.Command {
	var r recipientFlags
	cmd := &cobra.Command{
		Use: "change RECIPIENT", Short: "Change a recipient; lists that are given replace those that it has", Args: cobra.ExactArgs(1),
		Example: "  moss notify change duty --least error\n  moss notify change team --pause",
	}
	r.register(cmd)
	cmd.Flags().BoolVar(&r.pause, "pause", false, "tell it nothing until --resume; what happens meanwhile is not told")
	cmd.Flags().BoolVar(&r.resume, "resume", false, "tell it what happens from now on")
	cmd.MarkFlagsMutuallyExclusive("pause", "resume")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		if cmd.Flags().NFlag() == 0 {
			return api.Exit(api.ExitUsage, errors.New("nothing to change: see 'moss notify change --help'"))
		}
		before, err := one(cmd, c, "/recipients", args[0])
		if err != nil {
			return err
		}
		in, err := r.body(cmd, before)
		if err != nil {
			return err
		}
		return saveRecipient(cmd, c, args[0], in)
	})
	return cmd
}
