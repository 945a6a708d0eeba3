package cli

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
	"mossledger.example/moss/internal/cli/rights"
)

var systemColumns = []output.Column{{"NAME", "name"}, {"KIND", "kind"}, {"ADDRESS", "address"}, {"PORT", "port"}, {"SITE", "site"}, {"STATE", "state"}, {"READ COMPLETELY", "read_completely"}, {"WHAT IS WRONG", "state_words"}}

type systemFlags struct {
	kind, address, steward, site, environment, owner, caFile string
	port                                                     int
	options                                                  []string
}

func (f *systemFlags) register(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.kind, "kind", "unix-host", "one of 'moss system kinds'")
	flags.StringVar(&f.address, "address", "", "host name or IP address; the name by default")
	flags.IntVar(&f.port, "port", 0, "the kind's usual port by default")
	flags.StringVar(&f.steward, "steward", "", "by which it is reached")
	flags.StringVar(&f.site, "site", "", "where it stands")
	flags.StringVar(&f.environment, "environment", "", "production, test, ...")
	flags.StringVar(&f.owner, "owner", "", "who is responsible for it")
	flags.StringVar(&f.caFile, "ca-file", "", "PEM of the CA that signed its certificate (directories, windows hosts)")
	flags.StringArrayVar(&f.options, "option", nil, "NAME=SETTING, repeatable: 'moss system kinds' lists the options of each kind")
	_ = cmd.RegisterFlagCompletionFunc("kind", completeKinds)
	_ = cmd.RegisterFlagCompletionFunc("option", completeOptions)
}

func (f *systemFlags) body(name string) (map[string]any, error) {
	in := map[string]any{"name": name, "kind": f.kind, "address": f.address, "port": f.port, "steward": f.steward, "site": f.site, "environment": f.environment, "owner": f.owner}
	options := map[string]string{}
	for _, o := range f.options {
		key, value, found := strings.Cut(o, "=")
		if !found {
			return nil, api.Exit(api.ExitUsage, fmt.Errorf("option %q: write name=value", o))
		}
		options[key] = value
	}
	in["options"] = options
	if f.caFile != "" {
		raw, err := os.ReadFile(f.caFile)
		if err != nil {
			return nil, err
		}
		in["trusted_ca"] = string(raw)
	}
	return in, nil
}

func systemCommand() *cobra.Command {
	var flags systemFlags
	add := &cobra.Command{Use: "add NAME", Short: "Add a system", Args: cobra.ExactArgs(1), RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		in, err := flags.body(args[0])
		if err != nil {
			return err
		}
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodPost, "/systems", in, &v); err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "Added %s. Reach it with 'moss system check %s'.\n", args[0], args[0])
		waits(cmd, v)
		return nil
	})}
	flags.register(add)
	var yes bool
	remove := &cobra.Command{Use: "remove NAME", Short: "Remove a system with all that was seen on it", Args: cobra.ExactArgs(1), Long: "Removes a system with its accounts, dependents, rehearsals and the list of its rotations;\nthe ledger keeps what was done. It is refused while values in custody belong to it or\nstand on it.", RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		path := "/systems/" + url.PathEscape(args[0])
		var goes output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, path+"/removal", nil, &goes); err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "With %s go %s accounts, %s dependents, %s rehearsals and %s rotations.\n", args[0], output.Show(goes["accounts"]), output.Show(goes["dependents"]), output.Show(goes["rehearsals"]), output.Show(goes["rotations"]))
		if why := output.Show(goes["refused"]); why != "" {
			return api.Negative("%s stays: %s", args[0], why)
		}
		if !yes {
			answer, err := output.Ask(cmd, "Remove it? Write yes")
			if err != nil {
				return api.Exit(api.ExitUsage, errors.New("there is no terminal to ask on: give --yes"))
			}
			if answer != "yes" {
				return api.Negative("nothing was removed")
			}
		}
		if err := c.Call(cmd.Context(), http.MethodDelete, path, nil, nil); err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "Removed %s.\n", args[0])
		return nil
	})}
	remove.Flags().BoolVar(&yes, "yes", false, "do not ask")
	var why string
	absence := &cobra.Command{Use: "confirm-absence NAME", Short: "Say that what vanished from a system is really gone", Args: cobra.ExactArgs(1), Long: "When many accounts or places vanish at once, or are not seen with another log-on, they are not\nshown as gone: the steward may see less than before. This is your word that they are. The system\nis read again, and what is not seen then is marked so.", RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodPost, "/systems/"+url.PathEscape(args[0])+"/absence", map[string]string{"reason": why}, &v); err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "Confirmed; survey %s reads it again.\n", output.Show(v["id"]))
		return nil
	})}
	absence.Flags().StringVar(&why, "reason", "", "why; it is recorded")
	_ = absence.MarkFlagRequired("reason")
	return output.Group("system", "Systems that are looked at", add, changeSystem(), importCommand(), showSystem(), checkCommand(), rights.PrepareCommand(), approveKeysCommand(), remove, absence, optionCommand(), kindsCommand(),
		output.ListCommand("list", "List systems", "/systems", systemColumns, "There are no systems. Add one with 'moss system add', or many with 'moss system import'."))
}

