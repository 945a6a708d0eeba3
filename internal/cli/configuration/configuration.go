// Package configuration has what a team decided as text: written out so that it can be kept
// under version control, and compared with what the service has now. Secrets are not part
// of it; nor is what the service works out by itself.
package configuration

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"mossledger.example/moss/internal/cli/api"
	"mossledger.example/moss/internal/cli/output"
)

// Format names the documents, so that a reader knows when they change.
const Format = "moss-configuration-1"

// section is one kind of thing that people decide.
type section struct {
	name   string
	path   string
	fields []string // that people decide, in the order in which they are written
}

var sections = []section{
	{"rules", "/rules", []string{"label", "excludes", "condition", "take_in", "take_unread", "description"}},
	{"windows", "/windows", []string{"rule", "begins", "zone", "minutes", "labels", "systems", "dependents", "description"}},
	{"policies", "/policies", []string{"label", "precedence", "every_days", "renew_days", "rule", "begins", "zone", "spread", "window", "at_window_end", "on_failure", "restart", "way", "first_alone", "quiet_hours", "at_once", "length", "without", "undo_days", "lead_days", "max_age_days", "idle_days", "patience", "paused", "description"}},
	{"orders", "/orders", []string{"kind", "at_once", "members", "description"}},
	{"requirements", "/requirements", []string{"label", "restarts", "kinds", "unread", "hours", "description"}},
	{"charters", "/charters", []string{"document"}},
	{"recipients", "/recipients", []string{"kind", "address", "user", "from", "to", "trusted_ca", "events", "least", "labels", "paused", "description"}},
	{"systems", "/systems", []string{"kind", "address", "port", "steward", "site", "environment", "owner", "options", "trusted_ca"}},
	{"people", "/users", []string{"roles", "disabled"}},
	{"labels", "/hand-labels", []string{"labels"}},
}

// things are those of a section by name, each with what people decided of it.
type things map[string]map[string]any

// document is all of it, by section.
type document map[string]things

// empty is what says nothing: it is left out, and the same as not being there.
func empty(v any) bool {
	switch v := v.(type) {
	case nil:
		return true
	case string:
		return v == ""
	case bool:
		return !v
	case float64:
		return v == 0
	case []any:
		return len(v) == 0
	case map[string]any:
		return len(v) == 0
	}
	return false
}

// decided keeps what people decide of a thing. Numbers of the service's own are left out:
// they mean nothing elsewhere.
func decided(s section, row map[string]any) map[string]any {
	out := map[string]any{}
	for _, name := range s.fields {
		if list, is := row[name].([]any); is {
			for _, item := range list {
				if part, is := item.(map[string]any); is {
					delete(part, "id")
					maps.DeleteFunc(part, func(_ string, v any) bool { return empty(v) })
				}
			}
		}
		if !empty(row[name]) {
			out[name] = row[name]
		}
	}
	return out
}

// read reads what the service has.
func read(cmd *cobra.Command, c *api.Client) (document, error) {
	out := document{}
	for _, s := range sections {
		rows, _, err := output.Fetch(cmd, c, s.path, url.Values{}, 0)
		if p := (&api.Problem{}); errors.As(err, &p) && p.Status == http.StatusForbidden {
			output.Remark(cmd, "%s are left out: %s", s.name, p.Detail)
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", s.name, err)
		}
		out[s.name] = things{}
		for _, row := range rows {
			plain, err := plainOf(row)
			if err != nil {
				return nil, err
			}
			out[s.name][output.Show(row["name"])] = decided(s, plain)
		}
	}
	return out, nil
}

// plainOf is a value as JSON has it: both sides of a comparison go through here.
func plainOf(v any) (out map[string]any, err error) {
	raw, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return out, json.Unmarshal(raw, &out)
}

// write writes a document, always in the same order: what did not change makes no difference
// for who compares versions.
func write(d document) ([]byte, error) {
	top := yaml.MapSlice{{Key: "format", Value: Format}}
	for _, s := range sections {
		if d[s.name] == nil { // an empty part would say that there shall be none
			continue
		}
		list := yaml.MapSlice{}
		for _, name := range slices.Sorted(maps.Keys(d[s.name])) {
			fields := yaml.MapSlice{}
			for _, field := range s.fields {
				if v, there := d[s.name][name][field]; there {
					fields = append(fields, yaml.MapItem{Key: field, Value: whole(v)})
				}
			}
			list = append(list, yaml.MapItem{Key: name, Value: fields})
		}
		top = append(top, yaml.MapItem{Key: s.name, Value: list})
	}
	return yaml.MarshalWithOptions(top, yaml.IndentSequence(true), yaml.UseLiteralStyleIfMultiline(true))
}

// whole writes whole numbers as such.
func whole(v any) any {
	if n, is := v.(float64); is && n == float64(int64(n)) {
		return int64(n)
	}
	return v
}

// parse reads a document. What it does not know is an error with its place: a misspelt field
// would be something that nobody decided.
func parse(raw []byte) (document, error) {
	var top map[string]any
	if err := yaml.Unmarshal(raw, &top); err != nil {
		return nil, fmt.Errorf("it is no YAML: %w", err)
	}
	if top["format"] != Format {
		return nil, fmt.Errorf("its format is %q, not %q", output.Show(top["format"]), Format)
	}
	known := map[string]section{}
	for _, s := range sections {
		known[s.name] = s
	}
	out := document{}
	for _, name := range slices.Sorted(maps.Keys(top)) {
		if name == "format" {
			continue
		}
		s, is := known[name]
		if !is {
			return nil, fmt.Errorf("%s: there is no such part; there are %s", name, strings.Join(slices.Sorted(maps.Keys(known)), ", "))
		}
		out[name] = things{}
		if top[name] == nil {
			continue
		}
		list, err := plainOf(top[name])
		if err != nil {
			return nil, fmt.Errorf("%s: names with what was decided of each: %w", name, err)
		}
		for thing, v := range list {
			fields, is := v.(map[string]any)
			if !is && v != nil {
				return nil, fmt.Errorf("%s %s: fields and their values", name, thing)
			}
			for field := range fields {
				if !slices.Contains(s.fields, field) {
					return nil, fmt.Errorf("%s %s: %s is none of its fields, which are %s", name, thing, field, strings.Join(s.fields, ", "))
				}
			}
			out[name][thing] = decided(s, fields)
		}
	}
	return out, nil
}
