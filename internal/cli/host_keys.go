package cli

import (
	"fmt"
	"io"
	"net/http"
	"os"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

func approveKeysCommand() *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use: "approve-keys", Short: "Approve host keys of many hosts by a list", Args: cobra.NoArgs,
		Long: `Holds every host against a known_hosts file, or against what ssh-keyscan printed on a
machine that you trust. The key of a host is approved when it offers, now, a key that the list
has for its name or address. All else is told: another key, a revoked one, a host that is away
or not in the list. A list never replaces a key that was approved before, and decides no endpoint
that somebody else asked for.`,
		Example: `  moss system approve-keys --known-hosts ~/.ssh/known_hosts
  ssh-keyscan -f hosts.txt | moss system approve-keys --known-hosts -`,
	}
	cmd.Flags().StringVar(&file, "known-hosts", "", "the list; - for standard input")
	if err := cmd.MarkFlagRequired("known-hosts"); err != nil {
		panic(err)
	}
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, _ []string) error {
		read := func() ([]byte, error) { return os.ReadFile(file) }
		if file == "-" {
			read = func() ([]byte, error) { return io.ReadAll(io.LimitReader(cmd.InOrStdin(), 4<<20)) }
		}
		raw, err := read()
		if err != nil {
			return err
		}
		var done struct {
			Systems []output.Row `json:"systems"`
			Unread  []output.Row `json:"unread"`
		}
		if err := c.Call(cmd.Context(), http.MethodPost, "/systems/host-keys", map[string]string{"known_hosts": string(raw)}, &done); err != nil {
			return err
		}
		for _, line := range done.Unread {
			fmt.Fprintf(cmd.ErrOrStderr(), "line %s: %s\n", output.Show(line["line"]), output.Show(line["what"]))
		}
		if err := output.Write(cmd.OutOrStdout(), format, []output.Column{{"SYSTEM", "system"}, {"RESULT", "result"}, {"OFFERS", "fingerprint"}, {"WORDS", "words"}}, done.Systems, done.Systems); err != nil {
			return err
		}
		bad := 0
		for _, v := range done.Systems {
			if result := output.Show(v["result"]); result != "approved" && result != "known" {
				bad++
			}
		}
		if bad > 0 {
			return api.Negative("%d of %d hosts have no key that the list approves", bad, len(done.Systems))
		}
		return nil
	})
	return cmd
}
