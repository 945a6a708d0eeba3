package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"time"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

func useCommand() *cobra.Command {
	list := &cobra.Command{Use: "list ACCOUNT", Short: "Show who was seen signed in with an account, and what people say", Args: cobra.ExactArgs(1)}
	output.AddFlag(list)
	limit := list.Flags().IntP("limit", "n", 0, "at most so many that were seen, the latest; 0 for all")
	list.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		id, err := c.Account(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		var seen, said []output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, fmt.Sprintf("/accounts/%d/uses", id), nil, &seen); err != nil {
			return err
		}
		if err := c.Call(cmd.Context(), http.MethodGet, fmt.Sprintf("/accounts/%d/declarations", id), nil, &said); err != nil {
			return err
		}
		if *limit < 0 {
			return api.Exit(api.ExitUsage, fmt.Errorf("--limit is a number from 0, not %d", *limit))
		}
		more := 0
		if *limit > 0 && len(seen) > *limit {
			more, seen = len(seen)-*limit, seen[:*limit]
		}
		out := cmd.OutOrStdout()
		columns := []output.Column{{"SIGNS IN TO", "system"}, {"FROM", "client"}, {"HOST", "host"}, {"UNIT", "unit"}, {"PROGRAM", "program"}, {"HOW", "how"}, {"CALLS ITSELF", "application"}, {"REFUSED", "failed"}, {"COUNT", "count"}, {"LAST", "last"}}
		if format != "table" {
			return output.Write(out, format, columns, seen, map[string]any{"seen": seen, "declared": said})
		}
		if len(seen) == 0 {
			fmt.Fprintln(out, "Nobody was seen signed in with it: no data store or record of uses that was read says so.")
		} else {
			output.Table(out, columns, seen)
			if more > 0 {
				fmt.Fprintf(cmd.ErrOrStderr(), "%d more; without --limit all are shown\n", more)
			}
		}
		if len(said) > 0 {
			fmt.Fprintln(out)
			output.Table(out, []output.Column{{"ID", "id"}, {"DECLARED", "place"}, {"ON", "system"}, {"REASON", "reason"}, {"UNTIL", "until"}, {"BY", "said_by"}, {"SAID", "said"}}, said)
		}
		return nil
	})
	return output.Group("use", "What was seen and what people say of the use of accounts", list, declareCommand(), withdrawCommand(), importUses())
}

func declareCommand() *cobra.Command {
	var system, reason, until string
	var dependent int64
	cmd := &cobra.Command{
		Use: "declare ACCOUNT [PLACE]", Short: "Say that an account is used somewhere that nothing shows", Args: cobra.RangeArgs(1, 2),
		Example: "  moss use declare svc-berth 'till at the ferry desk' --system quay1 --reason 'Ines looked' --until 2027-06-30",
	}
	cmd.Flags().StringVar(&system, "system", "", "system that the place is on; that of the account when it is left out")
	cmd.Flags().Int64Var(&dependent, "dependent", 0, "number of a dependent that is known, in place of PLACE")
	cmd.Flags().StringVar(&reason, "reason", "", "how you know")
	cmd.Flags().StringVar(&until, "until", "", "day on which to ask again, such as 2027-06-30")
	_ = cmd.MarkFlagRequired("reason")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		in := map[string]any{"reason": reason, "system": system, "dependent": dependent}
		if len(args) == 2 {
			in["place"] = args[1]
		}
		if until != "" {
			day, err := time.Parse(time.DateOnly, until)
			if err != nil {
				return api.Exit(api.ExitUsage, fmt.Errorf("--until takes a day such as 2027-06-30, not %q", until))
			}
			in["until"] = day
		}
		id, err := c.Account(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		var said output.Row
		if err := c.Call(cmd.Context(), http.MethodPost, fmt.Sprintf("/accounts/%d/declarations", id), in, &said); err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "declared as %s: %s on %s\n", output.Show(said["id"]), output.Show(said["place"]), output.Show(said["system"]))
		return nil
	})
	return cmd
}

func withdrawCommand() *cobra.Command {
	return &cobra.Command{Use: "withdraw ID", Short: "Withdraw a declaration", Args: api.Numbers(1, 1, "a declaration", "use list"), RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		if err := c.Call(cmd.Context(), http.MethodDelete, "/declarations/"+url.PathEscape(args[0]), nil, nil); err != nil {
			return err
		}
		fmt.Fprintln(cmd.OutOrStdout(), "withdrawn")
		return nil
	})}
}

// Of a stream of records.
const (
	recordsAtOnce = 5000
	recordsEvery  = 5 * time.Second
)

func importUses() *cobra.Command {
	var system string
	cmd := &cobra.Command{
		Use: "import [FILE]", Short: "Take in what a directory recorded of uses, from a file or a stream", Args: cobra.MaximumNArgs(1),
		Long: `Takes in the lines of JSON that a directory writes of authentications, from a file or
from standard input, to its end. A stream goes on as long as it lasts:

  ssh dc1 tail -n +1 -F /var/log/samba/auth.json | moss use import --system dir`,
	}
	cmd.Flags().StringVar(&system, "system", "", "directory that wrote them")
	_ = cmd.MarkFlagRequired("system")
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		var in io.Reader = cmd.InOrStdin()
		if len(args) == 1 && args[0] != "-" {
			f, err := os.Open(args[0])
			if err != nil {
				return api.Exit(api.ExitUsage, err)
			}
			defer f.Close()
			in = f
		}
		lines := make(chan string)
		failed := make(chan error, 1)
		ctx, cancel := context.WithCancel(cmd.Context())
		defer cancel()
		go func() {
			defer close(lines)
			reader := bufio.NewReaderSize(in, 1<<20)
			for {
				line, err := reader.ReadString('\n')
				if line != "" && len(line) < 1<<20 {
					select {
					case lines <- line:
					case <-ctx.Done():
						return
					}
				}
				if err != nil {
					if !errors.Is(err, io.EOF) {
						failed <- err
					}
					return
				}
			}
		}()
		var kept []string
		uses, bad := 0, 0
		send := func() error {
			if len(kept) == 0 {
				return nil
			}
			var took struct {
				Uses int `json:"uses"`
				Bad  int `json:"bad"`
			}
			err := c.Call(ctx, http.MethodPost, "/systems/"+url.PathEscape(system)+"/uses", map[string]any{"lines": kept}, &took)
			uses, bad, kept = uses+took.Uses, bad+took.Bad, kept[:0]
			return err
		}
		ticker := time.NewTicker(recordsEvery)
		defer ticker.Stop()
		for open := true; open; {
			select {
			case line, more := <-lines:
				if open = more; more {
					kept = append(kept, line)
				}
				if len(kept) < recordsAtOnce && more {
					continue
				}
			case <-ticker.C:
			case <-ctx.Done():
				return ctx.Err()
			}
			if err := send(); err != nil {
				return err
			}
		}
		select {
		case err := <-failed:
			return fmt.Errorf("the records could not be read to their end: %w", err)
		default:
		}
		fmt.Fprintf(cmd.OutOrStdout(), "%d log-ons taken in, %d lines not understood\n", uses, bad)
		return nil
	})
	return cmd
}
