package rotation

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os/signal"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// together is how many rotations are asked for at once.
type together struct {
	label, file string
	values      string
	filters     []string
	findings    []string
	atOnce      int
	despite     bool
	rehearse    bool
}

func (t *together) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&t.label, "label", "", "rotate the credentials in custody of all accounts with this label")
	cmd.Flags().StringVar(&t.file, "file", "", "rotate those that a file names, one a line, - for standard input; nothing is begun if a line is wrong")
	cmd.Flags().StringArrayVarP(&t.filters, "filter", "f", nil, "rotate those in custody that match, as in 'moss credential list' (repeatable)")
	cmd.Flags().StringArrayVar(&t.findings, "finding", nil, "rotate those in custody that open findings are about which match, as in 'moss finding list' (repeatable)")
	cmd.Flags().StringVar(&t.values, "values", "", "rotate passwords to values that people made: a file of lines 'name,value' (CSV), - for standard input; nothing is begun if a line is wrong, and a second person approves it")
	cmd.Flags().IntVar(&t.atOnce, "at-once", 0, "with several: so many rotations run at the same time (4 by default)")
	cmd.Flags().BoolVar(&t.despite, "despite-failures", false, "with several: rotate those whose rehearsal passed although others did not")
	cmd.Flags().BoolVar(&t.rehearse, "rehearse", false, "with several: only rehearse them")
	cmd.MarkFlagsMutuallyExclusive(choices...)
}

// choices are the flags that choose several.
var choices = []string{"label", "file", "filter", "finding", "values"}

// many reports whether several are asked for.
func (t *together) many(cmd *cobra.Command) bool {
	for _, name := range choices {
		if cmd.Flags().Changed(name) {
			return true
		}
	}
	return false
}

// run asks for many rotations, shows what their rehearsals say, and starts them.
func (t *together) run(cmd *cobra.Command, c *api.Client, format string, in map[string]any) error {
	for _, name := range []string{"not_before", "not_after", "start", "type", "stop_first", "no_acceptors", "at_window_end", "lasts_days", "authority", "no_reload"} {
		if in[name] != nil {
			return api.Exit(api.ExitUsage, fmt.Errorf("--%s is for one credential at a time", strings.NewReplacer("_", "-", "not-before", "window", "type", "key-type", "start", "start-down", "lasts-days", "lasts").Replace(strings.ReplaceAll(name, "_", "-"))))
		}
	}
	if in["restart"] == "window" {
		return api.Exit(api.ExitUsage, errors.New("--restart window is for one credential at a time: 'moss window add' says when many may be restarted"))
	}
	in["at_once"] = t.atOnce
	switch {
	case t.file != "":
		raw, err := output.ReadText(cmd, t.file)
		if err != nil {
			return err
		}
		in["names"] = strings.Split(strings.TrimRight(raw, "\n"), "\n")
	case t.values != "":
		text, err := output.ReadSecret(cmd, t.values, "")
		if err != nil {
			return api.Exit(api.ExitUsage, err)
		}
		in["values"] = text
	case len(t.findings) > 0:
		in["findings"] = t.findings
	case t.label != "":
		in["label"] = t.label
	default:
		in["filters"] = t.filters
	}
	var batch output.Row
	if err := c.Call(cmd.Context(), http.MethodPost, "/batches", in, &batch); err != nil {
		return err
	}
	id := output.Show(batch["id"])
	return carryOut(cmd, c, format, id, t.despite, t.rehearse)
}

// carryOut follows a batch while it is rehearsed, starts it, and follows it to its end.
func carryOut(cmd *cobra.Command, c *api.Client, format, id string, despite, only bool) error {
	batch, err := followBatch(cmd, c, id, "rehearsing")
	if err != nil {
		return err
	}
	number := func(name string) int {
		n, _ := strconv.Atoi(output.Show(batch[name])) // a count of the service
		return n
	}
	if only || number("blocked") > 0 && !despite || number("ready") == 0 {
		if err := printItems(cmd, c, format, batch, id); err != nil {
			return err
		}
		switch {
		case number("blocked") == 0:
			fmt.Fprintf(cmd.ErrOrStderr(), "All %d rehearsals passed. 'moss batch start %s' rotates them.\n", number("total"), id)
			return nil
		case only || number("ready") == 0:
			return api.Negative("%d of %d rehearsals did not pass", number("blocked"), number("total"))
		}
		return api.Negative("%d of %d rehearsals did not pass, so nothing was started: mend what they name and 'moss batch retry %s', or start the others with 'moss batch start %s --despite-failures'", number("blocked"), number("total"), id, id)
	}
	var started output.Row
	if err := c.Call(cmd.Context(), http.MethodPost, "/batches/"+id+"/start", map[string]any{"despite_failures": despite}, &started); err != nil {
		return err
	}
	if approval := output.Show(started["waits_for_approval"]); approval != "" {
		if err := printItems(cmd, c, format, started, id); err != nil {
			return err
		}
		fmt.Fprintf(cmd.ErrOrStderr(), "It waits: one person is not enough. It begins once somebody else approves it with 'moss approval grant %s'; 'moss batch show %s' shows how far it is then.\n", approval, id)
		return nil
	}
	if batch, err = followBatch(cmd, c, id, "running"); err != nil {
		return err
	}
	if err := printItems(cmd, c, format, batch, id); err != nil {
		return err
	}
	if bad := number("total") - number("done"); bad > 0 {
		return api.Negative("%d of %d were not rotated as asked: 'moss batch retry %s' tries these again", bad, number("total"), id)
	}
	return nil
}

