package output

import (
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"mossledger.example/moss/internal/cli/api"
)

// Screen is what people look at: how wide it is, whether it shows colours, and
// where a remark goes that is not part of the output. What is not a screen, a
// pipe or a file, gets everything in full and without colours.
type Screen struct {
	io.Writer
	Width   int // 0 for as wide as it takes
	Colour  bool
	Remarks io.Writer
	Quiet   bool // no remarks
}

// Screens gives a command and all below it the options for screens.
func Screens(root *cobra.Command) {
	root.PersistentFlags().Bool("wide", false, "show tables in full, however wide they get")
	root.PersistentFlags().String("color", "auto", "auto, always or never; auto is a terminal without NO_COLOR")
	root.PersistentFlags().BoolP("quiet", "q", false, "no progress and no remarks, only what was asked for")
	_ = root.RegisterFlagCompletionFunc("color", cobra.FixedCompletions([]string{"auto", "always", "never"}, cobra.ShellCompDirectiveNoFileComp))
	root.PersistentPreRunE = func(cmd *cobra.Command, _ []string) error {
		s, err := screenOf(cmd, os.Getenv)
		if err == nil {
			root.SetOut(s)
		}
		return err
	}
}

func screenOf(cmd *cobra.Command, env func(string) string) (*Screen, error) {
	out := cmd.OutOrStdout()
	if s, is := out.(*Screen); is {
		out = s.Writer
	}
	s := &Screen{Writer: out, Remarks: cmd.ErrOrStderr()}
	wide, err := cmd.Flags().GetBool("wide")
	if err != nil {
		return nil, err
	}
	if s.Quiet, err = cmd.Flags().GetBool("quiet"); err != nil {
		return nil, err
	}
	colour, err := cmd.Flags().GetString("color")
	if err != nil {
		return nil, err
	}
	file, isFile := out.(*os.File)
	terminal := isFile && term.IsTerminal(int(file.Fd()))
	if terminal {
		if width, _, err := term.GetSize(int(file.Fd())); err == nil {
			s.Width = width
		}
	}
	// COLUMNS is how wide a person wants it (POSIX, Environment Variables).
	if width, err := strconv.Atoi(env("COLUMNS")); err == nil && width > 0 {
		s.Width = width
	}
	if wide {
		s.Width = 0
	}
	switch colour {
	case "always":
		s.Colour = true
	case "auto":
		s.Colour = terminal && env("NO_COLOR") == "" && env("TERM") != "dumb"
	case "never":
	default:
		return nil, api.Exit(api.ExitUsage, fmt.Errorf("--color takes auto, always or never, not %q", colour))
	}
	return s, nil
}

// Remark says something beside the output.
func Remark(cmd *cobra.Command, format string, args ...any) {
	if quiet, err := cmd.Flags().GetBool("quiet"); err == nil && quiet {
		return
	}
	fmt.Fprintf(cmd.ErrOrStderr(), format+"\n", args...)
}

// least is how narrow a column gets before the last ones are left out.
const least = 12

// fit makes columns narrow until they fit: the widest first, so that short ones
// stay whole. Columns stand in the order of their importance; those that still
// find no room are left out from the end. It returns the widths of those that
// stay.
func fit(widths []int, room int) []int {
	widths = slices.Clone(widths)
	total := func() (n int) {
		for _, w := range widths {
			n += w + 2
		}
		return n - 2
	}
	for total() > room {
		at := 0
		for i, w := range widths {
			if w >= widths[at] {
				at = i
			}
		}
		if widths[at] > least {
			// Down to the next widest, or as far as is needed.
			next := least
			for _, w := range widths {
				if w < widths[at] {
					next = max(next, w)
				}
			}
			widths[at] = max(next, widths[at]-(total()-room))
			continue
		}
		if len(widths) <= 2 {
			break
		}
		widths = widths[:len(widths)-1]
	}
	return widths
}

// shorten cuts a text to a width, and shows that it did.
func shorten(text string, width int) string {
	if utf8.RuneCountInString(text) <= width {
		return text
	}
	return string([]rune(text)[:max(0, width-1)]) + "…"
}

// Words that mean something good, that ask for attention, that are bad.
var meanings = map[string]string{}

func init() {
	for colour, words := range map[string]string{
		"32": "ok done accepted active running ready passed matches effective approved holds",
		"33": "incomplete waiting asked away warning medium stopped undone done-with-failures unchecked unclear later interrupted cancelled",
		"31": "failed high down refused differs undo-failed undo-incomplete gone",
	} {
		for word := range strings.FieldsSeq(words) {
			meanings[word] = colour
		}
	}
}

// coloured paints a word of a state; the word itself is always there.
func coloured(cell string) string {
	if colour := meanings[strings.TrimSpace(cell)]; colour != "" {
		return "\x1b[" + colour + "m" + cell + "\x1b[0m"
	}
	return cell
}
