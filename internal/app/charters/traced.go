package charters

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/least"
	"mossledger.example/moss/internal/records"
)

// mostRead is how many operations of a trace are read for a draft.
const mostRead = 50_000

// fromTraces reads what was sent, and adds what that takes. What was refused takes a right, too:
// the one that is missing.
func (charters *Charters) fromTraces(ctx context.Context, d *charter.Document, traces []records.TraceID, out *records.CharterDraft) error {
	var operations []least.Operation
	var of []string
	var hosts []records.System
	for _, id := range traces {
		v, err := charters.store.Trace(ctx, id)
		if err != nil {
			return err
		}
		system, err := charters.store.SystemByID(ctx, v.SystemID)
		if err != nil {
			return err
		}
		if estate.Kind(system.Kind) == estate.KindUnixHost && !slices.ContainsFunc(hosts, func(v records.System) bool { return v.ID == system.ID }) {
			hosts = append(hosts, system)
		}
		of = append(of, fmt.Sprintf("trace %d of %s", v.ID, v.System))
		database := ""
		if system.Kind == "postgresql" {
			database = "postgres"
			if named := system.Options["database"]; named != "" {
				database = named
			}
		}
		q := records.Query{Sort: "id", Limit: page}
		for {
			list, err := charters.store.Operations(ctx, id, q)
			if err != nil {
				return err
			}
			for _, o := range list.Items {
				if o.Outcome == "done" || o.Outcome == "refused" {
					operations = append(operations, least.Operation{Protocol: o.Protocol, Kind: system.Kind, Text: o.Text, Database: database})
				}
			}
			if list.Next == "" {
				break
			}
			if len(operations) >= mostRead {
				out.NotRead = append(out.NotRead, fmt.Sprintf("more than %d operations: those after the first were left out", mostRead))
				break
			}
			q.Cursor = list.Next
		}
		if v.Lost > 0 {
			out.NotRead = append(out.NotRead, fmt.Sprintf("trace %d lost %d operations: there were too many", v.ID, v.Lost))
		}
	}
	items, unread := least.Read(operations)
	unread = append(unread, charters.pin(ctx, hosts, items)...)
	out.NotRead = append(out.NotRead, unread...)
	words := strings.Join(of, ", ")
	if len(d.Must) == 0 && len(d.May) == 0 {
		*d = *least.Charter(d.Name, words, items)
		if len(items) == 0 {
			why := "nothing was sent, or only what everyone may"
			if len(out.NotRead) > 0 {
				why = strings.Join(out.NotRead[:min(len(out.NotRead), 3)], "; ")
			}
			return fmt.Errorf("%w: nothing that %s has takes a right that a charter could give: %s", app.ErrRefused, words, why)
		}
		return nil
	}
	d.Description += " And from " + words + "."
	for _, i := range items {
		if !slices.ContainsFunc(d.Must, func(has charter.Item) bool { return has.Words() == i.Words() }) && len(d.Must) < 200 {
			d.Must = append(d.Must, i)
		}
	}
	return nil
}

// pin has commands that are no part of the system's own packages named with the digest of
// their file, as each host that they were traced on has it now. What could not be read, and
// what is not the same everywhere, is told and stays without.
func (charters *Charters) pin(ctx context.Context, hosts []records.System, items []charter.Item) (unread []string) {
	paths := least.Helpers(items)
	if len(paths) == 0 {
		return nil
	}
	sums := map[string]string{}
	for _, v := range hosts {
		read, words := charters.digests(ctx, v, paths)
		for _, path := range paths {
			sum, there := sums[path]
			switch {
			case read[path] == "":
				unread = append(unread, fmt.Sprintf("the digest of %s on %s, so that none is written: %s", path, v.Name, words))
				sums[path] = ""
			case there && sum != read[path]:
				unread = append(unread, fmt.Sprintf("the digest of %s, so that none is written: it is another file on %s", path, v.Name))
				sums[path] = ""
			case !there:
				sums[path] = read[path]
			}
		}
	}
	least.Pin(items, sums)
	return unread
}

// mostWords is how many bytes of what a host says are told.
const mostWords = 300

// digests reads those of files on a host, by path; words say what became of the others.
func (charters *Charters) digests(ctx context.Context, v records.System, paths []string) (sums map[string]string, words string) {
	connector, target, err := charters.targets.Target(ctx, v)
	if err != nil {
		return nil, err.Error()
	}
	command := "/usr/bin/sha256sum --"
	for _, path := range paths {
		command += " '" + strings.ReplaceAll(path, "'", `'\''`) + "'"
	}
	out, _, err := connector.RunCheck(ctx, target, command)
	if err != nil {
		return nil, err.Error()
	}
	sums = map[string]string{}
	words = "sha256sum says nothing of it"
	for line := range strings.Lines(out) {
		line = strings.TrimRight(line, "\n")
		if sum, path, found := strings.Cut(line, "  "); found && len(sum) == 64 && strings.Trim(sum, "0123456789abcdef") == "" {
			sums[path] = sum
		} else if line != "" {
			words = line
		}
	}
	if len(words) > mostWords {
		words = strings.ToValidUTF8(words[:mostWords], "") + "..."
	}
	return sums, charters.base.Redact(ctx, words)
}
