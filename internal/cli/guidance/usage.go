// Package guidance is what a command line says of itself: what is wrong with one and how
// it is written, an example of every command, and completion with the names that the
// service has.
package guidance

import (
	"errors"
	"fmt"
	"regexp"
	"strings"

	"github.com/agnivade/levenshtein"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"mossledger.example/moss/internal/cli/api"
)

// Give gives a command and all below it examples, completion and words.
func Give(root *cobra.Command) {
	completed(root)
	exemplified(root)
	said(root)
}

// said makes the library's words about a command line ours: what is missing or too
// much, by its name, and how the command is written.
func said(root *cobra.Command) {
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return api.Exit(api.ExitUsage, fmt.Errorf("%s; see '%s --help'", flagWords(cmd, err), cmd.CommandPath()))
	})
	Each(root, func(cmd *cobra.Command) {
		if cmd.Args == nil {
			return
		}
		check := cmd.Args
		cmd.Args = func(cmd *cobra.Command, args []string) error {
			err := check(cmd, args)
			var known *api.ExitError
			if err == nil || errors.As(err, &known) {
				return err
			}
			if words := argumentWords(cmd, args); words != "" {
				err = errors.New(words)
			}
			return api.Exit(api.ExitUsage, fmt.Errorf("%w: it is written '%s'", err, strings.TrimSuffix(cmd.UseLine(), " [flags]")))
		}
	})
}

// Each does something to a command and to all below it.
func Each(cmd *cobra.Command, do func(*cobra.Command)) {
	do(cmd)
	for _, c := range cmd.Commands() {
		Each(c, do)
	}
}

// wanted are the arguments that a command must have, as its use line names them.
func wanted(cmd *cobra.Command) (names []string, most int) {
	for _, word := range strings.Fields(cmd.Use)[1:] {
		if strings.HasSuffix(word, "...") || strings.HasSuffix(word, "...]") {
			most = -1
		} else if most >= 0 {
			most++
		}
		if !strings.HasPrefix(word, "[") {
			names = append(names, strings.TrimSuffix(word, "..."))
		}
	}
	return names, most
}

func argumentWords(cmd *cobra.Command, args []string) string {
	names, most := wanted(cmd)
	switch {
	case len(args) < len(names):
		return strings.Join(names[len(args):], " and ") + " is missing"
	case most >= 0 && len(args) > most:
		return fmt.Sprintf("%q is one argument too many", args[most])
	}
	return ""
}

var unknownFlag = regexp.MustCompile(`^unknown flag: --(.+)$`)

func flagWords(cmd *cobra.Command, err error) string {
	var invalid *pflag.InvalidValueError
	if errors.As(err, &invalid) {
		takes := map[string]string{"int": "a whole number", "duration": "a duration such as 30m or 2h", "bool": "true or false"}[invalid.GetFlag().Value.Type()]
		if takes != "" {
			return fmt.Sprintf("--%s takes %s, not %q", invalid.GetFlag().Name, takes, invalid.GetValue())
		}
	}
	if m := unknownFlag.FindStringSubmatch(err.Error()); m != nil {
		var names []string
		cmd.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
		return "there is no flag --" + m[1] + alike(m[1], names, "--")
	}
	return err.Error()
}

// alike names the nearest of some names, when one is near.
func alike(typed string, names []string, before string) string {
	best, least := "", 3
	for _, name := range names {
		if d := levenshtein.ComputeDistance(strings.ToLower(typed), strings.ToLower(name)); d < least || d == least && best != "" && name < best && d < 3 {
			best, least = name, d
		}
	}
	if best == "" {
		return ""
	}
	return "; did you mean " + before + best + "?"
}

var together = regexp.MustCompile(`^if any flags in the group .* are set none of the others can be; \[(.+)\] were all set$`)

var oneOf = regexp.MustCompile(`^at least one of the flags in the group \[([^\]]+)\] is required$`)

var required = regexp.MustCompile(`^required flag\(s\) (.+) not set$`)

// FlagRules says which flags must be given, or cannot be given together.
func FlagRules(text string) (words string, isUsage bool) {
	if m := together.FindStringSubmatch(text); m != nil {
		return "--" + strings.Join(strings.Fields(m[1]), " and --") + " cannot be given together", true
	}
	if m := oneOf.FindStringSubmatch(text); m != nil {
		return "give --" + strings.Join(strings.Fields(m[1]), " or --"), true
	}
	m := required.FindStringSubmatch(text)
	if m == nil {
		return text, false
	}
	var names []string
	for name := range strings.SplitSeq(m[1], ", ") {
		names = append(names, "--"+strings.Trim(name, `"`))
	}
	return "give " + strings.Join(names, " and "), true
}