// followBatch waits while a batch is in a state, and tells how far it is.
func followBatch(cmd *cobra.Command, c *api.Client, id, state string) (output.Row, error) {
	ctx, stop := signal.NotifyContext(cmd.Context(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	line := output.NewLine(cmd)
	defer line.Clear()
	for {
		var v output.Row
		if err := c.Call(ctx, http.MethodGet, "/batches/"+id, nil, &v); err != nil {
			if ctx.Err() != nil && cmd.Context().Err() == nil {
				return nil, fmt.Errorf("batch %s goes on in the service: 'moss batch show %s' shows it, 'moss batch stop %s' begins nothing more of it", id, id, id)
			}
			return nil, err
		}
		if v["state"] != state {
			return v, nil
		}
		total := output.Show(v["total"])
		if state == "rehearsing" {
			line.Show(fmt.Sprintf("Batch %s: rehearsing, %s of %s left; %s did not pass", id, output.Show(v["waiting"]), total, output.Show(v["blocked"])))
		} else {
			line.Show(fmt.Sprintf("Batch %s: %s of %s done, %s are being rotated, %s otherwise", id, output.Show(v["done"]), total, output.Show(v["rotating"]), output.Show(v["failed"])))
		}
		select {
		case <-ctx.Done():
		case <-time.After(500 * time.Millisecond):
		}
	}
}

// itemColumns are one line each.
var itemColumns = []output.Column{{"N", "position"}, {"CREDENTIAL", "credential"}, {"SYSTEM", "system"}, {"STATE", "state"}, {"RESTARTS", "restarts"}, {"ROTATION", "rotation_id"}, {"NOT BESIDE", "behind"}, {"WORDS", "words"}}

// printItems prints the summary of a batch, and a line for each of its rotations.
func printItems(cmd *cobra.Command, c *api.Client, format string, batch output.Row, id string) error {
	rows, _, err := output.Fetch(cmd, c, "/batches/"+url.PathEscape(id)+"/items", url.Values{}, 5000)
	if err != nil {
		return err
	}
	out := cmd.OutOrStdout()
	if format == "table" {
		fmt.Fprintf(out, "Batch %s (%s, %s): %s. %s in all: %s ready, %s not passed, %s being rotated, %s done, %s otherwise.\n\n", id, output.Safe(output.Show(batch["chosen"])), output.Safe(output.Show(batch["reason"])), output.Show(batch["state"]),
			output.Show(batch["total"]), output.Show(batch["ready"]), output.Show(batch["blocked"]), output.Show(batch["rotating"]), output.Show(batch["done"]), output.Show(batch["failed"]))
	}
	return output.Write(out, format, itemColumns, rows, rows)
}

// BatchCommand is for rotations that were asked for together.
func BatchCommand() *cobra.Command {
	list := output.ListCommand("list", "List rotations that were asked for together", "/batches", []output.Column{{"ID", "id"}, {"STATE", "state"}, {"CHOSEN BY", "chosen"}, {"ALL", "total"}, {"READY", "ready"}, {"NOT PASSED", "blocked"}, {"ROTATING", "rotating"}, {"DONE", "done"}, {"OTHERWISE", "failed"}, {"BY", "requested_by"}, {"CREATED", "created"}, {"REASON", "reason"}},
		"There was no batch yet. 'moss rotate run --label boats' asks for many rotations together, and so do --filter and --file.")
	show := &cobra.Command{Use: "show ID", Short: "Show how far a batch is, one line for each of its rotations", Args: api.Numbers(1, 1, "a batch", "batch list")}
	output.AddFlag(show)
	show.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		var v output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, "/batches/"+args[0], nil, &v); err != nil {
			return err
		}
		if format == "table" || format == "csv" {
			return printItems(cmd, c, format, v, args[0])
		}
		return output.Write(cmd.OutOrStdout(), format, nil, []output.Row{v}, v)
	})
	var despite bool
	start := &cobra.Command{Use: "start ID", Short: "Rotate what was rehearsed, with live progress", Args: api.Numbers(1, 1, "a batch", "batch list")}
	start.Flags().BoolVar(&despite, "despite-failures", false, "rotate those whose rehearsal passed although others did not")
	output.AddFlag(start)
	start.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		return carryOut(cmd, c, format, args[0], despite, false)
	})
	stop := &cobra.Command{Use: "stop ID", Short: "Begin nothing more of a batch; rotations that run go on", Args: api.Numbers(1, 1, "a batch", "batch list")}
	stop.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		if err := c.Call(cmd.Context(), http.MethodPost, "/batches/"+args[0]+"/stop", nil, nil); err != nil {
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "Nothing more of batch %s is begun.\n", args[0])
		return nil
	})
	var again bool
	retry := &cobra.Command{Use: "retry ID", Short: "Rehearse again what did not pass or did not end well, rotate it, and nothing else", Args: api.Numbers(1, 1, "a batch", "batch list")}
	retry.Flags().BoolVar(&again, "despite-failures", false, "rotate those whose rehearsal passes although others do not")
	output.AddFlag(retry)
	retry.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		if err := c.Call(cmd.Context(), http.MethodPost, "/batches/"+args[0]+"/retry", nil, nil); err != nil {
			return err
		}
		return carryOut(cmd, c, format, args[0], again, false)
	})
	return output.Group("batch", "Rotations that were asked for together", list, show, start, stop, retry)
}
