package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
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

func surveyCommand() *cobra.Command {
	cancel := &cobra.Command{Use: "cancel ID", Short: "Cancel a survey; what was read is kept", Args: api.Numbers(1, 1, "a survey", "survey list"), RunE: output.Talking(func(cmd *cobra.Command, c *api.Client, _ string, args []string) error {
		return c.Call(cmd.Context(), http.MethodPost, "/surveys/"+url.PathEscape(args[0])+"/cancel", nil, nil)
	})}
	visitColumns := []output.Column{{"SYSTEM", "system"}, {"STATE", "state"}, {"NEW", "added"}, {"CHANGED", "altered"}, {"GONE", "vanished"}, {"STAGE", "stage"}, {"WORDS", "words"}, {"NEXT", "next_step"}}
	visits := &cobra.Command{Use: "show ID", Short: "Show the visits of a survey, and what could not be read", Args: api.Numbers(1, 1, "a survey", "survey list")}
	output.AddFlag(visits)
	var problems bool
	visits.Flags().BoolVar(&problems, "problems", false, "list every line, file and entry that could not be read")
	visits.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		// One that is not there has no visits either, and that is no answer.
		var of output.Row
		if err := c.Call(cmd.Context(), http.MethodGet, "/surveys/"+url.PathEscape(args[0]), nil, &of); err != nil {
			return err
		}
		rows, _, err := output.Fetch(cmd, c, "/surveys/"+url.PathEscape(args[0])+"/visits", url.Values{}, 0)
		if err != nil {
			return err
		}
		if !problems {
			if format == "table" {
				fmt.Fprintf(cmd.OutOrStdout(), "Survey %s by %s, %s, %s: %s of %s systems, %s not read completely; %s new, %s changed, %s gone.\n\n", output.Show(of["id"]), output.Safe(output.Show(of["requested_by"])), output.Show(of["started"]), output.Show(of["state"]),
					output.Show(of["done"]), output.Show(of["total"]), output.Show(of["failed"]), output.Show(of["added"]), output.Show(of["altered"]), output.Show(of["vanished"]))
			}
			return output.Write(cmd.OutOrStdout(), format, visitColumns, rows, rows)
		}
		var list []output.Row
		for _, v := range rows {
			of, _ := v["problems"].([]any)
			for _, p := range of {
				if p, ok := p.(map[string]any); ok {
					p["system"] = v["system"]
					list = append(list, p)
				}
			}
		}
		return output.Write(cmd.OutOrStdout(), format, []output.Column{{"SYSTEM", "system"}, {"PLACE", "place"}, {"WHAT", "what"}, {"NEXT", "next"}}, list, list)
	})
	return output.Group("survey", "Read systems", surveyRun(), visits, cancel,
		output.ListCommand("list", "List surveys", "/surveys", []output.Column{{"ID", "id"}, {"STATE", "state"}, {"BY", "requested_by"}, {"STARTED", "started"}, {"ENDED", "ended"}, {"SYSTEMS", "total"}, {"FAILED", "failed"}, {"NEW", "added"}, {"CHANGED", "altered"}, {"GONE", "vanished"}}, "There was no survey yet. Start one with 'moss survey run'."))
}