func changeSystem() *cobra.Command {
	var flags systemFlags
	cmd := &cobra.Command{Use: "change NAME", Short: "Change what is given of a system; what is not given stays", Args: cobra.ExactArgs(1)}
	flags.register(cmd)
	_ = cmd.Flags().MarkHidden("kind")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		if cmd.Flags().Changed("kind") {
			return api.Exit(api.ExitUsage, fmt.Errorf("the kind of a system cannot be changed: remove %s and add it anew", args[0]))
		}
		if !slices.ContainsFunc([]string{"address", "port", "steward", "site", "environment", "owner", "option", "ca-file"}, cmd.Flags().Changed) {
			return api.Exit(api.ExitUsage, errors.New("nothing to change: give --address, --port, --steward, --site, --environment, --owner, --option or --ca-file"))
		}
		var have output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, "/systems/"+url.PathEscape(args[0]), nil, &have); err != nil {
			return err
		}
		given, err := flags.body(args[0])
		if err != nil {
			return err
		}
		next := map[string]any{}
		for field, flag := range map[string]string{"name": "", "kind": "kind", "address": "address", "port": "port", "steward": "steward", "site": "site", "environment": "environment", "owner": "owner", "options": "option", "trusted_ca": "ca-file"} {
			next[field] = have[field]
			if flag != "" && cmd.Flags().Changed(flag) {
				next[field] = given[field]
			}
			if next[field] == nil {
				delete(next, field)
			}
		}
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodPut, "/systems/"+url.PathEscape(args[0]), next, &v); err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "Changed %s.\n", args[0])
		waits(cmd, v)
		return nil
	})
	return cmd
}

func importCommand() *cobra.Command {
	var directory, base, windowsSteward, windowsSignIn string
	var flags systemFlags
	cmd := &cobra.Command{
		Use: "import [FILE]", Short: "Add systems from a CSV or plain list, or from a directory subtree", Args: cobra.MaximumNArgs(1),
		Long: `FILE is a CSV with a header line (name, address, port, kind, steward, site,
environment, owner, paths; only name is needed) or has one name a line; - reads
standard input. Bad rows are reported by line and column and do not stop the others.`,
		Example: "  moss system import hosts.csv --steward terminals\n  moss system import --directory larkmoor-directory --base 'OU=Hosts,DC=larkmoor,DC=example' --steward terminals",
	}
	cmd.Flags().StringVar(&directory, "directory", "", "take the computers of this directory instead of a file")
	cmd.Flags().StringVar(&base, "base", "", "subtree of the directory")
	cmd.Flags().StringVar(&flags.steward, "steward", "", "steward for rows that name none")
	cmd.Flags().StringVar(&windowsSteward, "windows-steward", "", "steward for windows hosts that name none")
	cmd.Flags().StringVar(&windowsSignIn, "windows-signin", "", "how to sign in to windows hosts: kerberos, ntlm or basic")
	cmd.Flags().StringVar(&flags.caFile, "windows-ca-file", "", "PEM of the CA that signed the certificates of windows hosts")
	_ = cmd.RegisterFlagCompletionFunc("windows-signin", cobra.FixedCompletions([]string{"kerberos", "ntlm", "basic"}, cobra.ShellCompDirectiveNoFileComp))
	cmd.Flags().StringVar(&flags.site, "site", "", "site for rows that name none")
	cmd.Flags().StringVar(&flags.environment, "environment", "", "environment for rows that name none")
	cmd.Flags().StringVar(&flags.owner, "owner", "", "owner for rows that name none")
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		in := map[string]string{"steward": flags.steward, "site": flags.site, "environment": flags.environment, "owner": flags.owner, "windows_steward": windowsSteward, "windows_signin": windowsSignIn}
		if flags.caFile != "" {
			raw, err := os.ReadFile(flags.caFile)
			if err != nil {
				return err
			}
			in["windows_ca"] = string(raw)
		}
		switch {
		case directory != "" && len(args) > 0, directory == "" && len(args) == 0:
			return api.Exit(api.ExitUsage, errors.New("give a file, or --directory"))
		case directory != "":
			in["directory"], in["base"] = directory, base
		default:
			var raw []byte
			var err error
			if args[0] == "-" {
				raw, err = io.ReadAll(cmd.InOrStdin())
			} else {
				raw, err = os.ReadFile(args[0])
			}
			if err != nil {
				return err
			}
			if len(raw) > 10<<20+1000 {
				raw = raw[:10<<20+1000] // the service reads no more, and says where it stopped
			}
			in["list"] = string(raw)
		}
		var done struct {
			Added    []string     `json:"added"`
			Known    []string     `json:"known"`
			Problems []output.Row `json:"problems"`
			Warnings []output.Row `json:"warnings"`
			Waiting  int          `json:"waiting"`
		}
		if err := c.Call(cmd.Context(), http.MethodPost, "/systems/import", in, &done); err != nil {
			return err
		}
		columns := []output.Column{{"", "kind"}, {"LINE", "line"}, {"COLUMN", "column"}, {"TEXT", "text"}, {"WHAT", "what"}}
		var rows []output.Row
		for kind, list := range map[string][]output.Row{"not taken": done.Problems, "odd": done.Warnings} {
			for _, r := range list {
				r["kind"] = kind
				rows = append(rows, r)
			}
		}
		if format != "table" {
			return output.Write(cmd.OutOrStdout(), format, columns, rows, done)
		}
		fmt.Fprintf(cmd.OutOrStdout(), "%d added, %d already there, %d rows not taken.\n", len(done.Added), len(done.Known), len(done.Problems))
		if done.Waiting > 0 {
			fmt.Fprintf(cmd.OutOrStdout(), "%d wait for somebody else's approval: 'moss approval list --filter state=asked'.\n", done.Waiting)
		}
		if len(rows) > 0 {
			output.Table(cmd.OutOrStdout(), columns, rows)
		}
		return nil
	})
	return cmd
}

