package output

import (
	"errors"
	"fmt"
	"io"
	"os/signal"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
)

// watched runs a list once, or again and again with --watch until it is
// interrupted. On a terminal each look takes the place of the one before.
func watched(run func(*cobra.Command, *api.Client, string, []string) error) func(*cobra.Command, []string) error {
	return Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		every, err := cmd.Flags().GetDuration("watch")
		if err != nil {
			return err
		}
		switch {
		case every == 0:
			return run(cmd, c, format, args)
		case every < time.Second:
			return api.Exit(api.ExitUsage, errors.New("--watch takes a second at least"))
		case format != "table":
			return api.Exit(api.ExitUsage, errors.New("--watch is for people: it shows tables only"))
		}
		ctx, stop := signal.NotifyContext(cmd.Context(), syscall.SIGINT, syscall.SIGTERM)
		defer stop()
		tick := time.NewTicker(every)
		defer tick.Stop()
		for {
			clear(cmd.OutOrStdout())
			if err := run(cmd, c, format, args); err != nil {
				return err
			}
			select {
			case <-tick.C:
			case <-ctx.Done():
				return nil
			}
		}
	})
}

func clear(out io.Writer) {
	if s, is := out.(*Screen); is && s.Width > 0 {
		fmt.Fprint(out, "\x1b[H\x1b[2J")
	}
}
