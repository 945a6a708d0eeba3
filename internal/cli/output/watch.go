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

// LeastWait is how often at most something is tried again by Until. Tests have no time.
var LeastWait = 2 * time.Second

// Until does a round, shows what came of it, and does another one so often until none
// answers no; with every 0 it is one round. What is the same as before is not shown again.
// A round says whether another one makes sense.
func Until(cmd *cobra.Command, format string, every time.Duration, round func() (rows []Row, again bool, err error), show func([]Row) error) error {
	if every > 0 && format != "table" {
		return api.Exit(api.ExitUsage, errors.New("looking again and again is for people: it shows tables only"))
	}
	ctx, stop := signal.NotifyContext(cmd.Context(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	shown := ""
	for {
		rows, again, err := round()
		var negative *api.ExitError
		if err != nil && !(errors.As(err, &negative) && negative.Code == api.ExitNegative) {
			return err
		}
		now := ""
		for _, r := range rows {
			now += fmt.Sprintln(r["system"], r["stage"], r["ok"], r["detail"])
		}
		if now != shown {
			if writeErr := show(rows); writeErr != nil {
				return writeErr
			}
		}
		if shown = now; err == nil || every <= 0 || !again {
			return err
		}
		wait := max(every, LeastWait)
		Remark(cmd, "%s; looking again in %s", err, wait)
		timer := time.NewTimer(wait)
		select {
		case <-ctx.Done():
			timer.Stop()
			return err
		case <-timer.C:
		}
	}
}