func showSystem() *cobra.Command {
	cmd := &cobra.Command{Use: "show NAME", Short: "Show a system", Args: cobra.ExactArgs(1)}
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, "/systems/"+url.PathEscape(args[0]), nil, &v); err != nil {
			return err
		}
		return output.Details(cmd, v, []output.Column{
			{"Name", "name"},
			{"Kind", "kind"},
			{"Address", "address"},
			{"Port", "port"},
			{"Steward", "steward"},
			{"Options", "options"},
			{"Site", "site"},
			{"Environment", "environment"},
			{"Owner", "owner"},
			{"State", "state"},
			{"What is wrong", "state_words"},
			{"Host keys", "host_keys"},
			{"Secrets may go there", "trusted"},
			{"Waits for approval", "waits_for_approval"},
			{"What it is", "facts.flavor"},
			{"Domains", "facts.domains"},
			{"Trusts", "facts.trusts"},
			{"Identity", "facts.identity"},
			{"Certificate", "facts.certificate"},
			{"Started", "facts.booted"},
			{"Restart is due", "facts.reboot"},
			{"Checked", "checked"},
			{"Visited", "visited"},
			{"Read completely", "read_completely"},
		})
	})
	return cmd
}

func checkCommand() *cobra.Command {
	var approve string
	var all bool
	var every time.Duration
	cmd := &cobra.Command{Use: "check [NAME...]", Short: "Try to reach systems, stage by stage; shows and approves host keys"}
	cmd.Flags().StringVar(&approve, "approve", "", "approve this host key fingerprint (SHA256:...), if the host offers it")
	cmd.Flags().BoolVar(&all, "all", false, "all systems")
	cmd.Flags().DurationVar(&every, "until-green", 0, "keep looking so often until nothing is missing, and show what is; it ends where a steward is refused, for trying again may lock it")
	cmd.Flags().Lookup("until-green").NoOptDefVal = "10s"
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		if all {
			systems, _, err := output.Fetch(cmd, c, "/systems", url.Values{}, 0)
			if err != nil {
				return err
			}
			for _, v := range systems {
				args = append(args, output.Show(v["name"]))
			}
		}
		if len(args) == 0 || approve != "" && len(args) != 1 {
			return api.Exit(api.ExitUsage, errors.New("name the system to check (with --approve exactly one), or give --all"))
		}
		return output.Until(cmd, format, every, func() (rows []output.Row, again bool, err error) {
			bad := 0
			again = true
			for i, name := range args {
				if len(args) > 1 {
					output.Remark(cmd, "%d of %d: %s", i+1, len(args), output.Safe(name))
				}
				var answer struct {
					OK     bool
					Report struct{ Stages []output.Row }
				}
				path, in := "/systems/"+url.PathEscape(name)+"/check", any(nil)
				if approve != "" {
					path, in = "/systems/"+url.PathEscape(name)+"/host-key", map[string]string{"fingerprint": approve}
				}
				if err := c.Call(cmd.Context(), http.MethodPost, path, in, &answer); err != nil {
					return nil, false, fmt.Errorf("%s: %w", name, err)
				}
				if !answer.OK {
					bad++
				}
				for _, stage := range answer.Report.Stages {
					stage["system"] = name
					stage["took_ms"] = milliseconds(stage["took"])
					again = again && stage["code"] != "steward-refused"
					rows = append(rows, stage)
				}
			}
			if bad > 0 {
				err = api.Negative("%d of %d could not be reached completely", bad, len(args))
			}
			return rows, again, err
		}, func(rows []output.Row) error {
			return output.Write(cmd.OutOrStdout(), format, []output.Column{{"SYSTEM", "system"}, {"STAGE", "stage"}, {"OK", "ok"}, {"MS", "took_ms"}, {"WHAT WAS FOUND", "detail"}, {"NEXT", "next"}}, rows, rows)
		})
	})
	return cmd
}

func milliseconds(nanoseconds any) string {
	var d time.Duration
	if _, err := fmt.Sscan(fmt.Sprint(nanoseconds), (*int64)(&d)); err != nil {
		return ""
	}
	return fmt.Sprintf("%.1f", float64(d)/1e6)
}
