package managed

import (
	"net/url"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/amend"
	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

const rehearsedFirst = "It is rehearsed first. With --reason it begins once that has passed, and a second person has approved it where there is one;\nwithout, 'moss amend start' begins it, and 'moss amend undo' takes it back."

// begun is what both commands do with their rehearsal.
func begun(cmd *cobra.Command, c *api.Client, format, path string, body map[string]any, reason string, detach bool) error {
	v, err := amend.Rehearse(cmd, c, format, path, body)
	if err != nil {
		return err
	}
	if reason == "" {
		output.Remark(cmd, "nothing is changed yet: 'moss amend start %s --reason WHY' begins it", output.Show(v["id"]))
		return nil
	}
	return amend.Start(cmd, c, format, output.Show(v["id"]), reason, detach)
}

func create() *cobra.Command {
	var dns, container, group, early, reason string
	var interval int
	var services, groups []string
	var old, detach bool
	cmd := &cobra.Command{
		Use: "create DIRECTORY NAME", Short: "Create a managed account: nobody knows its password, and hosts of a group fetch it", Args: cobra.ExactArgs(2),
		Long: "Creates an account whose password the directory makes and changes by itself. What a directory needs for it is checked, and no name of it may be taken:\n" +
			"two accounts with one service principal name break sign-in to both. NAME has at most 15 characters; the $ at its end may be left out.\n" + rehearsedFirst,
		Example: "  moss managed create larkmoor gmsa-gates --dns-name gates.larkmoor.example --group 'Gate Hosts'\n  moss managed create larkmoor gmsa-gates --dns-name gates.larkmoor.example --service HTTP/gates.larkmoor.example --member-of 'Terminal Services' --interval 14 --reason 'gates without a password'",
	}
	output.AddFlag(cmd)
	f := cmd.Flags()
	f.StringVar(&dns, "dns-name", "", "its whole DNS name")
	f.StringVar(&container, "container", "", "distinguished name of where it is to stand; the directory's own place for them without it")
	f.StringVar(&group, "group", "", "group whose hosts may fetch its password, by name or distinguished name; nobody yet without it")
	f.IntVar(&interval, "interval", 30, "days after which its password changes; fixed once it is there")
	f.StringArrayVar(&services, "service", nil, "service principal name, such as HTTP/gates.larkmoor.example (repeatable)")
	f.StringArrayVar(&groups, "member-of", nil, "group that it becomes a member of itself, which has the rights that it needs on hosts, such as to log on as a service (repeatable)")
	f.BoolVar(&old, "old-types", false, "also the encryption type RC4, for hosts that have nothing better")
	f.StringVar(&early, "early", "", "why it is created before a root key is in effect: for tests, for hosts may be given different passwords")
	f.StringVar(&reason, "reason", "", "why; with it the act begins")
	f.BoolVar(&detach, "detach", false, "do not wait for its end")
	_ = cmd.MarkFlagRequired("dns-name")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		body := map[string]any{"name": args[1], "dns_name": dns, "interval_days": interval, "container": container, "group": group, "services": services, "old_types": old, "early": early, "member_of": groups}
		return begun(cmd, c, format, "/systems/"+url.PathEscape(args[0])+"/managed", body, reason, detach)
	})
	return cmd
}

func permit() *cobra.Command {
	var group, reason string
	var detach bool
	cmd := &cobra.Command{
		Use: "permit ACCOUNT", Short: "Let the hosts of a group fetch the password of a managed account", Args: cobra.ExactArgs(1),
		Long:    "Lets the hosts of a group ask for the password, beside those that may already. A host that is in the group since it last started does not know it yet:\n'moss managed show' says which have to be restarted.\n" + rehearsedFirst,
		Example: "  moss managed permit 'gmsa-lockers$' --group 'Gate Hosts'\n  moss managed permit 'gmsa-lockers$' --group 'Gate Hosts' --reason 'lockers at the gates'",
	}
	output.AddFlag(cmd)
	f := cmd.Flags()
	f.StringVar(&group, "group", "", "the group, by name or distinguished name")
	f.StringVar(&reason, "reason", "", "why; with it the act begins")
	f.BoolVar(&detach, "detach", false, "do not wait for its end")
	_ = cmd.MarkFlagRequired("group")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		return ofAccount(cmd, c, format, args[0], "permit", map[string]any{"group": group}, reason, detach)
	})
	return cmd
}