func surveyRun() *cobra.Command {
	cmd := &cobra.Command{Use: "run [SYSTEM...]", Short: "Read the named systems, or all, with live progress", Long: "Reads the named systems, or all. Interrupting (Ctrl-C) cancels the survey; what was read is kept. The exit code is 3 when a system could not be read at all; one that was read in part is told, and does not count."}
	output.AddFlag(cmd)
	cmd.RunE = output.Talking(func(cmd *cobra.Command, c *api.Client, format string, args []string) error {
		var started output.Row
		if err := c.Call(cmd.Context(), http.MethodPost, "/surveys", map[string]any{"systems": args}, &started); err != nil {
			return err
		}
		id := output.Show(started["id"])
		ctx, stop := signal.NotifyContext(cmd.Context(), syscall.SIGINT, syscall.SIGTERM)
		defer stop()
		progress := cmd.OutOrStdout()
		if format != "table" {
			progress = cmd.ErrOrStderr()
		}
		var final output.Row
		following := newFollowing(started, time.Now)
		line := output.NewLine(cmd)
		defer line.Clear()
		err := c.Watch(ctx, "/surveys/"+id+"/events", func(e api.Event) error {
			var v output.Row
			if err := json.Unmarshal(e.Data, &v); err != nil {
				return err
			}
			if e.Name == "survey" {
				final = v
				return api.ErrStreamEnd
			}
			following.visit(v)
			line.Clear()
			printVisit(progress, v)
			line.Show(following.words())
			return nil
		})
		line.Clear()
		if ctx.Err() != nil && cmd.Context().Err() == nil {
			if err := c.Call(context.WithoutCancel(ctx), http.MethodPost, "/surveys/"+id+"/cancel", nil, nil); err != nil {
				return err
			}
			return api.Negative("survey %s was cancelled; what was read is kept ('moss survey show %s')", id, id)
		}
		if err != nil {
			return err
		}
		if format != "table" {
			if err := output.Write(cmd.OutOrStdout(), format, []output.Column{{"ID", "id"}, {"STATE", "state"}, {"TOTAL", "total"}, {"FAILED", "failed"}}, []output.Row{final}, final); err != nil {
				return err
			}
			return following.verdict(id)
		}
		fmt.Fprintf(cmd.OutOrStdout(), "Survey %s: %s read, %s not completely; %s new, %s changed, %s gone.\n", id, countedSystems(output.Show(final["total"])), output.Show(final["failed"]), output.Show(final["added"]), output.Show(final["altered"]), output.Show(final["vanished"]))
		return following.verdict(id)
	})
	return cmd
}

func countedSystems(n string) string {
	if n == "1" {
		return "one system"
	}
	return n + " systems"
}

func printVisit(out io.Writer, v output.Row) {
	state := output.Show(v["state"])
	switch state {
	case "running":
		return
	case "done":
		fmt.Fprintf(out, "  %-28s done        %s new, %s changed, %s gone\n", output.Safe(output.Show(v["system"])), output.Show(v["added"]), output.Show(v["altered"]), output.Show(v["vanished"]))
	default:
		fmt.Fprintf(out, "  %-28s %-11s %s: %s\n", output.Safe(output.Show(v["system"])), state, output.Show(v["stage"]), output.Safe(output.Show(v["words"])))
	}
}

// following counts what a survey has done, and tells how long the rest may take.
type following struct {
	total  int
	ended  map[string]bool
	failed []string // could not be read at all, in the order of their ends
	begun  time.Time
	now    func() time.Time
}

func newFollowing(started output.Row, now func() time.Time) *following {
	total, _ := strconv.Atoi(output.Show(started["total"])) // 0 shows no line
	return &following{total: total, ended: map[string]bool{}, begun: now(), now: now}
}

func (f *following) visit(v output.Row) {
	system, state := output.Show(v["system"]), output.Show(v["state"])
	if state == "running" || state == "waiting" || f.ended[system] {
		return
	}
	f.ended[system] = true
	if state == "failed" {
		f.failed = append(f.failed, system)
	}
}

// words say how far it is. The time left is guessed from those that have ended, once
// there are enough to go by.
func (f *following) words() string {
	done := len(f.ended)
	if done >= f.total {
		return ""
	}
	text := fmt.Sprintf("%d of %d systems", done, f.total)
	if spent := f.now().Sub(f.begun); done >= 3 && spent >= time.Second {
		text += ", about " + roundly(spent/time.Duration(done)*time.Duration(f.total-done)) + " left"
	}
	return text
}

// roundly is a time as people guess it.
func roundly(d time.Duration) string {
	switch {
	case d < 10*time.Second:
		return "a few seconds"
	case d < 90*time.Second:
		return fmt.Sprintf("%d seconds", int(d.Round(10*time.Second).Seconds()))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d minutes", int(d.Round(time.Minute).Minutes()))
	}
	return fmt.Sprintf("%d hours", int(d.Round(time.Hour).Hours()))
}

// verdict is the end for scripts.
func (f *following) verdict(id string) error {
	if len(f.failed) == 0 {
		return nil
	}
	const most = 5
	names := strings.Join(f.failed[:min(most, len(f.failed))], ", ")
	if more := len(f.failed) - most; more > 0 {
		names += fmt.Sprintf(" and %d more", more)
	}
	return api.Negative("%s could not be read: 'moss survey show %s' says why", output.Safe(names), id)
}
